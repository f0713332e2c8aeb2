"""A value, and what says it."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from msgspec import Struct

from ivrel.core.vocabulary.values import Value


class SourcedValue(Struct, frozen=True, gc=False):
    """A value and the lines that decide it; `default`: they leave it to the platform.

    Many are a tuple.
    """

    value: Value | tuple[Value, ...] | None
    lines: tuple[int, ...] = ()
    default: bool = False


Row = Mapping[str, SourcedValue]
UNSAID = SourcedValue(None, (), True)


def lines_of_rows(rows: Iterable[Row]) -> tuple[int, ...]:
    """Return the lines that say anything of some rows, in their order."""
    lines: set[int] = set()
    for row in rows:
        for said in row.values():
            lines.update(said.lines)
    return tuple(sorted(lines))
