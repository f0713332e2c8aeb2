"""An audit of a large fleet: verdicts counted by site, kind, platform or rule, and findings alike
told once.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence

from msgspec.structs import replace
from rich.console import Console
from rich.table import Table

from ivrel.core.vocabulary.verdict import GOOD, VERDICTS, DeviceResult, Place, Verdict
from ivrel.core.vocabulary.wording import counted
from ivrel.output.terminal.screen import (
    STYLES,
    Cell,
    line,
    quoted,
    shown,
    stairs,
    steps_below,
    table,
    verdict_line,
)
from ivrel.output.views.audit import parts_of
from ivrel.output.views.folding import Folded, folded, named

FINDINGS_SHOWN = 30  # findings shown, unless all are asked for
SHORTEST = 12  # room for the name of a group
BESIDE = 17  # columns between the name of a group and its numbers by setting

Groups = dict[str, list[tuple[DeviceResult, tuple[Verdict, ...]]]]


def draw_groups(
    screen: Console, results: Sequence[DeviceResult], settings: Sequence[str], by: str
) -> None:
    """Draw a row for each group: how many of its devices are as asked, and how many are not.

    The second is reported setting by setting. Of many settings, the table falls into pieces.
    """
    groups: Groups = {}
    for r in results:
        for name, verdicts in parts_of(r, by):
            groups.setdefault(name, []).append((r, verdicts))
    numbers = {name: _numbers(members, settings) for name, members in groups.items()}
    widest = max((len(f"{n:,}") for row in numbers.values() for n in row.values()), default=1)
    longest = max(map(len, [by, *groups]))
    heads = (by, "devices", "as asked")
    if longest + 20 + sum(max(len(s), widest) + 2 for s in settings) <= screen.width:
        _rows(screen, groups, settings, longest, lambda: _ready(table(*heads, *settings), longest))
        return
    # What is as asked wherever it is asked goes without a column where there is no room.
    most = max((screen.width - SHORTEST - BESIDE - widest) // (widest + 1), 1)
    bad = [s for s in settings if any(row[s] for row in numbers.values())]
    columns = list(settings) if len(settings) <= most else bad
    for start in range(0, len(columns), most):
        if start:
            screen.print()
        _piece(screen, groups, columns[start : start + most], heads, longest, widest)
    rest = [s for s in settings if s not in columns]
    if rest:
        screen.print()
        line(screen, (f"as asked everywhere: {', '.join(rest)}", "dim"))


def _piece(
    screen: Console,
    groups: Groups,
    some: Sequence[str],
    heads: Sequence[str],
    longest: int,
    widest: int,
) -> None:
    """A piece of the table with narrow columns, each below a step that bears its name."""
    room = screen.width - len(some) * (widest + 1) - BESIDE - widest - max(map(len, some))
    first = max(min(longest, room), SHORTEST)

    def fresh() -> Table:
        return _ready(steps_below(heads, some, widest + 1), first)

    def headed() -> Table:
        grid = fresh()
        grid.add_row(*(Cell(head, "dim") for head in heads))
        return grid

    # Each step is on the last digit of its column.
    stairs(screen, some, first + BESIDE + widest, widest + 1)
    _rows(screen, groups, some, first, fresh, headed())


def _rows(
    screen: Console,
    groups: Groups,
    some: Sequence[str],
    first: int,
    fresh: Callable[[], Table],
    begun: Table | None = None,
) -> None:
    """The rows of groups, those first of whose devices the largest share is not as asked.

    `fresh`: a table with these columns; `begun`: one that has its head already.
    """
    grid = begun or fresh()
    for name in sorted(groups, key=lambda name: (-_share(groups[name]), name)):
        members = groups[name]
        numbers = _numbers(members, some)
        good = sum(1 for _, verdicts in members if all(v.verdict in GOOD for v in verdicts))
        cells = []
        for s in some:
            given = [v for _, verdicts in members for v in verdicts if v.setting == s]
            cells.append(_cell(numbers[s], given))
        is_long = len(name) > first
        if is_long:  # a long name stands above its numbers
            shown(screen, grid)
            line(screen, name)
            grid = fresh()
        grid.add_row("" if is_long else name, f"{len(members):,}", f"{good:,}", *cells)
    shown(screen, grid)


def _ready(grid: Table, first: int) -> Table:
    """Return a table of groups whose columns have the same widths in every piece."""
    for column, least in zip(grid.columns, (first, 7, 8), strict=False):
        column.min_width = least
    for column in grid.columns[1:]:
        column.justify = "right"
        column.no_wrap = True
    return grid


def _numbers(
    members: Sequence[tuple[DeviceResult, tuple[Verdict, ...]]], settings: Sequence[str]
) -> dict[str, int]:
    """Return how many devices are not as asked, by setting."""
    out = dict.fromkeys(settings, 0)
    for _, verdicts in members:
        for v in verdicts:
            if v.setting in out:
                out[v.setting] += v.verdict not in GOOD
    return out


def _share(members: Sequence[tuple[DeviceResult, tuple[Verdict, ...]]]) -> float:
    return sum(1 for _, vs in members if any(v.verdict not in GOOD for v in vs)) / len(members)


def _cell(number: int, verdicts: Sequence[Verdict]) -> Cell:
    if not verdicts:
        return Cell("")
    worst = min((v.verdict for v in verdicts), key=VERDICTS.index)
    return Cell(f"{number:,}", STYLES[worst]) if number else Cell("·", STYLES["meets"])


def alike(results: Sequence[DeviceResult]) -> list[Folded[Verdict]]:
    """Return findings that say the same once: the worst and most frequent first."""
    pairs = []
    for r in results:
        for v in r.verdicts:
            if v.verdict not in GOOD:
                # The reason names the file, and would make each finding one of its own.
                why = "the configuration could not be read" if r.problem else v.why
                pairs.append((r.device, replace(v, why=why)))
    found = folded(pairs, lambda v: (v.setting, v.verdict, v.why))

    def rank(one: Folded[Verdict]) -> tuple[int, int, str]:
        verdict = one.item
        return VERDICTS.index(verdict.verdict), -len(one.devices), verdict.setting

    return sorted(found, key=rank)


def draw_alike(
    screen: Console,
    found: Sequence[Folded[Verdict]],
    every: bool,
    text_of: Callable[[Place, str], str],
) -> None:
    """The findings, each with its devices and the line that decides it on the first of them."""
    for one in found if every else found[:FINDINGS_SHOWN]:
        v = one.item
        screen.print()
        verdict_line(screen, v)
        shown(
            screen,
            Cell.assemble((counted(len(one.devices), "device"), "bold"), f"  {named(one.devices)}"),
            24,
        )
        if v.where:
            place: Place = v.where[0]
            shown(screen, quoted([(f"{place.file}:{place.line}", text_of(place, v.setting))]), 24)
        shown(screen, Cell(f"'{v.rule}' asks: {v.wanted}", "dim"), 24)
    if not every and len(found) > FINDINGS_SHOWN:
        screen.print()
        more = counted(len(found) - FINDINGS_SHOWN, "finding")
        line(screen, (f"and {more} more, on fewer devices each; --all shows them", "dim"))
