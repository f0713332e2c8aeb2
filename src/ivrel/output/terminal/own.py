"""Devices' own records on a terminal: counted, then what did not come as it should."""

from __future__ import annotations

from rich.console import Console

from ivrel.core.evidence.own import STATES
from ivrel.core.evidence.results import DeviceKept
from ivrel.core.vocabulary.wording import counted, shorten, span
from ivrel.output.terminal.screen import Cell, line, shown, table
from ivrel.output.views.messages import iso
from ivrel.output.views.own import OwnView

_STYLES = {"lost": "bold red", "late": "yellow", "twice": "yellow", "came": "green"}
_TOLD = ("lost", "late", "twice", "not sent")


def draw_own(screen: Console, view: OwnView) -> list[str]:
    """Draw what became of what devices kept."""
    line(screen, ("what devices kept themselves, and what reached the collectors of it", "bold"))
    screen.print()
    grid = table("device", "at", "kept", *STATES, "only at the collector")
    for column in grid.columns[2:]:
        column.justify = "right"
    for d in view.devices:
        cells = [_number(state, number) for state, number in d.counts.items()]
        at = Cell(shorten(d.collector, 30), "dim")
        grid.add_row(Cell(d.device), at, f"{len(d.kept):,}", *cells, f"{d.unkept:,}")
    shown(screen, grid)
    for d in view.devices:
        if any(d.counts[state] for state in _TOLD):
            _told(screen, d, view.most)
    first = next(
        (o for d in view.devices for o in d.kept if o.state in ("late", "twice") and o.arrived),
        None,
    )
    if first is None or first.arrived[0].record.file == "standard input":
        return []
    record = first.arrived[0].record
    return [f"ivrel trace{view.where} {record.file} --line {record.line}"]


def _number(state: str, number: int) -> Cell:
    return Cell(f"{number:,}", _STYLES.get(state, "") if number else "dim")


def _told(screen: Console, d: DeviceKept, most: int) -> None:
    screen.print()
    line(
        screen, (d.device, "bold"), (f"  at {d.collector}, {counted(d.arrived, 'message')}", "dim")
    )
    for state in _TOLD:
        some = [one for one in d.kept if one.state == state]
        if not some:
            continue
        line(screen, (state, _STYLES.get(state, "bold")), f"  {STATES[state]}", indent=2)
        grid = table()
        grid.show_header = False
        grid.add_column(overflow="fold", max_width=40)
        grid.add_column(no_wrap=True, min_width=23)
        grid.add_column(no_wrap=True)
        grid.add_column(no_wrap=True, overflow="ellipsis")
        few = some if most == 0 else some[:most]
        for one in few:
            message = one.record.message
            delay = span(one.delay) if one.delay is not None and state == "late" else ""
            times = f"{len(one.arrived)} times" if state == "twice" else delay
            grid.add_row(
                Cell(f"{one.record.file}:{one.record.line}", "dim"),
                Cell(iso(one.stamped).replace("T", " ").removesuffix("Z") or "-", "dim"),
                Cell(times),
                Cell(
                    shorten(f"{message.app}: {message.text}" if message.app else message.text, 300)
                ),
            )
        shown(screen, grid, 4)
        if len(some) > len(few):
            line(screen, (f"and {len(some) - len(few):,} more; --all shows them", "dim"), indent=4)
