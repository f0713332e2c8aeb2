"""Changes that somebody wrote, on a terminal: the worst first."""

from __future__ import annotations

from rich.console import Console

from ivrel.core.correcting import Judged
from ivrel.core.vocabulary.wording import counted
from ivrel.output.terminal.screen import Cell, line, shown, table
from ivrel.output.views.proofs import ProofsView

_STYLES = {"refused": "bold red", "fails": "bold red", "done": "cyan", "holds": "green"}
_MEANS = {
    "refused": "the configuration does not take it",
    "fails": "a property does not hold",
    "done": "the configuration says so already",
    "holds": "every property holds",
}


def draw_proofs(screen: Console, view: ProofsView) -> None:
    """Draw a row for each change, with why it does not hold, and how many there are of each."""
    grid = table("device", "platform", "lines", "state", "")
    grid.columns[2].justify = "right"
    ranked = view.ranked()
    for j in ranked:
        said = Cell(j.state, _STYLES[j.state])
        grid.add_row(Cell(j.device), j.platform, f"{j.lines:,}" if j.lines else "-", said, _why(j))
    for device, problem in view.unread:
        grid.add_row(Cell(device), "", "", Cell("not readable", "yellow"), Cell(problem))
    shown(screen, grid)
    screen.print()
    for state, means in _MEANS.items():
        number = sum(1 for j in ranked if j.state == state)
        if number:
            number_of = counted(number, "change").ljust(12)
            line(screen, number_of, (state.ljust(8), _STYLES[state]), f"  {means}")


def _why(j: Judged) -> Cell:
    """Return the properties that do not hold, and the remarks on a change."""
    parts = [j.problem] if j.problem else []
    parts += [f"not {p.name}: {p.why}" for p in j.proof if not p.holds]
    if len(j.foreign) > 1:
        parts.append(f"not about export: lines {', '.join(map(str, j.foreign))}")
    if j.stale:
        parts.append("the configuration is not the one that it was made for")
    if j.edited:
        parts.append("edited since it was written")
    parts += [
        f"{gap.collector} is not reached for {counted(gap.lines, 'line')} of it" for gap in j.gaps
    ]
    parts += [f"no longer sent: {gone.words}" for gone in j.no_longer_sent]
    return Cell("\n".join(parts))
