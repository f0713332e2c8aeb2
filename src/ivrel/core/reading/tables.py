"""Tables: the rows that statements make, and what their values come to."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from operator import attrgetter
from typing import TypeVar

from ivrel.core.dialects.dialect import Dialect
from ivrel.core.reading.statements import Key, Mark, Understood
from ivrel.core.vocabulary.sourced import UNSAID, Row, SourcedValue
from ivrel.core.vocabulary.values import Value

K = TypeVar("K")


def rows_of(dialect: Dialect, marks: Iterable[Mark]) -> dict[Key, Row]:
    """Return the rows of one table that its statements make, the later ones over the earlier."""
    rows: dict[Key, dict[str, SourcedValue]] = {}
    for match, line in marks:
        said = (line,)
        row = rows.get(match.key)
        if row is None:
            row = rows[match.key] = {slot: SourcedValue(value, said) for slot, value in match.named}
        # The later statement holds, wherever they are.
        for slot, value in match.fields:
            row[slot] = SourcedValue(value, said)
        for slot, value in match.many:
            old = row.get(slot, UNSAID)
            values = old.value if isinstance(old.value, tuple) else ()
            row[slot] = SourcedValue((*values, value), (*old.lines, line))
        # What a statement leaves out has its default again, by the line of that statement.
        for slot in match.silent:
            row[slot] = SourcedValue(dialect.defaults.get(slot), said, True)
    return dict(rows)


def by_table(marks: Iterable[Mark]) -> dict[str, Sequence[Mark]]:
    """Return statements by the tables that they are about, in the order of the text."""
    return _grouped(marks, attrgetter("table"))


def by_key(marks: Iterable[Mark]) -> dict[Key, Sequence[Mark]]:
    """Return the statements of one table by the row that they are about."""
    return _grouped(marks, attrgetter("key"))


def _grouped(marks: Iterable[Mark], of: Callable[[Understood], K]) -> dict[K, Sequence[Mark]]:
    out: dict[K, list[Mark]] = {}
    for mark in marks:
        at = of(mark[0])
        if at in out:
            out[at].append(mark)
        else:
            out[at] = [mark]
    return dict(out)


def values_of(row: Row, slot: str) -> tuple[Value, ...]:
    """Return the values of a slot that may have many."""
    said = row.get(slot, UNSAID).value
    return said if isinstance(said, tuple) else ()


def value_of(
    dialect: Dialect, said: SourcedValue | None, slot: str, row: Row | None
) -> SourcedValue:
    """Return the value of a slot: from the text, or the platform's default."""
    if said is not None:
        return said
    if row is not None and slot in dialect.conditional:
        # The default depends on another value of the row, which may be a default itself.
        other, cases = dialect.conditional[slot]
        value = value_of(dialect, row.get(other), other, row).value
        if isinstance(value, str | int) and value in cases:
            return cases[value]
    default = dialect.said_defaults.get(slot)
    return default if default is not None else UNSAID


NO_ROWS: Mapping[Key, Row] = {}
