"""A delivery on a terminal: what needs a look first, then what was delivered."""

from __future__ import annotations

from collections.abc import Iterable

from rich.console import Console

from ivrel.core.delivery.course import STATES, WAITING
from ivrel.core.delivery.record import DeliveryStep, DeviceDelivery
from ivrel.core.vocabulary.wording import counted
from ivrel.output.terminal.screen import Cell, line, shown, table
from ivrel.output.views.delivered import DeliveryView

STATE_STYLES = {
    "in doubt": "bold red reverse",
    "as before": "bold red",
    "released": "yellow",
    "not begun": "bold red",
    "in flight": "yellow",
    "kept": "yellow",
    "waiting": "dim",
    "would be sent": "cyan",
    "delivered": "green",
    "there already": "cyan",
}
FEW = 12  # devices that wait, of which each is shown
MOST = 60  # devices that are shown one by one
LINES = 12  # of a change that was computed again


def draw_delivery(screen: Console, view: DeliveryView) -> None:
    """Draw a row for each device, how many there are of each state, and what that means."""
    grid = table("wave", "device", "platform", "state", "s", "")
    grid.columns[0].justify = grid.columns[4].justify = "right"
    ranked = view.ranked()
    waiting = sum(d.state == WAITING for d in ranked)
    rows = [d for d in ranked if d.state != WAITING or waiting <= FEW]
    for d in rows[:MOST]:
        styled = Cell(d.state, STATE_STYLES[d.state])
        seconds = f"{d.seconds:.1f}" if d.seconds else "-"
        grid.add_row(str(d.wave), Cell(d.device), d.platform, styled, seconds, Cell(d.why))
        for one in d.computed_again[:LINES]:
            grid.add_row("", "", "", "", "", Cell(one, "italic"))
    if rows:
        shown(screen, grid)
    if len(rows) > MOST:
        line(screen, (f"and {len(rows) - MOST:,} more; --format json has them all", "dim"))
    if view.is_record:
        if view.record.called:
            screen.print()
            line(screen, ("the whole delivery", "bold"))
            _draw_steps(screen, view.record.called)
        for d in view.record.devices:
            _steps(screen, d)
    screen.print()
    for state, means in STATES.items():
        number = sum(d.state == state for d in ranked)
        if number:
            label = counted(number, "device").ljust(12)
            line(screen, label, (state.ljust(14), STATE_STYLES[state]), means)
    if view.record.stopped:
        line(screen, (f"No further devices were started: {view.record.stopped}.", "bold"))


def _steps(screen: Console, d: DeviceDelivery) -> None:
    """Draw what was done with a device."""
    if not d.steps:
        return
    screen.print()
    line(screen, (d.device, "bold"), f"  {d.platform}, wave {d.wave}: {d.state}")
    _draw_steps(screen, d.steps)


def _draw_steps(screen: Console, steps: Iterable[DeliveryStep]) -> None:
    grid = table("at", "step", "typed", "answered")
    for s in steps:
        grid.add_row(s.at[11:23], s.step, "", "")
        for x in s.said:
            grid.add_row("", "", Cell(x.typed, "italic"), Cell("\n".join(x.answered)))
    shown(screen, grid, 2)
