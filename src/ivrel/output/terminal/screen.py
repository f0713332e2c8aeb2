"""The terminal: one console, the colours of verdicts, and small pieces that the views share.

Everything goes through `Text`, so that nothing from a configuration is taken for markup.
"""

from __future__ import annotations

import re
import sys
from collections.abc import Iterable, Sequence
from typing import Any, TextIO, cast

from rich.console import Console
from rich.padding import Padding
from rich.table import Table
from rich.text import Text as RichText

from ivrel.core.vocabulary.verdict import Verdict
from ivrel.core.vocabulary.wording import plain


class Cell(RichText):
    """Text on a terminal, without control characters: what a configuration holds must not steer a
    terminal.
    """

    def __init__(self, text: str = "", style: str = "", **options: Any) -> None:
        super().__init__(plain(text), style, **options)

    @classmethod
    def assemble(cls, *parts: Any, **options: Any) -> RichText:
        """Return a text of parts, each without control characters."""
        safe = [
            plain(p) if isinstance(p, str) else (plain(p[0]), p[1]) if isinstance(p, tuple) else p
            for p in parts
        ]
        return RichText.assemble(*safe, **options)


STYLES = {
    "contradicted": "bold red reverse",
    "breaks": "bold red",
    "unknown": "yellow",
    "unable": "magenta",
    "waived": "cyan",
    "meets": "green",
}
CLAIM_STYLES = {"contradicted": "bold red", "proved": "green", "not seen": "dim"}


def console(width: int) -> Console:
    """Return the console for standard output; colour only on a terminal and without NO_COLOR."""
    # Blanks at the ends of lines fill a terminal; in a file they only disturb comparisons.
    out = sys.stdout if sys.stdout.isatty() else cast(TextIO, _Trimmed(sys.stdout))
    return Console(width=width, highlight=False, file=out, emoji=False, markup=False)


class _Trimmed:
    """A file that drops the spaces which fill up lines."""

    def __init__(self, file: TextIO) -> None:
        self._file = file

    def write(self, text: str) -> int:
        return self._file.write(re.sub(r" +(?=\n)", "", text))

    def flush(self) -> None:
        self._file.flush()

    def isatty(self) -> bool:
        return False


def styled(verdict: str, text: str | None = None) -> Cell:
    """Return a verdict, or a text in its colour."""
    return Cell(verdict if text is None else text, STYLES.get(verdict, ""))


def table(*headers: str) -> Table:
    """Return a table without lines."""
    out = Table(box=None, pad_edge=False, show_edge=False, header_style="dim", padding=(0, 2, 0, 0))
    for header in headers:
        out.add_column(Cell(header), overflow="fold")
    return out


def stairs(console: Console, names: Sequence[str], indent: int, width: int = 2) -> None:
    """Print the heads of many narrow columns: each name is on a step of its own above its column.

    `indent`: where the first of them begins.
    """
    bar = "│".ljust(width)
    for n, name in enumerate(names):
        before = f"{' ' * indent}{bar * n}"
        if len(before) + len(name) <= console.width:
            line(console, (before, "dim"), name)
        else:  # no room at its right: then at its left
            line(console, (before[: len(before) - len(name) - 2], "dim"), f" {name} ", ("┐", "dim"))


def steps_below(heads: Sequence[str], names: Sequence[str], width: int = 2) -> Table:
    """Return a table whose columns are below such steps.

    `heads`: what the columns before are called.
    """
    grid = table(*heads, *names)
    grid.show_header = False
    grid.padding = (0, 1, 0, 0)
    for column in grid.columns[len(heads) :]:
        column.min_width = width - 1
    return grid


def verdict_line(console: Console, verdict: Verdict, indent: int = 0) -> None:
    """A verdict that is to be told: its setting, what it is, and why."""
    grid = table()
    grid.show_header = False
    grid.add_column(width=12)
    grid.add_column(width=max(8, len(verdict.verdict)))
    grid.add_column(overflow="fold")
    grid.add_row(Cell(verdict.setting), styled(verdict.verdict), Cell(verdict.why))
    shown(console, grid, indent)


def shown(console: Console, item: object, indent: int = 0) -> None:
    """Print something, moved in by some columns."""
    console.print(Padding(item, (0, 0, 0, indent)) if indent else item)  # type: ignore[arg-type]


def line(console: Console, *parts: tuple[str, str] | str, indent: int = 0) -> None:
    """Print one line of parts, each a text or a text with its style.

    Long lines go on below themselves.
    """
    shown(console, Cell.assemble(*parts), indent)


def next_commands(console: Console, commands: Sequence[str]) -> None:
    """The commands to type next."""
    console.print()
    for n, command in enumerate(commands):
        line(console, ("next  " if n == 0 else "      ", "dim"), (command, "bold"))


def quoted(lines: Iterable[tuple[str, str]]) -> Table:
    """Return lines of a configuration, each behind its place."""
    out = Table(box=None, pad_edge=False, show_edge=False, show_header=False, padding=(0, 2, 0, 0))
    out.add_column(no_wrap=True)
    out.add_column(overflow="fold")
    for place, text in lines:
        out.add_row(Cell(place, "dim"), Cell(text, "italic"))
    return out
