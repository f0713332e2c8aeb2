"""Patterns: one line of a dialect that reads a statement into values and writes values as a
statement.

A pattern is words and slots: `send {destination.address} {destination.transport}
{destination.port}`. `[…]` may be left out; `{stamp.year=shown:year}` is the word `year`, which
means that the year is shown.

>>> from ivrel.core.dialects.compile import compile_pattern
>>> p = compile_pattern("stamp {stamp.kind} [{stamp.year=shown:year}]", "", str.split, {})
>>> p.read((), ("stamp", "calendar", "year"))
(('stamp.kind', 'calendar'), ('stamp.year', 'shown'))
>>> p.write({"stamp.kind": "uptime", "stamp.year": "hidden"}.get)
((), ('stamp', 'uptime'))
"""

from __future__ import annotations

from collections.abc import Container, Iterator, Mapping

from msgspec import Struct
from msgspec.structs import force_setattr

from ivrel.core.dialects.items import (
    Any,
    Fields,
    Flag,
    Get,
    Implied,
    Item,
    Literal,
    Path,
    Rest,
    Variable,
    Words,
    flat,
    match,
    match_words,
    opening,
    write,
)
from ivrel.core.dialects.slots import table_of
from ivrel.core.vocabulary.values import Value


class Negated(Struct, frozen=True):
    """What a negated statement of a text leads to.

    `means`: the values that it means; `takes_back`: whether it takes back what stood before, so
    that the default holds; `by_rule`: whether only a rule for all statements says so. If neither
    is said, nobody knows what it leads to.
    """

    means: Fields = ()
    takes_back: bool = False
    by_rule: bool = False


UNKNOWN_NEGATED = Negated()


class Pattern(Struct, frozen=True):
    """A compiled pattern: the enclosing path and the statement, both as items.

    `opening`: the words that the statement begins with whatever its values are; `stem`: all up to
    its first value that does not tell rows apart; `removal`: what names it when it is removed.
    `own_slots`: those of the statement itself, its headers aside; `table`: whose rows the pattern
    reads and writes, '' for single values. `negated`: what its negation in a text leads to;
    `is_negation`: whether the pattern is itself the negation of another one.
    """

    path: tuple[tuple[Item, ...], ...]
    items: tuple[Item, ...]
    slots: tuple[str, ...]
    removal: tuple[Item, ...]
    opening: Words = ()
    line: int = 0
    stem: tuple[Item, ...] = ()
    negated: Negated = UNKNOWN_NEGATED
    is_negation: bool = False

    own_slots: tuple[str, ...] = ()
    table: str = ""

    def __post_init__(self) -> None:
        own = (i.slot for i in flat(self.items) if isinstance(i, Variable | Flag | Implied))
        # Both follow from the other fields; they are kept because the matcher asks for them at
        # every statement.
        force_setattr(self, "own_slots", tuple(dict.fromkeys(own)))
        force_setattr(self, "table", table_of(self.slots[-1]) if self.slots else "")

    def read(self, path: Path, words: Words) -> Fields | None:
        """Return the values that a statement carries; None if the pattern does not fit it."""
        above = self.read_path(path)
        own = None if above is None else self.read_words(words)
        return None if above is None or own is None else (*above, *own)

    def read_path(self, path: Path) -> Fields | None:
        """Return the values that the enclosing path carries."""
        return self.read_headers(path) if len(path) == len(self.path) else None

    def read_headers(self, headers: Path) -> Fields | None:
        """Return the values that headers carry, as far as both go; None if one does not fit."""
        fields: list[tuple[str, Value]] = []
        for items, header in zip(self.path, headers, strict=False):
            found = match(items, header, 0)
            if found is None:
                return None
            fields += found
        return tuple(fields)

    def read_words(self, words: Words) -> Fields | None:
        """Return the values that the statement itself carries."""
        found = match(self.items, words, 0)
        return None if found is None else tuple(found)

    def leads(self, path: Path, words: Words) -> bool:
        """Whether these words are a header that the pattern is below."""
        if len(self.path) <= len(path):
            return False
        found = (
            match(items, header, 0)
            for items, header in zip(self.path, (*path, words), strict=False)
        )
        return all(fields is not None for fields in found)

    def begins(self, path: Path, words: Words) -> bool:
        """Whether a statement begins as the pattern does, or is in a block that does."""
        whole = (*path, words)
        if len(whole) <= len(self.path):
            return False
        for items, header in zip(self.path, path, strict=False):
            if match(items, header, 0) is None:
                return False
        # The headers fit as far as they go; what follows must begin as the pattern does, and may go
        # on.
        return match((*self.items, Rest()), whole[len(self.path)], 0) is not None

    def write(self, get: Get, said: Get | None = None) -> tuple[Path, Words] | None:
        """Return the statement for the values that `get` gives.

        None if one of them has no word here.

        What may be left out is written if `said` gives its value: of that alone which is not a
        default.
        """
        path = self.write_path(get)
        words = write(self.items, get, said or get)
        return None if path is None or words is None else (path, tuple(words))

    def write_path(self, get: Get, standing: Mapping[str, str] = {}) -> Path | None:
        """Return the enclosing path alone."""
        # Headers name rows, so what they leave open is written with defaults, too.
        path = [write(items, get, get, standing) for items in self.path]
        return None if None in path else tuple(tuple(words or ()) for words in path)

    def write_removal(self, get: Get, said: Get, standing: Mapping[str, str]) -> Words | None:
        """Return the words that name the statement when it is removed.

        `said`: gives the values that the text says, for what may be left out; `standing`: the words
        of the slots as they are in the text, which may spell a value in another way than it would
        be written.
        """
        words = write(self.removal, get, said, standing)
        return None if words is None else tuple(words)

    def standing(self, path: Path, words: Words) -> dict[str, str]:
        """Return the words that carry the slots of a statement that the pattern fits, as they are
        there.
        """
        out: dict[str, str] = {}
        for items, said in zip((*self.path, self.items), (*path, words), strict=True):
            out |= match_words(items, said, 0) or {}
        return out

    def every_item(self) -> Iterator[Any | Rest | Literal | Variable | Flag | Implied]:
        """Yield the items of the headers and of the statement, with those of optional parts."""
        for items in (*self.path, self.items):
            yield from flat(items)

    @property
    def must(self) -> tuple[str, ...]:
        """The slots that every statement of the pattern says: those that cannot be left out."""
        every = (item for part in (*self.path, self.items) for item in part)
        return tuple(item.slot for item in every if isinstance(item, Variable))

    @property
    def header(self) -> Pattern:
        """The outermost header as a pattern of its own."""
        return Pattern((), self.path[0], (), (), opening(self.path[0]))

    def naming(self, path: Path, words: Words, keys: Container[str]) -> Fields:
        """Return the keys that a statement's place gives, if it is where the pattern's rows are
        named.
        """
        if not self.path:
            # Below no header, what names a row are the words up to its last key.
            last = max(
                (n for n, i in enumerate(self.items) if isinstance(i, Variable) and i.slot in keys),
                default=-1,
            )
            return tuple(match((*self.items[: last + 1], Rest()), words, 0) or ())
        headers = [
            n for n, items in enumerate(self.path) if any(isinstance(i, Variable) for i in items)
        ]
        # Below headers, the row is named by the innermost of them that carries a value.
        whole = (*path, words)[: headers[-1] + 1 if headers else 1]
        if not headers or len(whole) <= headers[-1]:
            return ()
        found = [match(items, header, 0) for items, header in zip(self.path, whole, strict=False)]
        return () if None in found else tuple(field for fields in found for field in fields or ())

    def alike(self, words: Words) -> bool:
        """Whether a statement begins as the pattern does, up to the first value that tells no rows
        apart.
        """
        return bool(self.stem) and match((*self.stem, Rest()), words, 0) is not None

    def variable(self, slot: str) -> Variable | None:
        """Return the item that carries a slot, if it is no flag."""
        every = [*self.items, *(item for items in self.path for item in items)]
        return next((i for i in flat(every) if isinstance(i, Variable) and i.slot == slot), None)

    def before(self, slot: str) -> str:
        """Return the word right before a slot's value; empty if none does."""
        at = next(
            (n for n, i in enumerate(self.items) if isinstance(i, Variable) and i.slot == slot), 0
        )
        item = self.items[at - 1] if at else None
        return item.word if isinstance(item, Literal) else ""

    def can_write(self, slot: str, value: Value) -> bool:
        """Whether the statement can carry this value of a slot."""
        every = [*self.items, *(item for items in self.path for item in items)]
        return any(
            _carries(item, value)
            for item in flat(every)
            if isinstance(item, Variable | Flag | Implied) and item.slot == slot
        )


def _carries(item: Variable | Flag | Implied, value: Value) -> bool:
    if isinstance(item, Implied):
        return item.value == value
    return isinstance(item, Flag) or item.encode(value) is not None
