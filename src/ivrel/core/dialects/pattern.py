"""Patterns: one line of a dialect that reads a statement into values and writes values as a
statement.

A pattern is words and slots: `send {destination.address} {destination.transport}
{destination.port}`. `[…]` may be left out; `{stamp.year=shown:year}` is the word `year`, which
means that the year is shown.

>>> p = compile_pattern("stamp {stamp.kind} [{stamp.year=shown:year}]", "", str.split, {})
>>> p.read((), ("stamp", "calendar", "year"))
(('stamp.kind', 'calendar'), ('stamp.year', 'shown'))
>>> p.write({"stamp.kind": "uptime", "stamp.year": "hidden"}.get)
((), ('stamp', 'uptime'))
"""

from __future__ import annotations

import re
from collections.abc import Callable, Container, Iterator, Mapping, Sequence

from msgspec import Struct
from msgspec.structs import force_setattr

from ivrel.core.dialects.slots import SLOTS, table_of, unknown_slot
from ivrel.core.vocabulary.values import Value
from ivrel.core.vocabulary.wording import not_one_of

Words = tuple[str, ...]
Path = tuple[Words, ...]
Fields = tuple[tuple[str, Value], ...]
Spelling = Mapping[str, Mapping[str, Sequence[str]]]

MANY = 1 << 30  # more words than any statement has

_SLOT = re.compile(r"\{([^{}=:]*)(?:=([^{}=:]*):([^{}:=,\s]+))?\}")
_WRONG_SLOT = re.compile(r"\{[^{}]*\}")
_MARK = re.compile("[\ue000-\uefff]")


class Literal(Struct, frozen=True):
    """A word that stands as it is."""

    word: str


class Variable(Struct, frozen=True):
    """One word that carries a slot's value; `spelled` maps values to this platform's words for
    them.

    `qualified`: whether a word that is spelled may bear the name of the module that defines it, as
    identities do (RFC 7951 section 6.8; as a prefix in XML, RFC 7950 section 9.10.3).
    """

    slot: str
    spelled: Mapping[str, str] | None
    values: Mapping[str, str] | None
    qualified: bool = False

    def decode(self, word: str) -> Value | None:
        """The value that a word means; None if it means none."""
        if self.values is not None:
            value = self.values.get(word)
            if value is None and self.qualified:
                value = self.values.get(word.rpartition(":")[2])
            if value is None:
                return None
            word = value
        try:
            return SLOTS[self.slot].type.parse(word)
        except ValueError:
            return None

    def encode(self, value: Value) -> str | None:
        """The word for a value; None if this platform has none."""
        return str(value) if self.spelled is None else self.spelled.get(str(value))


class Flag(Struct, frozen=True):
    """A word that stands exactly when a slot has one certain value."""

    slot: str
    value: str
    word: str


class Maybe(Struct, frozen=True):
    """What may be left out."""

    items: tuple[Item, ...]


class Rest(Struct, frozen=True):
    """Whatever words follow."""


class Any(Struct, frozen=True):
    """One word, whatever it is; such a pattern reads and does not write."""


Item = Any | Rest | Literal | Variable | Flag | Maybe
Get = Callable[[str], Value | None]


class Pattern(Struct, frozen=True):
    """A compiled pattern: the enclosing path and the statement, both as items.

    `opening`: the words that the statement begins with whatever its values are; `stem`: all up to
    its first value that does not tell rows apart; `removal`: what names it when it is removed.
    `own_slots`: those of the statement itself, its headers aside; `table`: whose rows the pattern
    reads and writes, '' for single values.
    """

    path: tuple[tuple[Item, ...], ...]
    items: tuple[Item, ...]
    slots: tuple[str, ...]
    removal: tuple[Item, ...]
    opening: Words = ()
    line: int = 0
    stem: tuple[Item, ...] = ()

    own_slots: tuple[str, ...] = ()
    table: str = ""

    def __post_init__(self) -> None:
        own = (i.slot for i in _flat(self.items) if isinstance(i, Variable | Flag))
        force_setattr(self, "own_slots", tuple(dict.fromkeys(own)))
        force_setattr(self, "table", table_of(self.slots[-1]) if self.slots else "")

    def read(self, path: Path, words: Words) -> Fields | None:
        """The values that a statement carries; None if the pattern does not fit it."""
        above = self.read_path(path)
        own = None if above is None else self.read_words(words)
        return None if above is None or own is None else (*above, *own)

    def read_path(self, path: Path) -> Fields | None:
        """The values that the enclosing path carries."""
        if len(path) != len(self.path):
            return None
        fields: list[tuple[str, Value]] = []
        for items, header in zip(self.path, path, strict=True):
            found = _match(items, header, 0)
            if found is None:
                return None
            fields += found
        return tuple(fields)

    def read_words(self, words: Words) -> Fields | None:
        """The values that the statement itself carries."""
        found = _match(self.items, words, 0)
        return None if found is None else tuple(found)

    def leads(self, path: Path, words: Words) -> bool:
        """Whether these words are a header that the pattern stands below."""
        if len(self.path) <= len(path):
            return False
        found = (
            _match(items, header, 0)
            for items, header in zip(self.path, (*path, words), strict=False)
        )
        return all(fields is not None for fields in found)

    def begins(self, path: Path, words: Words) -> bool:
        """Whether a statement begins as the pattern does, or stands in a block that does."""
        whole = (*path, words)
        if len(whole) <= len(self.path):
            return False
        for items, header in zip(self.path, path, strict=False):
            if _match(items, header, 0) is None:
                return False
        return _match((*self.items, Rest()), whole[len(self.path)], 0) is not None

    def write(self, get: Get, said: Get | None = None) -> tuple[Path, Words] | None:
        """The statement for the values that `get` gives; None if one of them has no word here.

        What may be left out is written if `said` gives its value: of that alone which is not a
        default.
        """
        path = self.write_path(get)
        words = _write(self.items, get, said or get)
        return None if path is None or words is None else (path, tuple(words))

    def write_path(self, get: Get, standing: Mapping[str, str] = {}) -> Path | None:
        """The enclosing path alone."""
        path = [_write(items, get, get, standing) for items in self.path]
        return None if None in path else tuple(tuple(words or ()) for words in path)

    def write_removal(self, get: Get, standing: Mapping[str, str]) -> Words | None:
        """The words by which the statement is named when it is removed.

        `standing`: the words of the slots as they stand in the text, which may spell a value in
        another way than it would be written.
        """
        words = _write(self.removal, get, get, standing)
        return None if words is None else tuple(words)

    def standing(self, path: Path, words: Words) -> dict[str, str]:
        """The words that carry the slots of a statement that the pattern fits, as they stand
        there.
        """
        out: dict[str, str] = {}
        for items, said in zip((*self.path, self.items), (*path, words), strict=True):
            out |= _match_words(items, said, 0) or {}
        return out

    @property
    def header(self) -> Pattern:
        """The outermost header as a pattern of its own."""
        return Pattern((), self.path[0], (), (), _opening(self.path[0]))

    def naming(self, path: Path, words: Words, keys: Container[str]) -> Fields:
        """The keys that a statement's place gives, if it stands where the pattern's rows are
        named.
        """
        if not self.path:
            last = max(
                (n for n, i in enumerate(self.items) if isinstance(i, Variable) and i.slot in keys),
                default=-1,
            )
            return tuple(_match((*self.items[: last + 1], Rest()), words, 0) or ())
        headers = [
            n for n, items in enumerate(self.path) if any(isinstance(i, Variable) for i in items)
        ]
        whole = (*path, words)[: headers[-1] + 1 if headers else 1]
        if not headers or len(whole) <= headers[-1]:
            return ()
        found = [_match(items, header, 0) for items, header in zip(self.path, whole, strict=False)]
        return () if None in found else tuple(field for fields in found for field in fields or ())

    def alike(self, words: Words) -> bool:
        """Whether a statement begins as the pattern does, up to the first value that tells no rows
        apart.
        """
        return bool(self.stem) and _match((*self.stem, Rest()), words, 0) is not None

    def variable(self, slot: str) -> Variable | None:
        """The item that carries a slot, if it is no flag."""
        every = [*self.items, *(item for items in self.path for item in items)]
        return next((i for i in _flat(every) if isinstance(i, Variable) and i.slot == slot), None)

    def before(self, slot: str) -> str:
        """The word that stands right before a slot's value; '' if none does."""
        at = next(
            (n for n, i in enumerate(self.items) if isinstance(i, Variable) and i.slot == slot), 0
        )
        item = self.items[at - 1] if at else None
        return item.word if isinstance(item, Literal) else ""

    def can_write(self, slot: str, value: Value) -> bool:
        """Whether the statement can carry this value of a slot."""
        every = [*self.items, *(item for items in self.path for item in items)]
        return any(
            isinstance(item, Flag) or item.encode(value) is not None
            for item in _flat(every)
            if isinstance(item, Variable | Flag) and item.slot == slot
        )


def compile_pattern(
    says: str | Sequence[str],
    inside: str,
    split: Callable[[str], Sequence[str]],
    spelling: Spelling,
    *,
    keys: Sequence[str] = (),
    removed_by: str | None = None,
    line: int = 0,
    qualified: bool = False,
) -> Pattern:
    """Compiles the text of a pattern; ValueError tells what is wrong with it.

    `split` cuts a line into words as the dialect's shape does; `inside` is the enclosing path, its
    headers divided by '/'; `keys` are the slots that tell rows apart.
    """

    def compiled(text: str) -> tuple[Item, ...]:
        return _items(text, split, spelling, qualified)

    path = tuple(compiled(part.strip()) for part in inside.split("/")) if inside else ()
    items = compiled(str(says))
    slots = tuple(
        dict.fromkeys(
            i.slot for part in (*path, items) for i in _flat(part) if isinstance(i, Variable | Flag)
        )
    )
    removal = compiled(removed_by) if removed_by else _named_by(items, keys)
    return Pattern(path, items, slots, removal, _opening(items), line, _named_by(items, keys))


def _opening(items: tuple[Item, ...]) -> Words:
    """The words that a statement begins with whatever its values are."""
    out: list[str] = []
    for item in items:
        if not isinstance(item, Literal):
            break
        out.append(item.word)
    return tuple(out)


class Outline(Struct, frozen=True):
    """What every statement of a pattern has in common: words at certain places; the least and most
    words.

    `values`: where each value stands, if nothing may be left out.
    """

    fixed: tuple[tuple[int, str], ...]
    least: int
    most: int
    values: tuple[tuple[int, Variable | Flag], ...] | None


def outline(items: Sequence[Item]) -> Outline:
    """The outline of a pattern's statement."""
    fixed: list[tuple[int, str]] = []
    values: list[tuple[int, Variable | Flag]] = []
    least, most, certain = 0, 0, True
    for item in items:
        if isinstance(item, Rest):
            return Outline(tuple(fixed), least, MANY, None)
        if isinstance(item, Maybe):
            certain = False
            most += outline(item.items).most
            continue
        if certain and isinstance(item, Literal | Flag):
            fixed.append((least, item.word))
        if isinstance(item, Variable | Flag):
            values.append((least, item))
        least, most = least + 1, most + 1
    return Outline(tuple(fixed), least, most, tuple(values) if certain else None)


def _named_by(items: tuple[Item, ...], keys: Sequence[str]) -> tuple[Item, ...]:
    """All up to the first value that is no key: what is left when the value is."""
    out: list[Item] = []
    for item in items:
        if isinstance(item, Variable) and item.slot in keys:
            out.append(item)
        elif isinstance(item, Literal):
            if item.word != "=":
                out.append(item)
        else:
            break
    return tuple(out)


def _items(
    text: str, split: Callable[[str], Sequence[str]], spelling: Spelling, qualified: bool
) -> tuple[Item, ...]:
    held: list[Item] = []

    def hold(match: re.Match[str]) -> str:
        name, value, word = (part and part.strip() for part in match.groups())
        if name == "any":
            held.append(Any())
            return chr(0xE000 + len(held) - 1)
        if name not in SLOTS:
            raise ValueError(f"slot {unknown_slot(name or '')}")
        kind = SLOTS[name].type
        if value is not None:
            if kind.choices and value not in kind.choices:
                raise ValueError(f"value {not_one_of(value, kind.choices)}")
            held.append(Flag(name, value, word or ""))
        else:
            words = spelling.get(name) or spelling.get(kind.name)
            spelled = {value: said[0] for value, said in words.items()} if words else None
            back = (
                {word: value for value, said in words.items() for word in said} if words else None
            )
            held.append(Variable(name, spelled, back, qualified))
        return chr(0xE000 + len(held) - 1)

    marked = _SLOT.sub(hold, text)
    if "{" in marked or "}" in marked:
        wrong = _WRONG_SLOT.search(marked)
        if wrong is None:
            raise ValueError(f"a brace in '{text}' has no partner; slots are written {{name}}")
        raise ValueError(
            f"'{wrong[0]}' is no slot; expected {{name}}, or {{name=value:word}} with one word"
        )
    words: list[str] = []
    for piece in re.split(r"([\[\]])", marked):
        words += [piece] if piece in ("[", "]") else split(piece)
    stack: list[list[Item]] = [[]]
    for word in words:
        if word == "[":
            stack.append([])
        elif word == "]":
            if len(stack) == 1:
                raise ValueError(f"']' in '{text}' without '['")
            inner = tuple(stack.pop())
            stack[-1].append(Maybe(inner))
        elif len(word) == 1 and _MARK.match(word):
            stack[-1].append(held[ord(word) - 0xE000])
        elif _MARK.search(word):
            raise ValueError(f"a slot in '{text}' is only a part of a word; a slot is a whole word")
        else:
            stack[-1].append(Literal(word))
    if len(stack) > 1:
        raise ValueError(f"'[' in '{text}' without ']'")
    return tuple(stack[0])


def _flat(items: Sequence[Item]) -> Iterator[Any | Rest | Literal | Variable | Flag]:
    for item in items:
        if isinstance(item, Maybe):
            yield from _flat(item.items)
        else:
            yield item


def _match_words(items: tuple[Item, ...], words: Words, at: int) -> dict[str, str] | None:
    """The words that carry the slots, if all words from `at` on match as in `_match`."""
    for n, item in enumerate(items):
        rest = items[n + 1 :]
        if isinstance(item, Rest):
            return {}
        if isinstance(item, Maybe):
            taken = _match_words(item.items + rest, words, at)
            return taken if taken is not None else _match_words(rest, words, at)
        if at >= len(words) or (isinstance(item, Literal | Flag) and words[at] != item.word):
            return None
        if isinstance(item, Variable):
            following = (
                None if item.decode(words[at]) is None else _match_words(rest, words, at + 1)
            )
            return None if following is None else {item.slot: words[at], **following}
        at += 1
    return {} if at == len(words) else None


def _match(items: tuple[Item, ...], words: Words, at: int) -> list[tuple[str, Value]] | None:
    """Matches all words from `at` on; an optional part is taken if what follows then still fits."""
    for n, item in enumerate(items):
        if isinstance(item, Rest):
            return []
        if isinstance(item, Maybe):
            rest = items[n + 1 :]
            taken = _match(item.items + rest, words, at)
            return taken if taken is not None else _match(rest, words, at)
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
            following = _match(items[n + 1 :], words, at + 1)
            return None if following is None else [(item.slot, item.value), *following]
        else:
            value = item.decode(words[at])
            if value is None:
                return None
            following = _match(items[n + 1 :], words, at + 1)
            return None if following is None else [(item.slot, value), *following]
        at += 1
    return [] if at == len(words) else None


def _write(
    items: Sequence[Item], get: Get, said: Get, standing: Mapping[str, str] = {}
) -> list[str] | None:
    out: list[str] = []
    for item in items:
        if isinstance(item, Rest):
            continue
        if isinstance(item, Any):
            return None
        if isinstance(item, Literal):
            out.append(item.word)
        elif isinstance(item, Maybe):
            out += _write(item.items, said, said, standing) or []
        elif isinstance(item, Variable) and item.slot in standing:
            out.append(standing[item.slot])
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
