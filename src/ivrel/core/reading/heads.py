"""Heads: the first words of the parts of a text that a dialect is about, by which they are
found.
"""

from __future__ import annotations

from collections.abc import Sequence

from ivrel.core.dialects.dialect import Dialect
from ivrel.core.dialects.items import Variable
from ivrel.core.dialects.pattern import Pattern
from ivrel.core.dialects.slots import SLOTS
from ivrel.core.reading.statements import LAZY
from ivrel.core.text.words import Words


class Heads:
    """The heads of one dialect.

    `eager`: of the parts that are always read; `every`: of all known parts, the eager ones first;
    `lazy`: of each table that is looked up; `named`: those behind which the name of a row stands,
    so that one row can be looked up by it; `eager_firsts`, `firsts`: the first words of the eager
    heads, and of all.
    """

    def __init__(self, dialect: Dialect) -> None:
        self.keys = frozenset(slot for slots in dialect.keys.values() for slot in slots)
        self._eager = [p for p in dialect.patterns if p.table not in LAZY and _bears(p)]
        lazy = [p for p in dialect.patterns if p.table in LAZY]
        self.eager = _of(self._eager)
        self.every = (
            *self.eager,
            *(head for head in _of(dialect.patterns) if head not in self.eager),
        )
        self.eager_firsts = frozenset(head[0] for head in self.eager if head)
        self.firsts = frozenset(head[0] for head in self.every if head)
        self.lazy = {table: _of([p for p in lazy if p.table == table]) for table in LAZY}
        self.named = {head_of(p) for p in lazy if self._is_named(p)}
        # The slots whose values name rows of a lazy table, with the tables that they are fields of.
        # A source names an interface: only that row of the table need be looked up.
        own = {(p.table, slot) for p in dialect.patterns for slot in p.own_slots}
        self.naming = {
            table: sorted(
                at for at in own if at[1].endswith((f".source-{table}", f"source.{table}"))
            )
            for table in LAZY
        }
        self._saying: dict[frozenset[str], tuple[Words, ...]] = {}

    def is_of(self, table: str, top: Words) -> bool:
        """Whether what begins with these words may say something of a table that is looked up."""
        return any(top[: len(head)] == head for head in self.lazy[table])

    def saying(self, slots: frozenset[str]) -> tuple[Words, ...]:
        """Return the heads of the eager parts that can say any of these slots."""
        if slots not in self._saying:
            self._saying[slots] = _of([p for p in self._eager if slots.intersection(p.own_slots)])
        return self._saying[slots]

    def _is_named(self, pattern: Pattern) -> bool:
        items = pattern.path[0] if pattern.path else pattern.items
        return len(items) > 1 and isinstance(items[1], Variable) and items[1].slot in self.keys


def head_of(pattern: Pattern) -> Words:
    """Return the word by which a pattern's part of the text is found."""
    return (pattern.header if pattern.path else pattern).opening[:1]


def _of(patterns: Sequence[Pattern]) -> tuple[Words, ...]:
    return tuple(dict.fromkeys(head_of(p) for p in patterns))


def _bears(pattern: Pattern) -> bool:
    """Whether any value of a pattern's statement bears on a setting."""
    return any(not SLOTS[slot].idle for slot in pattern.own_slots)
