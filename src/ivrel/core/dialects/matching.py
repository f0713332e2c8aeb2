"""Matching: which pattern of a dialect understands a statement, and what one that none understands may bear on."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Sequence
from functools import lru_cache

from msgspec import Struct

from ivrel.core.dialects.dialect import Dialect
from ivrel.core.dialects.pattern import (
    Any,
    Fields,
    Flag,
    Item,
    Literal,
    Outline,
    Path,
    Pattern,
    Variable,
    Words,
    outline,
)
from ivrel.core.dialects.shapes import Found
from ivrel.core.dialects.shapes.base import LONGEST, decode
from ivrel.core.dialects.slots import SLOTS, Value
from ivrel.core.form import shorten
from ivrel.core.mistakes import Foreign, Unreadable

Key = tuple[Value, ...]

# Tables that are looked up only when a check asks for them: they are long and seldom needed.
LAZY = ("interface", "gate")

# The field of a row of a lazy table that holds a statement of it that no pattern understands.
DOUBT = "?"

# Words behind which secrets stand.
_SECRETS = re.compile(
    r"secret|passw|passphrase|watchword|credential|token|community|cipher|digest|hash|private|pre-?shared|psk|"
    r"\bkeys?\b|[-_.]key\b|\bpin\b",
    re.IGNORECASE,
)


def masked(text: str, most: int = 120) -> str:
    """A statement as it may be shown: in short, and without what stands behind a word for secrets."""
    found = _SECRETS.search(text)
    if found is None:
        return shorten(text, most)
    word_ends = re.compile(r"[\s=:.\"'(\[{<>]|$").search(text, found.end())
    return shorten(text[: word_ends.start() if word_ends else found.end()], most) + " …"


class Stray(Struct, frozen=True):
    """A statement of the export part that no pattern understands, and the settings that it may bear on.

    `text` is '' where it is not certain that the statement concerns export: then it must not be shown. `row`: the row
    of a table whose header it stands in, and with which it goes.
    """

    line: int
    text: str
    bears_on: tuple[str, ...]
    row: tuple[str, Key] | None = None


class Unmatched(Struct, frozen=True):
    """What is known of a statement that no pattern understands: what it may bear on, and whether to show it."""

    bears_on: tuple[str, ...]
    shown: bool = True


class Match(Struct, frozen=True):
    """A statement that a pattern understood, or (-1) one that does no more than name a row.

    `named`: the fields that tell the row apart; `many`: those that add to a list; `fields`: all others;
    `silent`: those that the pattern could carry and the statement does not.
    """

    pattern: int
    table: str
    key: Key
    named: Fields
    fields: Fields
    many: Fields
    silent: tuple[str, ...]
    path: Path
    words: Words


Mark = tuple[Match, int]  # a statement that was understood, and its line


class _Layout(Struct, frozen=True):
    """Which of a statement's values are what in its match, by their places; `key`: None where one is not said."""

    table: str
    key: tuple[int | None, ...]
    named: tuple[int, ...]
    rest: tuple[int, ...]
    many: tuple[int, ...]
    silent: tuple[str, ...]


@lru_cache(maxsize=64)
def matcher(dialect: Dialect) -> Matcher:
    """The matcher of a dialect, made once."""
    return Matcher(dialect)


class Matcher:
    """Finds the pattern of a statement; remembers what it saw, for fleets repeat themselves."""

    MOST = 50_000  # statements remembered

    def __init__(self, dialect: Dialect) -> None:
        self.dialect = dialect
        self.grammar = dialect.grammar
        self.keys = frozenset(slot for slots in dialect.keys.values() for slot in slots)
        self._carrying: dict[str, frozenset[int]] = {}
        self._seen: dict[tuple[Path, bytes], Match | Unmatched | None] = {}
        self._fitting: dict[tuple[int, str, int], list[tuple[int, Pattern, Outline]]] = {}
        self._paths: dict[tuple[int, Path], Fields | None] = {}
        self._layouts: dict[tuple[int, tuple[str, ...]], _Layout] = {}
        self._by_opening: dict[tuple[int, str], list[tuple[int, Pattern]]] = {}
        for number, pattern in enumerate(dialect.patterns):
            self._by_opening.setdefault((len(pattern.path), _first(pattern)), []).append((number, pattern))
        self._lazy = [p for p in dialect.patterns if p.table in LAZY]
        self._eager = [p for p in dialect.patterns if p.table not in LAZY]
        self._asked: dict[frozenset[str], tuple[Words, ...]] = {}
        self.heads = tuple(dict.fromkeys(_head(p) for p in self._eager if _bearing_on(p)))
        self.idle_heads = tuple(dict.fromkeys(_head(p) for p in dialect.patterns if _head(p) not in self.heads))
        # Behind these words stands the name of a row, so that one row can be looked up by it.
        self.named_heads = {_head(p) for p in self._lazy if _is_named(p, self.keys)}
        # The slots of other tables whose values are names of rows of a lazy one, with their tables.
        own = {(p.table, slot) for p in dialect.patterns for slot in p.own_slots}
        self.naming = {t: sorted(at for at in own if at[1].endswith((f".source-{t}", f"source.{t}"))) for t in LAZY}
        # For a slot, the first words of its statements and the words right before its value.
        self._near: dict[str, tuple[tuple[Words, ...], frozenset[bytes]]] = {}
        self.lazy_heads = {t: tuple(dict.fromkeys(_head(p) for p in self._lazy if p.table == t)) for t in LAZY}
        described = {SLOTS[slot].bears_on[0] for slot in dialect.slots if SLOTS[slot].bears_on}
        every = dict.fromkeys(setting for slot in SLOTS.values() for setting in slot.bears_on)
        # The settings that no statement of this dialect is about: what is not understood may be about them.
        self._lacking = tuple(setting for setting in every if setting not in described)

    def read(self, data: bytes, settings: frozenset[str] | None = None) -> tuple[list[Mark], tuple[Stray, ...]]:
        """What is understood of a configuration, and what is not; Foreign if nothing is of this platform."""
        strays: list[Stray] = []
        heads = self.heads if settings is None else self._heads_for(settings)
        marks: list[Mark] = []
        known = self._collect(self.grammar.scan(data, heads, self.dialect.style), marks, strays)
        others = [head for head in (*self.heads, *self.idle_heads) if head not in heads]
        if not known and not self._collect(self.grammar.scan(data, others, self.dialect.style), [], []):
            raise Foreign(f"none of the statements of {self.dialect.name} occur in it")
        return marks, tuple(strays)

    def _heads_for(self, settings: frozenset[str]) -> tuple[Words, ...]:
        """The first words of what bears on any of these settings."""
        if settings not in self._asked:
            lacking = settings & set(self._lacking)
            eager = [p for p in self._eager if lacking or settings & set(_bearing_on(p))]
            self._asked[settings] = tuple(dict.fromkeys(_head(p) for p in eager if _bearing_on(p)))
        return self._asked[settings]

    def understood(self, data: bytes) -> int:
        """How many statements of a text this platform understands."""
        try:
            found = self.grammar.scan(data, (*self.heads, *self.idle_heads), self.dialect.style)
            return sum(1 for path, raw, _ in found if isinstance(self.match(path, raw), Match))
        except Unreadable:
            return 0

    def explained(self, data: bytes) -> Iterator[tuple[int, str, Match | Unmatched | None]]:
        """The statements of all known parts: line, text ('' if it must not be shown), and what is known of it."""
        for path, raw, line in self.grammar.scan(data, (*self.heads, *self.idle_heads), self.dialect.style):
            match = self.match(path, raw)
            text = decode(raw[:LONGEST])
            if match is None:
                # The header of a block that the dialect knows is its own words; what stands aside may be anything.
                shown = self.is_header(path, tuple(self.grammar.split(text)))
            else:
                shown = match.pattern >= 0 if isinstance(match, Match) else match.shown
            if isinstance(match, Match) and shown:
                yield line, shorten(text, LONGEST), match
            else:
                yield line, masked(text, LONGEST) if shown else "", match

    def lookup(self, data: bytes, table: str, keys: Sequence[Value] | None) -> list[Mark]:
        """The statements of a lazy table; with `keys`, only those of these names.

        One that begins as a pattern of the table does and is not understood makes its row doubtful.
        """
        heads = self.lazy_heads[table]
        if keys is not None:
            named = [[(*head, str(k)) for k in keys] if head in self.named_heads else [head] for head in heads]
            heads = tuple(head for some in named for head in some)
        marks: list[Mark] = []
        for path, raw, line in self.grammar.scan(data, heads, self.dialect.style):
            match = self._known(path, raw)
            if isinstance(match, Match):
                if match.table == table:
                    marks.append((match, line))
            elif match is not None:
                doubt = self._doubtful_row(table, path, raw)
                if doubt is not None:
                    marks.append((doubt, line))
        return marks

    def _doubtful_row(self, table: str, path: Path, raw: bytes) -> Match | None:
        """The row of a lazy table that a statement which is not understood is about."""
        words = tuple(self.grammar.split(decode(raw[:LONGEST])))
        for pattern in self._lazy:
            if pattern.table != table or not words:
                continue
            if pattern.path:
                fields = pattern.read_path(path) if pattern.alike(words) else None
                fields = None if fields is None else tuple(f for f in fields if f[0] in self.keys)
            else:
                fields = pattern.naming(path, words, self.keys)
                if not fields or not pattern.alike(words):
                    fields = None
            if fields:
                key = tuple(value for _, value in fields)
                return Match(-1, table, key, fields, ((DOUBT, masked(decode(raw))),), (), (), path, words)
        return None

    def keys_near(self, data: bytes, slot: str, value: Value) -> Iterator[Value]:
        """The keys of rows that say a value in its usual spelling: a quick look that may miss some."""
        patterns = [p for p in self.dialect.patterns if slot in p.slots]
        if slot not in self._near:
            heads = tuple(dict.fromkeys(_head(p) for p in patterns))
            self._near[slot] = heads, frozenset(p.before(slot).encode() for p in patterns)
        heads, behind = self._near[slot]
        for path, raw, _ in self.grammar.holding(data, str(value).encode(), heads, self.dialect.style, behind):
            words = tuple(self.grammar.split(decode(raw)))
            for fields in filter(None, (p.read(path, words) for p in patterns)):
                got = dict(fields)
                if got[slot] == value:
                    yield got[self.dialect.keys[patterns[0].table][0]]

    def _known(self, path: Path, raw: bytes) -> Match | Unmatched | None:
        """What is known of a statement, from what was seen before if it was."""
        try:
            return self._seen[path, raw]
        except KeyError:
            match = self.match(path, raw)
            if len(self._seen) < self.MOST:
                self._seen[path, raw] = match
            return match

    def _collect(self, found: Iterable[Found], marks: list[Mark], strays: list[Stray]) -> bool:
        """Gathers what is understood and what is not; says whether anything is of this platform."""
        known = False
        seen = self._seen
        for path, raw, line in found:
            try:
                match = seen[path, raw]
            except KeyError:
                match = self._known(path, raw)
            if match is None:
                known = True
            elif isinstance(match, Match):
                marks.append((match, line))
            elif match.bears_on:
                text = masked(decode(raw)) if match.shown else ""
                strays.append(Stray(line, text, match.bears_on, self._row_of(path)))
        return known or bool(marks)

    def _row_of(self, path: Path) -> tuple[str, Key] | None:
        """The row that the innermost header names, where a statement of its own names it."""
        header = self.find(path[:-1], path[-1]) if path else None
        return (header.table, header.key) if header is not None and header.table else None

    def carrying(self, slot: str) -> frozenset[int]:
        """The patterns that carry a slot."""
        if slot not in self._carrying:
            every = enumerate(self.dialect.patterns)
            self._carrying[slot] = frozenset(number for number, pattern in every if slot in pattern.slots)
        return self._carrying[slot]

    def match(self, path: Path, raw: bytes) -> Match | Unmatched | None:
        """The match of a statement; None if it bears on nothing; else what it may bear on."""
        words = tuple(self.grammar.split(decode(raw[:LONGEST])))
        if not words:
            return None
        if len(raw) <= LONGEST:
            found = self.find(path, words)
            if found:
                return found
        if any(pattern.begins(path, words) for pattern in self.dialect.aside):
            return None
        named = self._naming(path, words)
        if named and not self._is_doubtful(path, words):
            return named
        if self.is_header(path, words):
            return None
        return self._bearing(path, words)

    def _is_doubtful(self, path: Path, words: Words) -> bool:
        """Whether a statement in a row of a lazy table begins as one that this dialect knows."""
        for p in self._lazy:
            if p.path:
                if p.alike(words) and p.read_path(path) is not None:
                    return True
            elif not path and p.alike(words):
                return True
        return False

    def find(self, path: Path, words: Words) -> Match | None:
        """The match of a statement, if a pattern understands it."""
        for first in (words[0], ""):
            for number, pattern, form in self._of_length(len(path), first, len(words)):
                for at, word in form.fixed:
                    if words[at] != word:
                        break
                else:
                    fields = self._read(number, pattern, form, path, words)
                    if fields is not None:
                        return self._match(number, pattern, fields, path, words)
        return None

    def _read(self, number: int, pattern: Pattern, form: Outline, path: Path, words: Words) -> Fields | None:
        """What the pattern reads, quickly: a path is read once, and values are taken from where they stand."""
        at = number, path
        if at not in self._paths:
            if len(self._paths) >= self.MOST:
                self._paths.clear()
            self._paths[at] = pattern.read_path(path)
        above = self._paths[at]
        if above is None:
            return None
        if form.values is None:
            own = pattern.read_words(words)
            return None if own is None else (*above, *own)
        out = list(above)
        for place, item in form.values:
            value = item.decode(words[place]) if isinstance(item, Variable) else item.value
            if value is None:
                return None
            out.append((item.slot, value))
        return tuple(out)

    def _match(self, number: int, pattern: Pattern, fields: Fields, path: Path, words: Words) -> Match:
        slots = tuple([slot for slot, _ in fields])
        layout = self._layouts.get((number, slots))
        if layout is None:
            layout = self._layouts[number, slots] = self._laid_out(pattern, slots)
        key = tuple(["" if n is None else fields[n][1] for n in layout.key])
        named, rest, many = ([fields[n] for n in some] for some in (layout.named, layout.rest, layout.many))
        return Match(number, layout.table, key, tuple(named), tuple(rest), tuple(many), layout.silent, path, words)

    def _laid_out(self, pattern: Pattern, slots: tuple[str, ...]) -> _Layout:
        last = {slot: n for n, slot in enumerate(slots)}
        named = tuple(n for n, slot in enumerate(slots) if slot in self.keys)
        many = tuple(n for n, slot in enumerate(slots) if SLOTS[slot].many)
        rest = tuple(n for n in range(len(slots)) if n not in named and n not in many)
        key = tuple(last.get(slot) for slot in self.dialect.keys.get(pattern.table, ()))
        silent = tuple(slot for slot in pattern.slots if slot not in last)
        return _Layout(pattern.table, key, named, rest, many, silent)

    def _of_length(self, depth: int, first: str, length: int) -> list[tuple[int, Pattern, Outline]]:
        """The patterns of a first word that so many words can fit, with their outlines."""
        at = depth, first, length
        if at not in self._fitting:
            self._fitting[at] = [
                (number, pattern, form)
                for number, pattern in self._by_opening.get((depth, first), ())
                for form in [outline(pattern.items)]
                if form.least <= length <= form.most
            ]
        return self._fitting[at]

    def _naming(self, path: Path, words: Words) -> Match | None:
        """A statement that says nothing known, but stands where a row of a lazy table is named."""
        for pattern in self._lazy:
            fields = pattern.naming(path, words, self.keys)
            if fields:
                key = tuple(value for _, value in fields)
                return Match(-1, pattern.table, key, fields, (), (), (), path, words)
        return None

    def is_header(self, path: Path, words: Words) -> bool:
        """Whether a statement without inside is the header of a block that could have one."""
        return any(p.leads(path, words) for p in self.dialect.patterns)

    def identity(self, path: Path, words: Words) -> object:
        """Two statements of one identity cannot stand beside each other: the later replaces the earlier."""
        match = self.find(path, words) if words else None
        if match is None or match.many:
            return path, words
        return self.dialect.groups[match.pattern], match.key

    def _is_near(self, path: Path, words: Words) -> bool:
        """Whether a statement of an open part begins as a pattern does, or stands in an inner block of one."""
        whole = (*path, words)
        for pattern in self.dialect.patterns:
            known = (*pattern.path, pattern.items)
            if len(known) > 1 and len(whole) > 1 and all(map(_opens_alike, known[:2], whole[:2])):
                return True
        return False

    def _bearing(self, path: Path, words: Words) -> Unmatched | None:
        """What a statement that is not understood may bear on; None if it is no part of what this dialect is about.

        That is what the patterns that begin alike bear on, or if none does, all those of the same block, down from
        the innermost one that the dialect knows; and what the dialect has no statement for.
        """
        if path and path[0][0] in self.dialect.open and not self._is_near(path, words):
            return None
        patterns = self.dialect.patterns
        if not path:
            here = [p for p in patterns if not p.path]
            beside = [p for p in patterns if p.path and _is_near_header(p.path[0], words)]
            alike = _alike(here, words)
            if alike or not beside:
                return self._unmatched(alike or here, shown=True)
            return self._unmatched(beside, shown=False)
        known = [(p, _depth(p, path)) for p in patterns if p.path]
        deepest = max((depth for _, depth in known), default=0)
        if not deepest:
            beside = [p for p, _ in known if _is_near_header(p.path[0], path[0])]
            return self._unmatched(beside, shown=False) if beside else None
        inside = [p for p, depth in known if depth == deepest]
        here = [p for p in inside if len(p.path) == len(path) == deepest]
        return self._unmatched(_alike(here, words) or inside, shown=True)

    def _unmatched(self, patterns: Sequence[Pattern], *, shown: bool) -> Unmatched:
        bears_on = dict.fromkeys(s for p in patterns for s in _bearing_on(p))
        tables = {p.table for p in patterns if _bearing_on(p)}
        if "" in tables:
            bears_on |= dict.fromkeys(self._lacking)
        else:
            of_tables = {s for slot in SLOTS.values() if slot.table in tables for s in slot.bears_on}
            bears_on |= dict.fromkeys(s for s in self._lacking if s in of_tables)
        return Unmatched(tuple(bears_on), shown)


def _alike(patterns: Sequence[Pattern], words: Words) -> list[Pattern]:
    """The patterns that begin as these words do, as far as any of them does."""
    alike: list[Pattern] = []
    longest = 1
    for pattern in patterns:
        same = 0
        while same < min(len(pattern.opening), len(words)) and pattern.opening[same] == words[same]:
            same += 1
        if same > longest:
            alike, longest = [pattern], same
        elif same == longest:
            alike.append(pattern)
    return alike


def _depth(pattern: Pattern, path: Path) -> int:
    """How many of the headers above a statement are those of a pattern."""
    depth = 0
    for items, header in zip(pattern.path, path, strict=False):
        if not _fits(items, header):
            break
        depth += 1
    return depth


def _fits(items: tuple[Item, ...], words: Words) -> bool:
    return Pattern((), items, (), ()).read_words(words) is not None


def _is_near_header(items: tuple[Item, ...], words: Words) -> bool:
    """Whether words begin as a header does, but for words that it does not know or that are too many."""
    if len(words) < len(items):
        return False
    return all(
        isinstance(item, Variable | Any) or (isinstance(item, Literal | Flag) and item.word == word)
        for item, word in zip(items, words, strict=False)
    ) and isinstance(items[0], Literal | Flag)


def _bearing_on(pattern: Pattern) -> tuple[str, ...]:
    """The settings that a pattern's values bear on; those of its headers only name what it stands in."""
    return tuple(dict.fromkeys(s for slot in pattern.own_slots for s in SLOTS[slot].bears_on))


def _opens_alike(items: tuple[Item, ...], words: Words) -> bool:
    first = items[0]
    return isinstance(first, Variable) or (isinstance(first, Literal | Flag) and first.word == words[0])


def _is_named(pattern: Pattern, keys: frozenset[str]) -> bool:
    items = pattern.path[0] if pattern.path else pattern.items
    return len(items) > 1 and isinstance(items[1], Variable) and items[1].slot in keys


def _first(pattern: Pattern) -> str:
    return pattern.opening[0] if pattern.opening else ""


def _head(pattern: Pattern) -> Words:
    """The word by which a pattern's part of the text is found."""
    return (pattern.header if pattern.path else pattern).opening[:1]
