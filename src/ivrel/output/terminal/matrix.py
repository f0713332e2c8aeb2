"""A matrix of devices and settings: in words, or in letters below steps where there is no room."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from msgspec import Struct
from rich.console import Console

from ivrel.output.terminal.screen import Cell, line, shown, stairs, steps_below, table


class Look(Struct, frozen=True):
    """How outcomes are shown: all of them in order, as words, as letters, in styles."""

    order: Sequence[str]
    marks: Mapping[str, str]
    letters: Mapping[str, str]
    styles: Mapping[str, str]


def draw_matrix(
    screen: Console,
    devices: Sequence[str],
    about: Sequence[tuple[str, Sequence[str]]],
    settings: Sequence[str],
    given: Sequence[Mapping[str, str]],
    look: Look,
) -> None:
    """Draw a row a device and a column a setting.

    `about`: further columns, with a word for each device, which are left out where there is no
    room; `given`: of each device the outcomes, by setting.
    """
    cells = max((len(mark) for mark in look.marks.values()), default=0)
    longest = max(map(len, devices), default=0)
    needed = longest + sum(max(len(s), cells) + 2 for s in settings)
    # On a narrow terminal the outcomes matter more than what is said again below.
    if needed + sum(max(map(len, [name, *words])) + 2 for name, words in about) > screen.width:
        about = []
    # If that is not enough, each is one letter, below steps with the names of settings.
    narrow = needed > screen.width
    marks = look.letters if narrow else look.marks
    if narrow:
        stairs(screen, settings, longest + 1)
        grid = steps_below(("device",), settings)
    else:
        grid = table("device", *(name for name, _ in about), *settings)
    for column in grid.columns:
        column.no_wrap = True
    for n, device in enumerate(devices):
        has = given[n]
        row = [
            Cell(marks[has[s]], look.styles.get(has[s], "")) if s in has else Cell("")
            for s in settings
        ]
        grid.add_row(Cell(device), *(Cell(words[n], "dim") for _, words in about), *row)
    shown(screen, grid)
    if narrow:
        seen = [one for one in look.order if any(one in has.values() for has in given)]
        legend = [
            part
            for one in seen
            for part in ((look.letters[one], look.styles.get(one, "")), (f" {one}   ", "dim"))
        ]
        line(screen, *legend)
