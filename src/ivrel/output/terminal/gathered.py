"""What was gathered, on a terminal: what failed first, then what changed."""

from __future__ import annotations

from rich.console import Console

from ivrel.core.delivery.gathering import STATES, GatheredDevice
from ivrel.core.vocabulary.wording import counted
from ivrel.output.terminal.screen import Cell, line, shown, table
from ivrel.output.views.gathered import GatheredView, HostKeysView

_STYLES = {
    "not gathered": "bold red",
    "kept beside": "bold red",
    "new": "cyan",
    "changed": "yellow",
    "other layout": "green",
    "as before": "green",
}
_KEYS = {"learnt": "cyan", "known": "green", "another": "bold red reverse", "none": "bold red"}
FEW = 12  # keys that are shown one by one
QUIET = ("other layout", "as before")  # of which there is nothing to tell
MOST = 40  # devices of a large fleet that are shown one by one


def draw_gathered(screen: Console, view: GatheredView) -> None:
    """Draw a row for each device that is reported, and the number of each state."""
    order = {state: n for n, state in enumerate(STATES)}
    ranked = sorted(view.devices, key=lambda d: order[d.state])
    told = [d for d in ranked if d.state not in QUIET or d.remark or d.no_display or view.every]
    if told:
        grid = table("device", "platform", "state", "")
        for d in told if view.every else told[:MOST]:
            grid.add_row(
                Cell(d.device), d.platform, Cell(d.state, _STYLES[d.state]), _about(view, d)
            )
        shown(screen, grid)
        if len(told) > MOST and not view.every:
            line(screen, (f"and {len(told) - MOST:,} more; --all shows them", "dim"))
        screen.print()
    numbers = ((state, sum(d.state == state for d in ranked)) for state in STATES)
    parts = [(f"{state} {number:,}", _STYLES[state]) for state, number in numbers if number]
    line(screen, *_divided(parts), f"   {counted(len(ranked), 'device')} in {view.seconds:.1f} s")
    displays = sum(1 for d in ranked if d.display)
    lacking = sum(1 for d in ranked if d.no_display)
    if displays or lacking:
        told_of = f"{counted(displays, 'display')} of their state kept in state/"
        line(screen, told_of, (f"   {lacking:,} without", "yellow") if lacking else "")


def _divided(parts: list[tuple[str, str]]) -> list[tuple[str, str] | str]:
    out: list[tuple[str, str] | str] = []
    for part in parts:
        out += ["   ", part] if out else [part]
    return out


def _about(view: GatheredView, d: GatheredDevice) -> Cell:
    if d.problem or d.remark:
        return Cell(d.problem or d.remark)
    if d.no_display:
        return Cell(f"no display: {d.no_display}", "yellow")
    if not view.tells_how or d.state != "changed":
        return Cell(d.file, "dim")
    parts = [(f"- {one}\n", "red") for one in d.gone] + [(f"+ {one}\n", "green") for one in d.come]
    if not parts:
        return Cell("it says the same of export", "dim")
    out = Cell()
    for said, style in parts:
        out.append_text(Cell(said, style))
    out.rstrip()
    return out


def draw_host_keys(screen: Console, view: HostKeysView) -> None:
    """Draw a row for each host."""
    grid = table("device", "host", "key", "")
    order = list(_KEYS)
    ranked = sorted(view.keys, key=lambda k: -order.index(k.state))
    for k in ranked if view.every else ranked[:FEW]:
        said = Cell(k.problem) if k.problem else Cell(f"{k.kind}  {k.fingerprint}")
        state = "another than recorded" if k.state == "another" else k.state
        grid.add_row(Cell(k.device), f"{k.address} {k.port}", said, Cell(state, _KEYS[k.state]))
    shown(screen, grid)
    if len(ranked) > FEW and not view.every:
        line(screen, (f"and {len(ranked) - FEW:,} more; --all shows them", "dim"))
    learnt = sum(k.state == "learnt" for k in view.keys)
    screen.print()
    line(screen, f"{counted(learnt, 'key')} recorded in {view.file}")
    another = [k.device for k in view.keys if k.state == "another"]
    if another:
        warned = "A host that was not replaced and shows another key is not the host that it was."
        line(screen, (warned, "bold red"))
        line(screen, f"If it was replaced, take its line out of {view.file} and learn it again.")
