"""What was heard on a terminal: the matrix of devices and settings, then what contradicts."""

from __future__ import annotations

from collections.abc import Sequence

from rich.console import Console
from rich.table import Table

from ivrel.core.evidence.claims import CLAIMS, Claim
from ivrel.core.evidence.results import DeviceHeard
from ivrel.core.evidence.summary import ExampleMessage
from ivrel.core.evidence.witnesses import Comparison
from ivrel.core.settings import SETTINGS
from ivrel.core.vocabulary.wording import counted
from ivrel.output.terminal.matrix import Look, draw_matrix
from ivrel.output.terminal.screen import CLAIM_STYLES, Cell, line, quoted, shown, table
from ivrel.output.views.folding import ONE_BY_ONE, named
from ivrel.output.views.heard import HeardView

_LOOK = Look(
    CLAIMS,
    {"contradicted": "contradicted", "proved": "proved", "not seen": "·"},
    {"contradicted": "C", "proved": "p", "not seen": "·"},
    CLAIM_STYLES,
)


def draw_heard(screen: Console, view: HeardView) -> list[str]:
    """Draw what was heard; silent devices are named below the matrix."""
    heard = [d for d in view.devices if d.summary.number]
    silent = [d.device.name for d in view.devices if not d.summary.number]
    about = f"  {counted(view.total, 'message')}, {counted(len(heard), 'device')} heard"
    line(screen, (view.fleet, "bold"), about)
    screen.print()
    shown_ones = heard if view.every else heard[:ONE_BY_ONE]
    if shown_ones:
        _matrix(screen, shown_ones)
        screen.print()
    if len(heard) > len(shown_ones):
        line(screen, (f"and {len(heard) - len(shown_ones)} more devices; --all shows them", "dim"))
    parts: list[tuple[str, str] | str] = []
    for claim in reversed(CLAIMS):
        number = sum(d.count(claim) for d in view.devices)
        parts += [(f"{claim} {number:,}", CLAIM_STYLES[claim]), "   "]
    differing = sum(len(d.differing) for d in view.devices)
    if differing:
        parts += [(f"differs from what devices show {differing:,}", "bold red"), "   "]
    parts.append(f"{len(silent)} of {counted(len(view.devices), 'device')} not heard")
    line(screen, *parts)
    for one in shown_ones:
        if one.count("contradicted") or one.differing:
            _contradicted(screen, one)
    _odd(screen, view)
    if silent:
        screen.print()
        line(screen, ("not heard  ", "yellow"), named(silent, 12))
    further = []
    contradicted = (c for d in heard for c in d.claims if c.claim == "contradicted")
    example = next((c.example for c in contradicted), None)
    if example is not None and example.file != "standard input":
        further.append(f"ivrel trace{view.where} {example.file} --line {example.line}")
    if silent:
        further.append(f"ivrel why{view.where} {silent[0]}{view.given}")
    return further


def _matrix(screen: Console, heard: Sequence[DeviceHeard]) -> None:
    """Draw the settings that anything was seen of; of the others there is nothing to show."""
    seen = {c.setting for d in heard for c in d.claims if c.claim != "not seen"}
    settings = [name for name in SETTINGS if name in seen]
    about = [("messages", [f"{d.summary.number:,}" for d in heard])]
    given = [{c.setting: c.claim for c in d.claims} for d in heard]
    draw_matrix(screen, [d.device.name for d in heard], about, settings, given, _LOOK)


def _contradicted(screen: Console, one: DeviceHeard) -> None:
    screen.print()
    about = f"  {one.device.kind} at {one.device.site}, {counted(one.summary.number, 'message')}"
    line(screen, (one.device.name, "bold"), (about, "dim"))
    for c in one.claims:
        if c.claim == "contradicted":
            _claim(screen, c)
    for differing in one.differing:
        _differing(screen, differing)


def _differing(screen: Console, one: Comparison) -> None:
    grid = _grid()
    of = f"{one.of}: " if one.of else ""
    grid.add_row(Cell(one.setting), Cell(f"{of}{one.said}", CLAIM_STYLES["contradicted"]))
    shown(screen, grid, 2)
    shown(screen, Cell(f"shown: {one.where}", "dim"), 16)


def _grid() -> Table:
    grid = table()
    grid.show_header = False
    grid.add_column(width=12)
    grid.add_column(overflow="fold")
    return grid


def _claim(screen: Console, c: Claim) -> None:
    grid = _grid()
    grid.add_row(Cell(c.setting), Cell(c.why, CLAIM_STYLES["contradicted"]))
    shown(screen, grid, 2)
    if c.heard and c.heard not in c.why:
        shown(screen, Cell(f"heard: {c.heard}"), 16)
    if c.example is not None:
        _quoted(screen, c.example)
    shown(screen, Cell(f"'{c.rule}' asks: {c.wanted}", "dim"), 16)


def _quoted(screen: Console, example: ExampleMessage) -> None:
    shown(screen, quoted([(f"{example.file}:{example.line}", example.text)]), 16)


def _odd(screen: Console, view: HeardView) -> None:
    """Draw what is odd about who sent."""
    if not view.anomalies:
        return
    screen.print()
    line(screen, ("who sent", "bold"))
    for odd in view.anomalies:
        grid = table()
        grid.show_header = False
        grid.add_column(width=17)
        grid.add_column(overflow="fold")
        said = f"{odd.told} ({counted(odd.number, 'message')})"
        grid.add_row(Cell(odd.kind, "yellow"), Cell(said))
        shown(screen, grid, 2)
        if odd.example is not None:
            shown(
                screen,
                quoted([(f"{odd.example.file}:{odd.example.line}", odd.example.text)]),
                21,
            )
