"""Messages on a terminal: a line each, counted, or one through every decision."""

from __future__ import annotations

import re

from rich.console import Console

from ivrel.core.attribution.messages import AttributedMessage
from ivrel.core.attribution.senders import BY, GRADES
from ivrel.core.syslog import section, told
from ivrel.core.vocabulary.wording import counted, shorten
from ivrel.output.terminal.screen import CLAIM_STYLES, Cell, line, shown, table
from ivrel.output.views.messages import CountsView, MessagesView, TraceView, iso

# Of the eight severities; what nobody must miss stands out also without colours, by its weight.
_STYLES = ("bold red", "bold red", "bold red", "red", "yellow", "", "", "dim")


def draw_messages(screen: Console, view: MessagesView) -> None:
    """Draw messages in their order, each on a line of its own; of very many, the last."""
    shown_ones = view.messages[-view.most :] if view.most else view.messages
    if not shown_ones:
        line(screen, f"none of {counted(view.total, 'message')} is meant")
        return
    grid = table("time (UTC)", "device", "severity", "facility", "tag", "text")
    for column in grid.columns[:5]:
        column.no_wrap = True
    grid.columns[5].no_wrap = True
    grid.columns[5].overflow = "ellipsis"
    for seen in shown_ones:
        grid.add_row(*_cells(seen))
    shown(screen, grid)
    screen.print()
    left = len(view.messages) - len(shown_ones)
    before = f", the last {len(shown_ones)} are shown; --most N shows more" if left else ""
    line(screen, (f"{len(view.messages):,} of {counted(view.total, 'message')}{before}", "dim"))


def _cells(seen: AttributedMessage) -> tuple[Cell, ...]:
    message = seen.record.message
    style = "" if message.severity is None else _STYLES[message.severity]
    device = Cell(seen.found.device) if seen.found.device else Cell(seen.named or "-", "dim italic")
    return (
        Cell(iso(seen.when).replace("T", " ").removesuffix("Z") or "-", "dim"),
        device,
        Cell(seen.severity or "-", style),
        Cell(seen.facility or "-"),
        Cell(shorten(message.app or "-", 24)),
        Cell(shorten(message.text, 400)),
    )


def draw_counts(screen: Console, view: CountsView) -> None:
    """Draw a row for each thing that messages are counted by, the most first."""
    grid = table(view.by, "messages", "devices", "first (UTC)", "last (UTC)")
    grid.columns[0].overflow = "ellipsis"
    grid.columns[0].no_wrap = True
    for column in grid.columns[1:3]:
        column.justify = "right"
    rows = view.counts[: view.most] if view.most else view.counts
    for c in rows:
        times = (iso(when).replace("T", " ").removesuffix("Z") or "-" for when in (c.first, c.last))
        first, last = (Cell(time, "dim") for time in times)
        what = Cell(shorten(c.what, 200)) if c.what else Cell("-", "dim")
        grid.add_row(what, f"{c.number:,}", f"{c.devices:,}", first, last)
    shown(screen, grid)
    screen.print()
    number = sum(c.number for c in view.counts)
    more = len(view.counts) - len(rows)
    rest = f"; {more:,} more rows with --most N" if more else ""
    line(screen, (f"{number:,} of {counted(view.total, 'message')}{rest}", "dim"))


def draw_trace(screen: Console, view: TraceView) -> None:
    """Draw one message: its bytes, its fields, its departures, and whose it is."""
    seen = view.seen
    record = seen.record
    message = seen.record.message
    line(screen, (f"{record.file}:{record.line}", "bold"), (f"  {len(record.data)} bytes", "dim"))
    shown(screen, Cell(repr(record.data)[2:-1][:2000], "italic"), 2)
    _part(screen, "how it came")
    _pairs(
        screen,
        (
            ("received", iso(record.received) or "not recorded"),
            ("sender", record.sender or "not recorded"),
            ("transport", _transport(seen)),
            ("framing", record.framing or "not recorded"),
        ),
    )
    _part(screen, f"what it says, read as RFC {message.form.removeprefix('rfc')}")
    _pairs(
        screen,
        (
            ("PRI", "none" if message.pri is None else str(message.pri)),
            ("facility", seen.facility or "-"),
            ("severity", seen.severity or "-"),
            ("stamp", _stamp(seen)),
            ("HOSTNAME", message.host or "-"),
            ("tag", message.app or "-"),
            ("process", message.process or "-"),
            ("MSGID", message.message_id or "-"),
            ("sequence", "-" if message.sequence is None else str(message.sequence)),
            *((f"[{e.name}]", ", ".join(f"{n}={v}" for n, v in e.params)) for e in message.data),
            ("text", message.text or "-"),
        ),
    )
    _part(screen, "departures from the standard")
    for departure in view.departures:
        line(screen, told(departure), (f"  {section(departure, message.form)}", "dim"), indent=2)
    if not view.departures:
        line(screen, ("none", "green"), indent=2)
    _whose(screen, view)
    _compared(screen, view)


def _part(screen: Console, title: str) -> None:
    screen.print()
    line(screen, (title, "bold"))


def _pairs(screen: Console, pairs: tuple[tuple[str, str], ...]) -> None:
    grid = table()
    grid.show_header = False
    grid.add_column(min_width=10)
    grid.add_column(overflow="fold")
    for name, value in pairs:
        grid.add_row(Cell(name, "dim"), Cell(value))
    shown(screen, grid, 2)


def _transport(seen: AttributedMessage) -> str:
    record = seen.record
    if record.transport is None:
        return "not recorded"
    return f"{record.transport}, port {record.port}" if record.port else record.transport


def _stamp(seen: AttributedMessage) -> str:
    stamp = seen.record.message.stamp
    if stamp.kind == "none":
        return f"none{f', in its place {stamp.text!r}' if stamp.text else ''}"
    if stamp.kind == "uptime":
        return f"{stamp.text}: uptime, {stamp.uptime:,.0f} seconds"
    said = [
        f"in {stamp.precision}",
        "with its year" if stamp.year else "without a year",
        f"zone {stamp.zone}" if stamp.zone else "without a zone",
    ]
    if stamp.synchronised is not None:
        said.append("synchronised" if stamp.synchronised else "not synchronised")
    return f"{stamp.text}: {', '.join(said)}"


def _whose(screen: Console, view: TraceView) -> None:
    found = view.seen.found
    _part(screen, "whose it is")
    if found.relay:
        line(screen, f"it came through the relay {found.relay}", indent=2)
    if not found.candidates:
        line(screen, ("nobody's that the fleet knows", "yellow"), indent=2)
    for c in found.candidates:
        taken = not c.why_not
        state = ("", "") if taken else (f"  dropped: {c.why_not}", "dim")
        said = f"  {BY[c.by]}: {c.value}"
        line(screen, (c.device, "green" if taken else "dim"), said, state, indent=2)
    if found.device and not found.is_sure:
        line(screen, (found.grade, "bold red"), f"  {GRADES[found.grade]}", indent=2)


def _compared(screen: Console, view: TraceView) -> None:
    """Draw what the message is counted for, and how it compares with what is asked."""
    _part(screen, "what it counts for")
    device = view.seen.found.device
    if not device:
        said = "nothing is asked of it: it is counted among strangers"
        line(screen, (said, "yellow"), indent=2)
        return
    if not view.seen.found.is_sure:
        line(screen, ("it proves and contradicts nothing", "yellow"), indent=2)
        return
    at = f", as one that arrived at {view.collector}" if view.collector else ""
    line(screen, f"it is counted for {device}{at}", indent=2)
    grid = table("setting", "it shows", "asked", "")
    for c in view.claims:
        shows = re.sub(r" \(1\)", "", c.heard) or "-"
        outcome = Cell(c.claim, CLAIM_STYLES[c.claim])
        why = f"  {c.why}" if c.why else ""
        grid.add_row(
            Cell(c.setting),
            Cell(shows),
            Cell(c.wanted, "dim"),
            outcome + Cell(why, "dim"),
        )
    if view.claims:
        shown(screen, grid, 2)
