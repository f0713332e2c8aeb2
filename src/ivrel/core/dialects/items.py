"""Items: the words and slots that a pattern is made of, and how they match words and write them."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence

from msgspec import Struct

from ivrel.core.dialects.slots import SLOTS
from ivrel.core.vocabulary.addresses import family_of
from ivrel.core.vocabulary.values import Value
from ivrel.core.vocabulary.wording import steers

Words = tuple[str, ...]


Path = tuple[Words, ...]


Fields = tuple[tuple[str, Value], ...]


Spelling = Mapping[str, Mapping[str, Sequence[str]]]


MANY = 1 << 30  # more words than any statement has


class Literal(Struct, frozen=True):
    """A fixed word."""

    word: str


class Variable(Struct, frozen=True):
    """One word that carries a slot's value.

    `spelled` maps values to this platform's words for them.

    `qualified`: whether a word that is spelled may bear the name of the module that defines it, as
    identities do (RFC 7951 section 6.8; as a prefix in XML, RFC 7950 section 9.10.3).

    `is_rest`: it carries all words that follow, in which blanks divide them.
    """

    slot: str
    spelled: Mapping[str, str] | None
    values: Mapping[str, str] | None
    qualified: bool = False
    family: str = ""
    is_rest: bool = False

    def decode(self, word: str) -> Value | None:
        """Return the value that a word means; None if it means none, as an empty one does."""
        if not word and not (self.values and word in self.values):
            return None
        if self.values is not None:
            value = self.values.get(word)
            if value is None and self.qualified:
                value = self.values.get(word.rpartition(":")[2])
            if value is None:
                return None
            word = value
        try:
            found = SLOTS[self.slot].type.parse(word)
        except ValueError:
            return None
        return found if self._is_of_family(str(found)) else None

    def _is_of_family(self, value: str) -> bool:
        """Whether a value is one that is here: of one address family, if that is said."""
        return not self.family or (family_of(value.partition("/")[0]) or "IPv4") == self.family

    def encode(self, value: Value) -> str | None:
        """Return the word for a value; None if this platform has none, or if it would steer what it
        is typed to.
        """
        said = str(value)
        if not self._is_of_family(said):
            return None
        word = said if self.spelled is None else self.spelled.get(said)
        return None if word is not None and steers(word) else word


class Flag(Struct, frozen=True):
    """A word that is there exactly if a slot has one certain value."""

    slot: str
    value: str
    word: str


class Implied(Struct, frozen=True):
    """A value that a statement means without a word for it, as `no export` means that it is off."""

    slot: str
    value: Value


class Maybe(Struct, frozen=True):
    """What may be left out."""

    items: tuple[Item, ...]


class Rest(Struct, frozen=True):
    """Whatever words follow."""


class Any(Struct, frozen=True):
    """One word, whatever it is; such a pattern reads and does not write."""


Item = Any | Rest | Literal | Variable | Flag | Implied | Maybe


Get = Callable[[str], Value | None]


class Outline(Struct, frozen=True):
    """What every statement of a pattern has in common: words at certain places.

    The least and most words.

    `values`: the place of each value, if nothing may be left out.
    """

    fixed: tuple[tuple[int, str], ...]
    least: int
    most: int
    values: tuple[tuple[int, Variable | Flag], ...] | None


def outline(items: Sequence[Item]) -> Outline:
    """Return the outline of a pattern's statement."""
    fixed: list[tuple[int, str]] = []
    values: list[tuple[int, Variable | Flag]] = []
    least = 0
    most = 0
    certain = True
    for item in items:
        if isinstance(item, Rest):
            return Outline(tuple(fixed), least, MANY, None)
        if isinstance(item, Maybe):
            # Behind an optional part, a value has no fixed place.
            certain = False
            most += outline(item.items).most
            continue
        if isinstance(item, Implied):
            certain = False  # it has no place
            continue
        if certain and isinstance(item, Literal | Flag):
            fixed.append((least, item.word))
        if isinstance(item, Variable) and item.is_rest:
            return Outline(tuple(fixed), least + 1, MANY, None)
        if isinstance(item, Variable | Flag):
            values.append((least, item))
        least = least + 1
        most = most + 1
    return Outline(tuple(fixed), least, most, tuple(values) if certain else None)


def flat(items: Sequence[Item]) -> Iterator[Any | Rest | Literal | Variable | Flag | Implied]:
    """Yield items with those of optional parts in their places."""
    for item in items:
        if isinstance(item, Maybe):
            yield from flat(item.items)
        else:
            yield item


def match_words(items: tuple[Item, ...], words: Words, at: int) -> dict[str, str] | None:
    """Return the words that carry the slots, if all words from `at` on match as in `match`."""
    for n, item in enumerate(items):
        rest = items[n + 1 :]
        if isinstance(item, Rest):
            return {}
        if isinstance(item, Maybe):
            # As in `match`: the part is left out only if the rest does not fit behind it.
            taken = match_words(item.items + rest, words, at)
            return taken if taken is not None else match_words(rest, words, at)
        if isinstance(item, Implied):
            continue
        if at >= len(words) or (isinstance(item, Literal | Flag) and words[at] != item.word):
            return None
        if isinstance(item, Variable):
            following = None if item.decode(words[at]) is None else match_words(rest, words, at + 1)
            return None if following is None else {item.slot: words[at], **following}
        at += 1
    return {} if at == len(words) else None


def match(items: tuple[Item, ...], words: Words, at: int) -> list[tuple[str, Value]] | None:
    """Match all words from `at` on; an optional part is taken if what follows then still fits."""
    for n, item in enumerate(items):
        if isinstance(item, Rest):
            return []
        if isinstance(item, Maybe):
            rest = items[n + 1 :]
            # Greedy, with a way back: the part is left out only if the rest does not fit behind it.
            taken = match(item.items + rest, words, at)
            return taken if taken is not None else match(rest, words, at)
        if isinstance(item, Implied):
            following = match(items[n + 1 :], words, at)
            return None if following is None else [(item.slot, item.value), *following]
        if at >= len(words):
            return None
        if isinstance(item, Any):
            pass
        elif isinstance(item, Literal):
            if words[at] != item.word:
                return None
        elif isinstance(item, Flag):
            if words[at] != item.word:
                return None
            following = match(items[n + 1 :], words, at + 1)
            return None if following is None else [(item.slot, item.value), *following]
        elif item.is_rest:
            value = item.decode(" ".join(words[at:]))
            return None if value is None else [(item.slot, value)]
        else:
            value = item.decode(words[at])
            if value is None:
                return None
            following = match(items[n + 1 :], words, at + 1)
            return None if following is None else [(item.slot, value), *following]
        at += 1
    return [] if at == len(words) else None


def write(
    items: Sequence[Item], get: Get, said: Get, standing: Mapping[str, str] = {}
) -> list[str] | None:
    """Return the words of items for values; None if one of them has no word here.

    `get` gives values; `said` those that are no defaults, for optional parts; `standing`: words
    that are in the text and are kept.
    """
    out: list[str] = []
    for item in items:
        if isinstance(item, Rest):
            continue
        # What was read as any word cannot be told again.
        if isinstance(item, Any):
            return None
        if isinstance(item, Literal):
            out.append(item.word)
        elif isinstance(item, Maybe):
            # An optional part is written only for what was said: a default would add words that
            # nobody asked for.
            out += write(item.items, said, said, standing) or []
        elif isinstance(item, Variable) and item.slot in standing:
            out.append(standing[item.slot])
        elif isinstance(item, Implied):
            if get(item.slot) != item.value:
                return None
        else:
            value = get(item.slot)
            word = None
            if isinstance(item, Variable):
                word = None if value is None else item.encode(value)
            elif value == item.value:
                word = item.word
            if word is None:
                return None
            out.append(word)
    return out


def opening(items: tuple[Item, ...]) -> Words:
    """Return the words that a statement begins with whatever its values are."""
    out: list[str] = []
    for item in items:
        if not isinstance(item, Literal):
            break
        out.append(item.word)
    return tuple(out)
