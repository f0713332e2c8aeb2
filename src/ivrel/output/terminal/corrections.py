"""Corrections on a terminal."""

from __future__ import annotations

from collections.abc import Sequence

from rich.console import Console

from ivrel.core.correcting import (
    CARRIED,
    MEANS,
    PROPERTIES,
    TAKEN,
    Correction,
    NoLongerSent,
    Property,
)
from ivrel.core.vocabulary.wording import counted, shorten
from ivrel.output.terminal.screen import Cell, line, shown, styled, table
from ivrel.output.views.corrections import CorrectionsView
from ivrel.output.views.folding import ONE_BY_ONE, folded, grouped, named

LINES_SHOWN = 24  # of the text of one change
WAVE_SHOWN = 8  # names of devices of one wave
HELD_SHOWN = 4  # devices that wait for a reason of their own
GONE_SHOWN = 12  # rows of what is no longer sent; the sheet has all
CHANGES_SHOWN = 20  # changes told once with their devices, unless all are asked for


def draw_corrections(screen: Console, view: CorrectionsView) -> None:
    """Draw corrections; of a large fleet, what is changed alike is reported once with its
    devices."""
    changed = view.result.changed
    if not view.result.folder and not view.result.in_place:
        if view.by or (len(changed) > ONE_BY_ONE and not view.every):
            _counted(screen, view, view.by or "site")
            _alike(screen, changed, view.every)
        else:
            for c in changed:
                _correction(screen, c)
    _sum(screen, view.result.corrections, changed, _place(view))
    _waves(screen, view)
    _remains(screen, view)
    _no_longer_sent(screen, view)


def _waves(screen: Console, view: CorrectionsView) -> None:
    """Draw the steps of the delivery, and which devices wait, with the reason."""
    if view.result.waves is None:
        return
    screen.print()
    grid = table("wave", "devices", "", "")
    grid.columns[1].justify = "right"
    for wave in view.result.waves:
        names = named(wave.devices, WAVE_SHOWN if not view.every else len(wave.devices))
        number = f"{len(wave.devices):,}"
        grid.add_row(Cell(str(wave.number), "bold"), number, Cell(names), Cell(wave.why, "dim"))
        for held in wave.held[: None if view.every else HELD_SHOWN]:
            grid.add_row("", "", Cell(f"{held.device} waits", "yellow"), Cell(held.why, "dim"))
        if len(wave.held) > HELD_SHOWN and not view.every:
            more = f"and {len(wave.held) - HELD_SHOWN} more wait; --all shows them"
            grid.add_row("", "", Cell(more, "yellow"), "")
    shown(screen, grid)
    left = [c.device for c in view.result.changed if not c.proved]
    if left:
        line(screen, (f"in no wave, for it is not proved: {named(left)}", "bold red"))


def _counted(screen: Console, view: CorrectionsView, by: str) -> None:
    """Draw a row for each group: its devices, how many change, by how many lines, what remains."""
    grid = table(by, "devices", "corrected", "lines", "proved", "remains")

    def group_of(c: Correction) -> str:
        return str(getattr(view.result.devices[c.device], by))

    for group, some in grouped(view.result.corrections, group_of).items():
        changed = [c for c in some if c.changes]
        proved = sum(1 for c in changed if c.proved)
        style = "green" if proved == len(changed) else "bold red"
        remains = sum(len(c.remains) for c in some)
        lines = sum(len(c.changes) for c in changed)
        grid.add_row(
            Cell(group),
            f"{len(some):,}",
            f"{len(changed):,}",
            f"{lines:,}",
            Cell(f"{proved:,}", style),
            f"{remains:,}" if remains else "·",
        )
    for column in grid.columns[1:]:
        column.justify = "right"
    shown(screen, grid)
    screen.print()


def _alike(screen: Console, changed: Sequence[Correction], every: bool) -> None:
    """Draw the changes that say the same, each once with its devices."""
    pairs = [(c.device, c) for c in changed]

    def key(c: Correction) -> object:
        lines = tuple((change.inside, change.line, change.replaces) for change in c.changes)
        # What a change says, not why: reasons name devices.
        return c.platform, c.proved, lines

    found = folded(pairs, key)
    for one in found if every else found[:CHANGES_SHOWN]:
        _correction(screen, one.item, one.devices)
    if not every and len(found) > CHANGES_SHOWN:
        more = counted(len(found) - CHANGES_SHOWN, "change")
        line(screen, (f"and {more} more, on fewer devices; --all shows them", "dim"))
        screen.print()


def _correction(screen: Console, c: Correction, devices: Sequence[str] = ()) -> None:
    """Draw one change; `devices`: all that it is written for, if more than its own."""
    state = ("proved", "green") if c.proved else ("not proved", "bold red")
    name = f"{len(devices)} devices" if len(devices) > 1 else c.device
    line(
        screen,
        (name, "bold"),
        (f"  {c.platform}, {counted(len(c.changes), 'line')}, ", "dim"),
        state,
    )
    if len(devices) > 1:
        line(screen, (named(devices), "dim"), indent=2)
    grid = table()
    grid.show_header = False
    grid.add_column(overflow="fold", ratio=5)
    grid.add_column(overflow="fold", ratio=6)
    grid.expand = True
    inside = reason = ""
    for change in c.changes:
        if change.inside != inside:
            inside = change.inside
            grid.add_row(Cell(inside, "dim"), "")
        # The line itself, moved in below the block that it is in.
        text = Cell(("    " if inside else "") + change.line, "red" if change.removes else "green")
        grid.add_row(text, Cell('"' if change.reason == reason else change.reason, "dim"))
        reason = change.reason
    shown(screen, grid, 2)
    if c.whole:
        written = c.change.splitlines()
        shown(screen, Cell("written as", "dim"), 2)
        for part in written[:LINES_SHOWN]:
            style = {"-": "red", "+": "green"}.get(part[:1], "")
            shown(screen, Cell(shorten(part, 400), style, no_wrap=True, overflow="ellipsis"), 4)
        if len(written) > LINES_SHOWN:
            line(
                screen,
                (f"and {counted(len(written) - LINES_SHOWN, 'line')} more, with -o DIR", "dim"),
                indent=4,
            )
    for p in c.proof:
        if not p.holds:
            line(
                screen,
                (f"{p.name} does not hold: ", "bold red"),
                f"{MEANS[p.name]}; {p.why}",
                indent=2,
            )
    screen.print()


def _place(view: CorrectionsView) -> str:
    """Return where the corrections have been written, in words."""
    if view.result.in_place:
        return " written into the configurations; what these were is kept"
    return (
        f" in {view.result.folder}/, with back-outs and change sheets" if view.result.folder else ""
    )


def _sum(
    screen: Console, corrections: Sequence[Correction], changed: Sequence[Correction], place: str
) -> None:
    if not changed:
        line(screen, f"nothing to correct on {counted(len(corrections), 'device')}")
        return
    lines = sum(len(c.changes) for c in changed)
    said = f"{counted(lines, 'line')} on {counted(len(changed), 'device')}"
    line(
        screen,
        (said, "bold"),
        place,
    )
    proved = sum(1 for c in changed if c.proved)
    style = "green" if proved == len(changed) else "bold red"
    line(
        screen,
        (f"proved on {proved} of {counted(len(changed), 'device')}", style),
        f": {', '.join(PROPERTIES)}",
    )
    asks = sorted({c.asks for c in changed if c.asks})
    taken = [p.holds for c in changed for p in c.proof if p.name == TAKEN]
    if taken:
        line(screen, f"{asks[0]} takes {sum(taken)} of {len(taken)} of its configurations")
    # A proof without the platform's own program is less than one with it, so that is said.
    elif asks:
        line(
            screen,
            (f"{asks[0]} was not asked: it is not here, or a module is named by its path", "dim"),
        )
    carried: list[Property] = []
    for c in changed:
        carried += (p for p in c.proof if p.name == CARRIED)
    if carried:
        whole = sum(p.holds for p in carried)
        line(
            screen,
            (f"carried out by {carried[0].by}: ", ""),
            (f"{whole} of {len(carried)}", "green" if whole == len(carried) else "bold red"),
            ", with a message of each facility and severity",
        )


def _no_longer_sent(screen: Console, view: CorrectionsView) -> None:
    """Draw what left before, for anybody, and leaves no longer; what is alike is reported once."""
    rows: list[tuple[str, NoLongerSent]] = []
    for c in view.result.corrections:
        rows += ((c.device, gone) for gone in c.no_longer_sent)
    if not rows:
        return
    screen.print()
    line(screen, ("what is no longer sent", "bold"), ("  beyond what the policy asks", "dim"))
    grid = table()
    grid.show_header = False
    for _ in range(3):
        grid.add_column(overflow="fold")
    for one in folded(rows, lambda gone: gone.words)[:GONE_SHOWN]:
        gone = one.item
        to = f"to {gone.destination}{'' if gone.certain else ', by a filter'}"
        grid.add_row(Cell(named(one.devices, 3)), Cell(gone.messages), Cell(to))
    shown(screen, grid, 2)


def _remains(screen: Console, view: CorrectionsView) -> None:
    """Draw what is not as asked even then; what is alike is reported once."""
    rows = [(c.device, r) for c in view.result.corrections for r in c.remains]
    if not rows and not view.result.unread:
        return
    screen.print()
    line(screen, ("what remains", "bold"))
    grid = table()
    grid.show_header = False
    for _ in range(3):
        grid.add_column()
    grid.add_column(overflow="fold")
    found = folded(rows, lambda r: (r.setting, r.verdict, r.why))
    for one in found if view.by or len(rows) > ONE_BY_ONE else ():
        r = one.item
        grid.add_row(Cell(named(one.devices, 3)), r.setting, styled(r.verdict), Cell(r.why))
    for device, r in () if view.by or len(rows) > ONE_BY_ONE else rows:
        grid.add_row(device, r.setting, styled(r.verdict), Cell(r.why))
    for device, problem in view.result.unread:
        grid.add_row(device, "", Cell("not readable", "yellow"), Cell(problem))
    shown(screen, grid, 2)
