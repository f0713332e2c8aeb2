"""Recall: what was worked out for one configuration holds for others whose statements say the same
wherever it looked.
"""

from __future__ import annotations

from collections.abc import Sequence, Set
from typing import Generic, TypeVar

from ivrel.core.dialects.dialect import Dialect
from ivrel.core.dialects.slots import LAZY
from ivrel.core.reading.records import Note
from ivrel.core.reading.statements import Mark
from ivrel.core.settings.scope import DEVICE

T = TypeVar("T")


def is_of_text(looked: Set[Note]) -> bool:
    """Whether what looked there depends on the statements that are always read, and on nothing
    else: neither on the device itself nor on a table that is looked up.
    """
    return DEVICE not in looked and not any(table in LAZY for table, _ in looked)


class Trace(Generic[T]):
    """What depends on the statements of some patterns alone, by these statements."""

    __slots__ = ("_given", "_kept", "concerning")

    def __init__(self, concerning: tuple[bool, ...]) -> None:
        self.concerning = concerning
        self._given: dict[tuple[int, ...], T] = {}
        self._kept: list[object] = []  # what keys name by its identity lives as long as they do

    def find(self, marks: Sequence[Mark]) -> T | None:
        """Return what depends on statements that concern it; None if nothing is known."""
        return self._given.get(tuple([id(m) for m, _ in marks]))

    def keep(self, marks: Sequence[Mark], value: T) -> None:
        """Keep what depends on statements that concern it."""
        matches = [m for m, _ in marks]
        self._given[tuple(map(id, matches))] = value
        self._kept.append(matches)

    def concerned(self, marks: Sequence[Mark]) -> list[Mark]:
        """Return the statements that matter, and of each row that has none of them the others:
        which rows there are counts.
        """
        out: list[Mark] = []
        rest: list[Mark] = []
        for mark in marks:
            (out if self.concerning[mark[0].pattern] else rest).append(mark)
        if rest:
            named = {(m.table, m.key) for m, _ in out}
            out += [
                mark for mark in rest if mark[0].table and (mark[0].table, mark[0].key) not in named
            ]
        return out


class VerdictCache(Generic[T]):
    """What is known of configurations in one dialect, and what they have to have in common."""

    def __init__(self) -> None:
        self._traces: list[Trace[T]] = []

    def find(self, marks: Sequence[Mark]) -> tuple[T, list[Mark]] | None:
        """Return what is known of a configuration with these statements, and those of them that it
        depends on; None if nothing is known.
        """
        for trace in self._traces:
            concerned = trace.concerned(marks)
            value = trace.find(concerned)
            if value is not None:
                return value, concerned
        return None

    def trace(self, dialect: Dialect, looked: Set[Note]) -> Trace[T]:
        """Return the trace for these dependencies."""
        concerning = _concerning(dialect, looked)
        trace = next((t for t in self._traces if t.concerning == concerning), None)
        if trace is None:
            trace = Trace(concerning)
            self._traces.append(trace)
        return trace


def _concerning(dialect: Dialect, looked: Set[Note]) -> tuple[bool, ...]:
    """Return of each pattern, whether its statements can say anything that was looked at."""
    slots = {slot for _, slot in looked if slot not in ("", "*")}
    whole = {table for table, slot in looked if slot == "*"}
    keys = {slot for slots in dialect.keys.values() for slot in slots}
    out = []
    for pattern in dialect.patterns:
        own = {slot for slot in pattern.slots if slot not in keys}
        out.append(pattern.table in whole or bool(own & slots) or not own)
    return (*out, False)  # a statement that only names a row has the number -1
