"""Alignment: statements of the same kind, some of them with words left out, as one row of words and
values.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from itertools import pairwise

from msgspec import Struct

from ivrel.core.authoring.learning.templates import Keys


class StatementPart(Struct, frozen=True):
    """A part of a statement: the words in front of a value, and of what kind that is.

    `kind`: '' where no value follows the words.
    """

    words: Keys
    kind: str


class Aligned(Struct, frozen=True):
    """Statements as one row of parts: `parts` in their order, those that all of them have, and the
    value of each part in each of the statements.
    """

    parts: tuple[StatementPart, ...]
    always: frozenset[StatementPart]
    values: tuple[dict[StatementPart, str], ...]

    def column(self, part: StatementPart) -> list[str]:
        """Return the different values of a part, as they were first seen."""
        return list(dict.fromkeys(said[part] for said in self.values if part in said))

    @property
    def nests(self) -> bool:
        """Whether each part that may be left out only occurs together with those before it."""
        free = [part for part in self.parts if part not in self.always]
        # A part without a word of its own is known by its place alone.
        if any(part.words for part in free) or free != list(self.parts[-len(free) :]):
            return False
        there = [[part in said for part in free] for said in self.values]
        return all(some == sorted(some, reverse=True) for some in there)


def aligned(
    statements: Sequence[Keys], kind_of: Callable[[str], str], tells: Callable[[str, str], bool]
) -> Aligned | str:
    """Return statements as one row of parts, or why that cannot be.

    `kind_of`: of what kind a word is by itself, '' if of none; `tells`: whether a word tells what
    follows it, and that may be it.
    """
    leading = _leading(statements, tells)
    values = []
    for words in statements:
        parts = list(_parts(words, kind_of, leading))
        if len({part for part, _ in parts}) < len(parts):
            return "it says the same twice in one line"
        values.append(dict(parts))
    order = _order([list(said) for said in values])
    if order is None:
        return "its values stand in several orders"
    always = frozenset(part for part in order if all(part in said for said in values))
    return Aligned(tuple(order), always, tuple(values))


def _leading(statements: Sequence[Keys], tells: Callable[[str, str], bool]) -> set[str]:
    """Return the words that announce what follows, if that mostly fits."""
    behind: dict[str, list[bool]] = {}
    for words in statements:
        for word, value in pairwise(words):
            behind.setdefault(word, []).append(tells(word, value))
    return {word for word, fits in behind.items() if any(fits) and 2 * sum(fits) >= len(fits)}


def _parts(
    words: Keys, kind_of: Callable[[str], str], leading: set[str]
) -> Iterator[tuple[StatementPart, str]]:
    before: list[str] = []
    for word in words:
        kind = "told" if before and before[-1] in leading else kind_of(word)
        if kind:
            yield StatementPart(tuple(before), kind), word
            before = []
        else:
            before.append(word)
    if before:
        yield StatementPart(tuple(before), ""), ""


def _order(rows: Sequence[Sequence[StatementPart]]) -> list[StatementPart] | None:
    """Return all parts in an order that each row keeps; None if there is none."""
    after: dict[StatementPart, set[StatementPart]] = {}
    for row in rows:
        for n, part in enumerate(row):
            after.setdefault(part, set()).update(row[n + 1 :])
    out: list[StatementPart] = []
    left = list(after)
    while left:
        first = next((p for p in left if not any(p in after[other] for other in left)), None)
        if first is None:
            return None
        out.append(first)
        left.remove(first)
    return out
