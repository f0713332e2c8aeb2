"""All that is known of one device, on a terminal."""

from __future__ import annotations

from rich.console import Console

from ivrel.core.evidence.page import PARTS
from ivrel.output.terminal.screen import Cell, line, shown, table
from ivrel.output.views.why import WhyView

_STYLES = {"good": "green", "bad": "bold red", "open": "yellow", "note": "dim"}
_SIGNS = {"good": "✓", "bad": "✗", "open": "?", "note": "·"}


def draw_why(screen: Console, view: WhyView) -> list[str]:
    """Draw the page part by part, each line with its state and the line that decides."""
    d = view.device
    about = f"  {d.kind} at {d.site}, {d.platform}, {d.identity or 'without an identity'}"
    line(screen, (d.name, "bold"), (about, "dim"))
    width = max((len(one.about) for one in view.lines), default=0)
    for part, title in PARTS.items():
        some = [one for one in view.lines if one.part == part]
        if not some:
            continue
        screen.print()
        line(screen, (title, "bold"))
        grid = table()
        grid.show_header = False
        grid.add_column(width=1)
        grid.add_column(min_width=min(width, 24))
        grid.add_column(overflow="fold")
        for one in some:
            style = _STYLES[one.state]
            where = Cell(f"  {one.where}" if one.where else "", "dim")
            said = Cell(one.said, "" if one.state == "good" else style)
            grid.add_row(Cell(_SIGNS[one.state], style), Cell(one.about), said + where)
        shown(screen, grid, 2)
    return []
