"""Records: what a configuration says, as rows of tables that all platforms share.

Reading goes text → statements (the shape) → values (the patterns) → rows. Writing goes back: rows that
differ become the edits that turn the one text into the other.
"""

from __future__ import annotations

from collections.abc import Container, Iterable, Iterator, Mapping, Sequence
from functools import lru_cache

from msgspec import Struct

from ivrel.core.bundle import Places
from ivrel.core.dialects.dialect import Dialect
from ivrel.core.dialects.pattern import Fields, Item, Literal, Outline, Path, Pattern, Variable, Words, outline
from ivrel.core.dialects.shapes import Found
from ivrel.core.dialects.shapes.base import LONGEST, decode
from ivrel.core.dialects.slots import SLOTS, Value
from ivrel.core.form import shorten
from ivrel.core.mistakes import Foreign, Unreadable

Key = tuple[Value, ...]

# Tables that are looked up only when a check asks for them: they are long and seldom needed.
LAZY = ("interface", "gate")


class Said(Struct, frozen=True, gc=False):
    """A value and the lines that decide it; `default`: they leave it to the platform. Many are a tuple."""

    value: Value | tuple[Value, ...] | None
    lines: tuple[int, ...] = ()
    default: bool = False


Row = Mapping[str, Said]
_NO_ROWS: Mapping[Key, Row] = {}
_UNSAID = Said(None, (), True)


class Stray(Struct, frozen=True):
    """A statement of the export part that no pattern understands, and the settings that it may bear on."""

    line: int
    text: str
    bears_on: tuple[str, ...]


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


Name = tuple[str, Value]  # a table and the key of one of its rows
Mark = tuple[Match, int]  # a statement that was understood, and its line


class Records:
    """The rows of one configuration; changed only by making another one."""

    __slots__ = (
        *("_ahead", "_data", "_early", "_matcher", "_near", "_one", "_rows", "_single", "_tables", "_written"),
        *("changed", "dialect", "marks", "strays"),
    )

    def __init__(
        self,
        matcher: Matcher,
        marks: Sequence[Mark],
        strays: tuple[Stray, ...],
        data: bytes,
        ahead: Container[Name] = (),
        early: Sequence[Mark] = (),
    ) -> None:
        self._matcher, self._data = matcher, data
        self._ahead, self._early = ahead, early  # rows that were looked up while reading, and what they say
        self._tables = _by_table(marks)
        self._rows: dict[str, Mapping[Key, Row]] = {}
        self._single: dict[str, Said | None] = {}
        self._written: Mapping[tuple[int, Key], Mark] | None = None
        self._near: dict[tuple[str, Value], tuple[Key, Row] | None] = {}
        self._one: dict[tuple[str, Value], Row | None] = {}
        self.dialect, self.marks, self.strays = matcher.dialect, marks, strays
        self.changed = False  # whether they are what the text says

    def rows(self, table: str) -> Mapping[Key, Row]:
        """The rows of a table, by key, in the order of the text."""
        rows = self._rows.get(table)
        if rows is None:
            marks = self._tables.get(table, ())
            if not marks and table in LAZY:
                marks = self._tables[table] = self._matcher.lookup(self._data, table, None)
                self._written = None
            rows = self._rows[table] = self._matcher.rows(marks) if marks else _NO_ROWS
        return rows

    def loaded(self, table: str) -> bool:
        """Whether a table's rows are here: those of a lazy one only after they were asked for."""
        return table not in LAZY or table in self._rows or table in self._tables

    def load(self) -> None:
        """Reads the rows of lazy tables that corrections may change."""
        if "gate" in self.dialect.keys:
            self.rows("gate")

    @property
    def written(self) -> Mapping[tuple[int, Key], Mark]:
        """The last statement that each pattern was found in for a row, of all that was read."""
        if self._written is None:
            self._written = {(m.pattern, m.key): (m, line) for marks in self._tables.values() for m, line in marks}
        return self._written

    def row(self, table: str, key: Value) -> Row | None:
        """One row of a table whose key is one field; a lazy table is not read as a whole for it."""
        if self.loaded(table):
            return self.rows(table).get((key,))
        if (table, key) not in self._one:
            # Whatever else is named in the text will be asked for, too, and costs nothing more now.
            keys = tuple(dict.fromkeys((key, *self._named(table))))
            if all((table, k) in self._ahead for k in keys):
                marks = [mark for mark in self._early if mark[0].table == table]
            else:
                marks = self._matcher.lookup(self._data, table, keys)
            found = self._matcher.rows(marks)
            self._one.update({(table, k): found.get((k,)) for k in keys})
        return self._one[table, key]

    def _named(self, table: str) -> Iterator[Value]:
        """The keys of a lazy table that rows of other tables name."""
        for name, slot in self._matcher.naming[table]:
            said = [row[slot] for row in self.rows(name).values() if slot in row] if name else [self.get(slot)]
            for one in said:
                if isinstance(one.value, str | int):
                    yield one.value

    def row_with(self, table: str, slot: str, value: Value) -> tuple[Key, Row] | None:
        """The first row of a lazy table one of whose `many` values is this one."""
        at = (slot, value)
        if at not in self._near:
            self._near[at] = self._look_for(table, slot, value)
        return self._near[at]

    def _look_for(self, table: str, slot: str, value: Value) -> tuple[Key, Row] | None:
        if not self.loaded(table):
            # What is asked for is mostly what another row names, and that was looked up already.
            for (known, key), row in self._one.items():
                if known == table and row is not None and value in self._values(row, slot):
                    return (key,), row
            for key in self._matcher.keys_near(self._data, slot, value):
                row = self.row(table, key)
                if row is not None and value in self._values(row, slot):
                    return (key,), row
        return next(((k, r) for k, r in self.rows(table).items() if value in self._values(r, slot)), None)

    def _values(self, row: Row, slot: str) -> tuple[Value, ...]:
        value = self.get(slot, row).value
        return value if isinstance(value, tuple) else ()

    def get(self, slot: str, row: Row | None = None) -> Said:
        """What a slot is: said by the text, or the platform's default."""
        if row is not None:
            said = row.get(slot)
        elif "" in self._rows:
            said = self._rows[""].get((), {}).get(slot)
        else:
            said = self._said(slot)
        if said is not None:
            return said
        default = self._matcher.defaults.get(slot)
        return default if default is not None else _UNSAID

    def _said(self, slot: str) -> Said | None:
        """What the text says of a single value, from the statements alone that can carry it."""
        if slot not in self._single:
            carrying = self._matcher.carrying(slot)
            marks = [mark for mark in self._tables.get("", ()) if mark[0].pattern in carrying]
            self._single[slot] = self._matcher.rows(marks).get((), {}).get(slot) if marks else None
        return self._single[slot]

    def takes_effect(self, slot: str, row: Row) -> bool:
        """Whether a slot of a row means anything, given what else the row says."""
        where, values = self.dialect.only.get(slot, ("", ()))
        return not where or self.get(where, row).value in values

    def place(self, file: str) -> Places:
        """Says in which file, and in which of its lines, a line stands."""
        return Places(self._data, file)

    def having(self, table: str, key: Key, slot: str, value: Value | None) -> Records:
        """The records with one value changed (None: no longer said); a row that is new is added."""
        rows = dict(self.rows(table))
        row = dict(rows[key] if key in rows else {s: Said(v) for s, v in zip(self._keys(table), key, strict=True)})
        if value is None:
            row.pop(slot, None)
        else:
            row[slot] = Said(value)
        rows[key] = row
        return self._with(table, rows)

    def _keys(self, table: str) -> tuple[str, ...]:
        return self.dialect.keys.get(table, ())

    def without(self, table: str, key: Key) -> Records:
        """The records without one row."""
        return self._with(table, {k: r for k, r in self.rows(table).items() if k != key})

    def _with(self, table: str, rows: Mapping[Key, Row]) -> Records:
        out = Records(self._matcher, (), self.strays, self._data)
        out._rows, out.changed = {**self._rows, table: rows}, True
        # What was read and looked up in the text holds for it, too.
        out.marks, out._tables, out._near, out._one = self.marks, self._tables, self._near, self._one
        return out


def _by_table(marks: Iterable[Mark]) -> dict[str, list[Mark]]:
    out: dict[str, list[Mark]] = {}
    for mark in marks:
        table = mark[0].table
        if table in out:
            out[table].append(mark)
        else:
            out[table] = [mark]
    return out


def read_records(dialect: Dialect, data: bytes, settings: frozenset[str] | None = None) -> Records:
    """Reads a configuration; Unreadable if it is none of this platform's.

    `settings`: those that are asked for; parts of the text that bear on none of them are not read.
    """
    return matcher(dialect).read(data, settings)


def _is_named(pattern: Pattern, keys: Container[str]) -> bool:
    items = pattern.path[0] if pattern.path else pattern.items
    return len(items) > 1 and isinstance(items[1], Variable) and items[1].slot in keys


def looks_like(data: bytes, dialects: Iterable[Dialect]) -> str | None:
    """The dialect that understands most of a text; None if none understands anything."""
    best = max(((matcher(d).understood(data), d.name) for d in dialects), default=(0, ""))
    return best[1] if best[0] else None


@lru_cache(maxsize=64)
def matcher(dialect: Dialect) -> Matcher:
    """The matcher of a dialect, made once."""
    return Matcher(dialect)


class _Layout(Struct, frozen=True):
    """Which of a statement's values are what in its match, by their places; `key`: None where one is not said."""

    table: str
    key: tuple[int | None, ...]
    named: tuple[int, ...]
    rest: tuple[int, ...]
    many: tuple[int, ...]
    silent: tuple[str, ...]


class Matcher:
    """Finds the pattern of a statement; remembers what it saw, for fleets repeat themselves."""

    MOST = 50_000  # statements remembered
    AHEAD = 8  # rows of lazy tables that are read before they are asked for

    def __init__(self, dialect: Dialect) -> None:
        self.dialect = dialect
        self.grammar = dialect.grammar
        self.defaults = {slot: Said(value, (), True) for slot, value in dialect.defaults.items()}
        self.keys = frozenset(slot for slots in dialect.keys.values() for slot in slots)
        self._carrying: dict[str, frozenset[int]] = {}
        self._wanted: dict[Name, int] = {}
        self._ahead: dict[Words, Name] = {}
        self._seen: dict[tuple[Path, bytes], Match | tuple[str, ...] | None] = {}
        self._fitting: dict[tuple[int, str, int], list[tuple[int, Pattern, Outline]]] = {}
        self._paths: dict[tuple[int, Path], Fields | None] = {}
        self._layouts: dict[tuple[int, tuple[str, ...]], _Layout] = {}
        self._by_opening: dict[tuple[int, str], list[tuple[int, Pattern]]] = {}
        for number, pattern in enumerate(dialect.patterns):
            self._by_opening.setdefault((len(pattern.path), _first(pattern)), []).append((number, pattern))
        lazy = [p for p in dialect.patterns if p.table in LAZY]
        eager = [p for p in dialect.patterns if p.table not in LAZY]
        self._asked: dict[frozenset[str], tuple[Words, ...]] = {}
        self.heads = tuple(dict.fromkeys(_head(p) for p in eager if _bearing_on(p)))
        self.idle_heads = tuple(dict.fromkeys(_head(p) for p in dialect.patterns if _head(p) not in self.heads))
        # Behind these words stands the name of a row, so that one row can be looked up by it.
        self.named_heads = {_head(p) for p in lazy if _is_named(p, self.keys)}
        # The slots of other tables whose values are names of rows of a lazy one, with their tables.
        own = {(p.table, slot) for p in dialect.patterns for slot in p.own_slots}
        self.naming = {t: sorted(at for at in own if at[1].endswith((f".source-{t}", f"source.{t}"))) for t in LAZY}
        # For a slot, the first words of its statements and the words right before its value.
        self._near: dict[str, tuple[tuple[Words, ...], frozenset[bytes]]] = {}
        self.lazy_heads = {t: tuple(dict.fromkeys(_head(p) for p in lazy if p.table == t)) for t in LAZY}

    def read(self, data: bytes, settings: frozenset[str] | None = None) -> Records:
        """The records of a configuration."""
        strays: list[Stray] = []
        heads = self.heads if settings is None else self._heads_for(settings)
        ahead = {head: name for head, name in self._ahead.items() if head[:1] not in heads}
        marks: list[Mark] = []
        known = self._collect(self.grammar.scan(data, (*heads, *ahead), self.dialect.style), marks, strays, ahead)
        others = [head for head in (*self.heads, *self.idle_heads) if head not in heads]
        if not known and not self._collect(self.grammar.scan(data, others, self.dialect.style), [], []):
            raise Foreign(f"none of the statements of {self.dialect.name} occur in it")
        if not ahead:
            return Records(self, marks, tuple(strays), data)
        early = [mark for mark in marks if mark[0].table in LAZY]
        marks = [mark for mark in marks if mark[0].table not in LAZY]
        return Records(self, marks, tuple(strays), data, frozenset(ahead.values()), early)

    def _heads_for(self, settings: frozenset[str]) -> tuple[Words, ...]:
        """The first words of what bears on any of these settings."""
        if settings not in self._asked:
            eager = [p for p in self.dialect.patterns if p.table not in LAZY and settings & set(_bearing_on(p))]
            self._asked[settings] = tuple(dict.fromkeys(map(_head, eager)))
        return self._asked[settings]

    def understood(self, data: bytes) -> int:
        """How many statements of a text this platform understands."""
        try:
            found = self.grammar.scan(data, (*self.heads, *self.idle_heads), self.dialect.style)
            return sum(1 for path, raw, _ in found if isinstance(self.match(path, raw), Match))
        except Unreadable:
            return 0

    def explained(self, data: bytes) -> Iterator[tuple[int, str, Match | tuple[str, ...] | None]]:
        """The statements of all known parts: line, text, and the match, None, or what a stray may bear on."""
        for path, raw, line in self.grammar.scan(data, (*self.heads, *self.idle_heads), self.dialect.style):
            yield line, decode(raw[:LONGEST]), self.match(path, raw)

    def lookup(self, data: bytes, table: str, keys: Sequence[Value] | None) -> list[Mark]:
        """The statements of a lazy table; with `keys`, only those of these names."""
        heads = self.lazy_heads[table]
        if keys is not None:
            self._look_ahead(table, keys)
            named = [[(*head, str(k)) for k in keys] if head in self.named_heads else [head] for head in heads]
            heads = tuple(head for some in named for head in some)
        marks: list[Mark] = []
        self._collect(self.grammar.scan(data, heads, self.dialect.style), marks, [])
        return [mark for mark in marks if mark[0].table == table]

    def _look_ahead(self, table: str, keys: Sequence[Value]) -> None:
        """Makes rows that several texts asked for by the same name be read with all else from now on."""
        heads = self.lazy_heads[table]
        if len(heads) != 1 or heads[0] not in self.named_heads:
            return
        for key in keys:
            self._wanted[table, key] = self._wanted.get((table, key), 0) + 1
            if self._wanted[table, key] > 1 and len(self._ahead) < self.AHEAD:
                self._ahead[*heads[0], str(key)] = table, key

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

    def _collect(
        self, found: Iterable[Found], marks: list[Mark], strays: list[Stray], ahead: Container[Words] = ()
    ) -> bool:
        """Gathers what is understood and what is not; says whether anything is of this platform.

        In the parts that begin with the words `ahead`, what is not understood bears on nothing.
        """
        known = False
        seen = self._seen
        for path, raw, line in found:
            try:
                match = seen[path, raw]
            except KeyError:
                match = self.match(path, raw)
                if len(seen) < self.MOST:
                    seen[path, raw] = match
            if match is None:
                known = True
            elif isinstance(match, Match):
                marks.append((match, line))
            elif not ahead or (*path, tuple(self.grammar.split(decode(raw))))[0][:2] not in ahead:
                strays.append(Stray(line, shorten(decode(raw), 120), match))
        return known or bool(marks)

    def carrying(self, slot: str) -> frozenset[int]:
        """The patterns that carry a slot."""
        if slot not in self._carrying:
            every = enumerate(self.dialect.patterns)
            self._carrying[slot] = frozenset(number for number, pattern in every if slot in pattern.slots)
        return self._carrying[slot]

    def rows(self, marks: Iterable[Mark]) -> dict[Key, dict[str, Said]]:
        """The rows of one table that its statements make, the later ones over the earlier."""
        rows: dict[Key, dict[str, Said]] = {}
        for match, line in marks:
            said = (line,)
            row = rows.get(match.key)
            if row is None:
                row = rows[match.key] = {slot: Said(value, said) for slot, value in match.named}
            for slot, value in match.fields:
                row[slot] = Said(value, said)
            for slot, value in match.many:
                old = row.get(slot, _UNSAID)
                values = old.value if isinstance(old.value, tuple) else ()
                row[slot] = Said((*values, value), (*old.lines, line))
            # What a statement leaves out has its default again, by the line of that statement.
            for slot in match.silent:
                row[slot] = Said(self.dialect.defaults.get(slot), said, True)
        return rows

    def match(self, path: Path, raw: bytes) -> Match | tuple[str, ...] | None:
        """The match of a statement; None if it bears on nothing; else the settings it may bear on."""
        words = tuple(self.grammar.split(decode(raw[:LONGEST])))
        if not words:
            return None
        if len(raw) <= LONGEST:
            found = self.find(path, words)
            if found:
                return found
        named = self._naming(path, words)
        if named or self.is_header(path, words):
            return named
        if any(pattern.begins(path, words) for pattern in self.dialect.aside):
            return None
        return self._bearing(path, words)

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
        for pattern in self.dialect.patterns:
            if pattern.table in LAZY:
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
        return match.pattern, match.key

    def _is_near(self, path: Path, words: Words) -> bool:
        """Whether a statement of an open part begins as a pattern does, or stands in an inner block of one."""
        whole = (*path, words)
        for pattern in self.dialect.patterns:
            known = (*pattern.path, pattern.items)
            if len(known) > 1 and len(whole) > 1 and all(map(_opens_alike, known[:2], whole[:2])):
                return True
        return False

    def _bearing(self, path: Path, words: Words) -> tuple[str, ...] | None:
        """Settings of the patterns that begin alike; if none does, of all in the same part."""
        if path and path[0][0] in self.dialect.open and not self._is_near(path, words):
            return None
        alike: list[Pattern] = []
        longest = 1
        for pattern in self.dialect.patterns:
            if pattern.path and not (path and _fits_header(pattern, path[0])):
                continue
            same = 0
            while same < min(len(pattern.opening), len(words)) and pattern.opening[same] == words[same]:
                same += 1
            if same > longest:
                alike, longest = [pattern], same
            elif same == longest:
                alike.append(pattern)
        if not alike:
            alike = [
                p
                for p in self.dialect.patterns
                if (bool(p.path) and bool(path) and _fits_header(p, path[0])) or (not p.path and not path)
            ]
        return tuple(dict.fromkeys(s for p in alike for s in _bearing_on(p)))


def _bearing_on(pattern: Pattern) -> tuple[str, ...]:
    """The settings that a pattern's values bear on; those of its headers only name what it stands in."""
    return tuple(dict.fromkeys(s for slot in pattern.own_slots for s in SLOTS[slot].bears_on))


def _opens_alike(items: tuple[Item, ...], words: Words) -> bool:
    first = items[0]
    return isinstance(first, Variable) or (isinstance(first, Literal) and first.word == words[0])


def _fits_header(pattern: Pattern, words: Words) -> bool:
    return pattern.header.read((), words) is not None


def _first(pattern: Pattern) -> str:
    return pattern.opening[0] if pattern.opening else ""


def _head(pattern: Pattern) -> Words:
    """The word by which a pattern's part of the text is found."""
    return (pattern.header if pattern.path else pattern).opening[:1]
