"""Small tables on a terminal: the fleet, the dialects."""

from __future__ import annotations

from rich.console import Console

from ivrel.core.fleet import Device
from ivrel.core.reach import PORTS, Reach
from ivrel.core.vocabulary.wording import counted
from ivrel.output.terminal.screen import Cell, line, shown, table
from ivrel.output.views.dialects import DialectsView
from ivrel.output.views.fleet import FleetView, Row
from ivrel.output.views.folding import grouped, named


def draw_fleet(screen: Console, view: FleetView) -> None:
    """Draw the devices and whether each one's configuration is found, or count them by group."""
    line(screen, (view.fleet, "bold"), f"  {counted(len(view.rows), 'device')}")
    screen.print()
    if view.by:
        _counted(screen, view)
        return
    reached = ("reached",) if view.ways else ()
    heads = ("device", "kind", "site", "platform", "groups", "identity", *reached)
    grid = table(*heads, "configuration")
    for d, file in view.rows:
        found = Cell(file) if file else Cell("not found", "yellow")
        identity = Cell(d.identity or "-")
        if d.rivals:
            more = " …" if len(d.rivals) > 1 else ""
            identity.append(f" (also {d.rivals[0]}{more})", "yellow")
        groups = ", ".join(d.groups)
        way = [_way(view.ways.get(d.name), d)] if reached else []
        grid.add_row(d.name, d.kind, d.site, d.platform, groups, identity, *way, found)
    shown(screen, grid)


def _way(reach: Reach | None, device: Device) -> Cell:
    """Return how a device is reached; its address if that is not its identity."""
    if reach is None or not reach.via:
        return Cell("-")
    parts = [reach.via]
    parts += [reach.address] if reach.address not in (device.identity, "") else []
    parts += [str(reach.port)] if reach.port != PORTS[reach.via] else []
    parts += [f"through {', '.join(reach.through)}"] if reach.through else []
    return Cell(" ".join(parts))


def _counted(screen: Console, view: FleetView) -> None:
    """A row for each group: its devices, kinds and platforms, and whose configuration is not
    found.
    """
    others = [name for name in ("site", "kind", "platform") if name != view.by]
    grid = table(view.by, "devices", *(f"{name}s" for name in others), "not found")
    by = view.by

    def group_of(row: Row) -> str:
        return str(getattr(row[0], by))

    for group, rows in grouped(view.rows, group_of).items():
        missing = [d.name for d, file in rows if file is None]
        cells = []
        for name in others:
            numbers = grouped(rows, lambda row, name=name: str(getattr(row[0], name)))  # type: ignore[misc]
            cells.append(", ".join(f"{len(some)} {value}" for value, some in numbers.items()))
        told = Cell(
            f"{len(missing)}: {named(missing)}" if missing else "·", "yellow" * bool(missing)
        )
        grid.add_row(Cell(group), f"{len(rows):,}", *map(Cell, cells), told)
    grid.columns[1].justify = "right"
    shown(screen, grid)


def draw_dialects(screen: Console, view: DialectsView) -> None:
    """Draw the dialects that there are."""
    grid = table("dialect", "shape", "about", "file")
    for d in view.dialects:
        grid.add_row(d.name, d.shape_name, Cell(d.about), Cell(d.file, "dim"))
    shown(screen, grid)
