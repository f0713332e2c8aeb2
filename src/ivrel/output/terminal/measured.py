"""Figures over many messages on a terminal: a row a device, the worst first."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TypeVar

from rich.console import Console
from rich.table import Table

from ivrel.core.measuring.clocks import told
from ivrel.core.measuring.silence import Silence
from ivrel.core.vocabulary.wording import counted, shorten, span
from ivrel.output.terminal.screen import Cell, line, shown, table
from ivrel.output.views.folding import ONE_BY_ONE, named
from ivrel.output.views.measured import (
    ClocksView,
    LossesView,
    MeasuredView,
    SilenceView,
    VolumeView,
    time_of,
)

R = TypeVar("R")
_BAD = "bold red"
_FAIR = "yellow"
_GOOD = "green"


def draw_silence(screen: Console, view: SilenceView) -> list[str]:
    """Draw the longest silence of each device, the least likely first."""
    _head(screen, view, f", until {_time(view.until)}" if view.total else "")
    rows = [s for s in view.silences if s.state != "never"]
    grid = table("device", "messages", "usual gap", "longest", "from (UTC)", "until", "chance", "")
    _right(grid, 1, 2, 3, 6)
    for s in _few(rows, view):
        until = "the end" if s.lasts else _time((s.begun or 0) + (s.longest or 0))[11:]
        grid.add_row(
            Cell(s.device),
            f"{s.number:,}",
            "-" if s.usual is None else span(s.usual),
            "-" if s.longest is None else span(s.longest),
            Cell("-" if s.begun is None else _time(s.begun), "dim"),
            Cell("-" if s.begun is None else until, "dim"),
            "-" if s.chance is None else _chance(s.chance),
            _silent(s, view.unsure.get(s.device, 0)),
        )
    shown(screen, grid)
    _left(screen, rows, view)
    never = [s.device for s in view.silences if s.state == "never"]
    if never:
        screen.print()
        line(screen, ("never heard  ", _FAIR), named(never, 12))
    screen.print()
    said = f"Of runs over a healthy fleet, a share of {view.rate:g} calls any device silent."
    line(screen, (said, "dim"))
    first = next((s.device for s in view.silences if s.state == "silent"), None)
    return [f"ivrel why{view.where} {first}{view.given}"] if first else []


def _silent(s: Silence, unsure: int) -> Cell:
    """Return what a silence is called, and why it is not judged."""
    if s.state == "open":
        enough = f"; enough would be {span(s.enough)}" if s.enough is not None else ""
        return Cell(f"above the usual{enough}", _FAIR)
    said = {
        "silent": ("silent", _BAD),
        "together": ("silent together with others: an outage, or their night", _FAIR),
        "uneven": ("speaks too unevenly to tell", "dim"),
        "seldom": ("speaks too seldom to tell", "dim"),
    }
    text, style = said.get(s.state, ("", ""))
    if unsure and text:
        text += f"; {counted(unsure, 'message')} bear its name and prove nothing"
    return Cell(text, style)


def draw_clocks(screen: Console, view: ClocksView) -> list[str]:
    """Draw the clock of each device, the worst first."""
    _head(screen, view, f", a clock may be off {span(view.tolerance)}")
    grid = table("device", "messages", "ahead", "drift", "delay", "95 %", "")
    _right(grid, 1, 2, 3, 4, 5)
    for c in _few(view.clocks, view):
        style = _GOOD if c.kind == "right" else "dim" if c.kind == "untold" else _BAD
        style = _FAIR if c.kind in ("late", "behind") else style
        grid.add_row(
            Cell(c.device),
            f"{c.number:,}",
            "-" if c.offset is None else _offset(c.offset),
            "-" if c.drift is None else f"{c.drift * 1e6:+.1f} ppm",
            "-" if c.offset is None else span(c.delay),
            "-" if c.offset is None else span(c.delay_95),
            Cell(told(c) + (", through a relay" if c.by_relay else ""), style),
        )
    shown(screen, grid)
    _left(screen, view.clocks, view)
    for step in view.collector_steps:
        screen.print()
        moved = f"{span(step.size)} {'back' if step.size > 0 else 'ahead'}"
        when = f"between {_time(step.after)} and {_time(step.before)}"
        said = f"the collector's clock was set {moved} {when}: most devices show it"
        line(screen, (said, _FAIR))
    first = next((c for c in view.clocks if c.kind not in ("right", "untold") and c.example), None)
    if first is None or first.example is None or first.example.file == "standard input":
        return []
    return [f"ivrel trace{view.where} {first.example.file} --line {first.example.line}"]


def draw_losses(screen: Console, view: LossesView) -> list[str]:
    """Draw what the numbers of each device tell, the most that is missing first."""
    _head(screen, view, "")
    if not view.losses:
        line(screen, "no message bears a number; 'numbering: on' in the policy asks for them")
        return []
    grid = table("device", "at", "came", "missing", "share", "twice", "late", "restarts", "")
    _right(grid, 2, 3, 4, 5, 6, 7)
    for loss in _few(view.losses, view):
        notes = []
        if loss.is_steady and loss.device in view.filtering:
            notes.append("a steady share: its numbers may count what its configuration filters out")
        if loss.jumps:
            notes.append(f"its numbers leap {loss.jumps} times; what lies between is not counted")
        if loss.restarts:
            notes.append("what was lost before a restart is not known")
        if loss.wraps:
            notes.append(f"its numbers wrap {loss.wraps} times")
        grid.add_row(
            Cell(loss.device),
            Cell(shorten(loss.collector, 30), "dim"),
            f"{loss.came:,}",
            Cell(f"{loss.missing:,}", _BAD if loss.missing else ""),
            f"{loss.share:.1%}" if loss.missing else "-",
            Cell(f"{loss.twice:,}", _FAIR if loss.twice else ""),
            Cell(f"{loss.late:,}", _FAIR if loss.late else ""),
            f"{loss.restarts:,}",
            Cell("; ".join(notes), "dim"),
        )
    shown(screen, grid)
    _left(screen, view.losses, view)
    if view.unnumbered:
        screen.print()
        line(screen, ("without numbers  ", "dim"), named(view.unnumbered, 8))
    return []


def draw_volume(screen: Console, view: VolumeView) -> list[str]:
    """Draw what messages cost on the line, the most first."""
    _head(screen, view, f", in {span(view.seconds)}")
    of_devices = view.by in ("device", "site")
    heads = [view.by, "messages", "bytes", "mean"]
    heads += ["95 %", "busiest minute", "sent again"] if of_devices else ["share"]
    heads += [f"at {view.level}", "change"] if view.level else []
    grid = table(*heads)
    _right(grid, *range(1, len(heads)))
    total = sum(v.bytes for v in view.volumes) or 1
    for v in _few(view.volumes, view):
        cells: list[Cell | str] = [
            Cell(shorten(v.name, 90)),
            f"{v.messages:,}",
            f"{v.bytes:,}",
            _bits(v.rate),
        ]
        if of_devices:
            cells += [_bits(v.rate_95), _bits(v.burst), _bits(v.repeated) if v.repeated else "-"]
        else:
            cells.append(f"{v.bytes / total:.1%}")
        if view.level and v.other is None:
            cells += ["not known", "-"]
        elif view.level and v.other is not None:
            change = v.other / v.rate - 1 if v.rate else 0.0
            about = "about " if v.estimated else ""
            cells += [f"{about}{_bits(v.other)}", f"{change:+.0%}"]
        grid.add_row(*cells)
    shown(screen, grid)
    _left(screen, view.volumes, view)
    screen.print()
    notes = ["Headers of IP and of the transport are counted."]
    if any(v.repeated for v in view.volumes):
        notes.append("'sent again' went to a second collector; a relay that sends once saves it.")
    if any(v.estimated for v in view.volumes):
        notes.append("'about' is an estimate from devices that send these severities already.")
    line(screen, (" ".join(notes), "dim"))
    return []


def _head(screen: Console, view: MeasuredView, more: str) -> None:
    heard = f"{view.heard} of {counted(view.devices, 'device')} heard"
    line(screen, (view.about, "bold"))
    line(screen, (f"{counted(view.total, 'message')}, {heard}{more}", "dim"))
    screen.print()


def _few(rows: Sequence[R], view: MeasuredView) -> Sequence[R]:
    return rows if view.every else rows[:ONE_BY_ONE]


def _left(screen: Console, rows: Sequence[object], view: MeasuredView) -> None:
    left = len(rows) - len(_few(rows, view))
    if left:
        line(screen, (f"and {left:,} more; --all shows them", "dim"))


def _right(grid: Table, *columns: int) -> None:
    for n in columns:
        grid.columns[n].justify = "right"


def _time(seconds: float) -> str:
    return time_of(seconds)[:19].replace("T", " ")


def _chance(chance: float) -> str:
    return "1" if chance >= 0.995 else f"{chance:.2f}" if chance >= 0.01 else f"{chance:.0e}"


def _offset(offset: float) -> str:
    return f"{'-' if offset < 0 else '+'}{span(offset)}"


def _bits(rate: float | None) -> str:
    """Return bits a second as people write them."""
    if rate is None:
        return "-"
    for unit, size in (("Mbit/s", 1e6), ("kbit/s", 1e3)):
        if rate >= size:
            return f"{rate / size:.1f} {unit}"
    return f"{rate:.1f} bit/s"
