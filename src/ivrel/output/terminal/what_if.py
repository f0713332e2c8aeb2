"""What another policy would change, on a terminal."""

from __future__ import annotations

from collections.abc import Sequence

from rich.console import Console

from ivrel.core.correcting import WhatIf
from ivrel.core.vocabulary.wording import counted
from ivrel.output.terminal.screen import Cell, line, shown, styled, table
from ivrel.output.views.folding import ONE_BY_ONE, folded, named
from ivrel.output.views.what_if import Turn, WhatIfView

NAMES_SHOWN = 4
CHANGES_SHOWN = 20  # of lines told once with their devices, unless all are asked for


def draw_what_if(screen: Console, view: WhatIfView) -> None:
    """Draw what is asked otherwise, the verdicts that change, and the lines of corrections."""
    now, then = view.files
    line(screen, (now, "bold"), ("  beside  ", "dim"), (then, "bold"))
    screen.print()
    differing = [one for one in view.outcomes if one.differs]
    if not differing:
        line(screen, f"nothing would change on {counted(len(view.outcomes), 'device')}")
    if asked := view.asked():
        grid = table("asked otherwise", "now", "then", "devices", "")
        for setting, old, new, devices in _turns(asked):
            number = Cell(f"{len(devices):,}")
            names = Cell(named(devices, NAMES_SHOWN), "dim")
            grid.add_row(setting, Cell(old or "-"), Cell(new or "-"), number, names)
        grid.columns[3].justify = "right"
        shown(screen, grid)
        screen.print()
    if judged := view.judged():
        grid = table("judged otherwise", "now", "then", "devices", "")
        for setting, old, new, devices in _turns(judged):
            number = Cell(f"{len(devices):,}")
            names = Cell(named(devices, NAMES_SHOWN), "dim")
            grid.add_row(setting, styled(old), styled(new), number, names)
        grid.columns[3].justify = "right"
        shown(screen, grid)
        screen.print()
    _lines(screen, differing, view.every)
    lines = [sum(one.lines[n] for one in view.outcomes) for n in (0, 1)]
    touched = [sum(1 for one in view.outcomes if one.lines[n]) for n in (0, 1)]
    line(
        screen,
        ("to send", "dim"),
        f"  now {counted(lines[0], 'line')} on {counted(touched[0], 'device')}, ",
        f"then {counted(lines[1], 'line')} on {counted(touched[1], 'device')}",
    )
    for one in view.outcomes:
        if one.problem:
            line(screen, (one.device, "bold"), ("  not readable ", "yellow"), one.problem)


def _turns(rows: Sequence[tuple[str, Turn]]) -> list[tuple[str, str, str, tuple[str, ...]]]:
    """Return turns that are alike once, each with its devices; setting by setting."""
    found = folded(rows, lambda turn: turn)
    order = {one.item[0]: n for n, one in reversed(list(enumerate(found)))}
    found.sort(key=lambda one: order[one.item[0]])
    return [(*one.item, one.devices) for one in found]


def _lines(screen: Console, differing: Sequence[WhatIf], every: bool) -> None:
    """Draw the lines that only one of the corrections has; what is alike once with its devices."""
    changing = [(one.device, one) for one in differing if one.dropped or one.added]
    if not changing:
        return

    def key(one: WhatIf) -> object:
        return [[(c.inside, c.line) for c in some] for some in (one.dropped, one.added)]

    found = folded(changing, lambda one: repr(key(one)))
    few = every or len(changing) <= ONE_BY_ONE
    line(screen, ("lines of corrections that only one of them leads to", "dim"))
    grid = table()
    grid.show_header = False
    for _ in range(3):
        grid.add_column(overflow="fold")
    for one in found if few else found[:CHANGES_SHOWN]:
        name = Cell(named(one.devices, 3), "bold")
        for sign, style, changes in (
            ("now", "dim", one.item.dropped),
            ("then", "", one.item.added),
        ):
            for change in changes:
                inside = f"{change.inside} / " if change.inside else ""
                grid.add_row(name, Cell(sign, "dim"), Cell(f"{inside}{change.line}", style))
                name = Cell("")
    shown(screen, grid, 2)
    if not few and len(found) > CHANGES_SHOWN:
        more = len(found) - CHANGES_SHOWN
        line(
            screen,
            (f"and {counted(more, 'change')} more, on fewer devices; --all shows them", "dim"),
            indent=2,
        )
    screen.print()
