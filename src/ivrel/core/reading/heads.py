"""Heads: the first words of the parts of a text that a dialect describes, to find them."""

from __future__ import annotations

from collections.abc import Sequence

from ivrel.core.dialects.dialect import Dialect
from ivrel.core.dialects.items import Variable
from ivrel.core.dialects.pattern import UNKNOWN_NEGATED, Pattern
from ivrel.core.dialects.slots import LAZY, SLOTS
from ivrel.core.text.words import Words


class Heads:
    """The heads of one dialect.

    `eager`: of the parts that are always read; `every`: of all known parts, the eager ones first;
    `lazy`: of each table that is looked up; `lazy_as_said`: the same without negations; `named`:
    those followed by the name of a row, so that one row can be looked up.
    """

    def __init__(self, dialect: Dialect) -> None:
        self.keys = frozenset(slot for slots in dialect.keys.values() for slot in slots)
        self._shape = dialect.shape
        self._eager = [p for p in dialect.patterns if p.table not in LAZY and _bears(p)]
        lazy = [p for p in dialect.patterns if p.table in LAZY]
        self.eager = self._of(self._eager)
        self.every = (
            *self.eager,
            *(head for head in self._of(dialect.patterns) if head not in self.eager),
        )
        self._openings = frozenset(self.every)
        self._eager_openings = frozenset(self.eager)
        self.lazy = {table: self._of([p for p in lazy if p.table == table]) for table in LAZY}
        negation = dialect.shape.negation_of(())[:1]
        self.lazy_as_said = {
            table: tuple(head for head in heads if head[:1] != negation)
            for table, heads in self.lazy.items()
        }
        self.named = {head for p in lazy if self._is_named(p) for head in self._of([p])}
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
            saying = [p for p in self._eager if slots.intersection(p.own_slots)]
            self._saying[slots] = self._of(saying)
        return self._saying[slots]

    def has(self, top: Words) -> bool:
        """Whether what begins with these words is a known part."""
        return not self._openings.isdisjoint((top[:1], top[:2]))

    def has_eager(self, top: Words) -> bool:
        """Whether what begins with these words is a part that is always read."""
        return not self._eager_openings.isdisjoint((top[:1], top[:2]))

    def _of(self, patterns: Sequence[Pattern]) -> tuple[Words, ...]:
        """Return the heads of patterns, and those of statements and blocks that are negated."""
        heads = dict.fromkeys(map(head_of, patterns))
        if self._shape.NEGATES and not self._shape.at_end:
            # What is looked up row by row may be negated, whatever the dialect says of that.
            negated = [p for p in patterns if p.negated != UNKNOWN_NEGATED or p.table in LAZY]
            heads |= dict.fromkeys(self._shape.negation_of(head_of(p)) for p in negated)
        return tuple(heads)

    def _is_named(self, pattern: Pattern) -> bool:
        items = pattern.path[0] if pattern.path else pattern.items
        return len(items) > 1 and isinstance(items[1], Variable) and items[1].slot in self.keys


def head_of(pattern: Pattern) -> Words:
    """Return the word by which a pattern's part of the text is found; of one that negates another,
    what negates and the next word, which are one where words are divided by dots.
    """
    if pattern.is_negation and not pattern.path:
        dotted = any(" " in word for word in pattern.opening[:1])
        return pattern.opening[: 1 if dotted else 2]
    return (pattern.header if pattern.path else pattern).opening[:1]


def _bears(pattern: Pattern) -> bool:
    """Whether any value of a pattern's statement bears on a setting."""
    return any(not SLOTS[slot].idle for slot in pattern.own_slots)
