"""Records: what a configuration says, as rows of tables that all platforms share.

Reading goes text → statements (the shape) → values (the patterns) → rows. Writing goes back: rows that
differ become the edits that turn the one text into the other.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence

from ivrel.core.bundle import Places
from ivrel.core.dialects.dialect import Dialect
from ivrel.core.dialects.matching import LAZY, Key, Mark, Matcher, Stray, matcher
from ivrel.core.dialects.said import UNSAID, Row, Said
from ivrel.core.dialects.slots import Value

__all__ = ["Note", "Notes", "Records", "looks_like", "read_records", "values_of"]


_NO_ROWS: Mapping[Key, Row] = {}

# What was looked at: a slot of a table ('' for single values), or with slot '' which rows there are; a lazy table
# counts as ('lazy', its name).
Note = tuple[str, str]


class Notes:
    """Takes what is looked at, so that it can be told what an answer hangs on."""

    __slots__ = ("seen",)

    def __init__(self) -> None:
        self.seen: set[Note] = set()


class _Text:
    """What one text says. All answers hang on the text alone, so that it does not matter who asked before."""

    __slots__ = (
        "_asked",
        "_data",
        "_having",
        "_marks",
        "_matcher",
        "_rows",
        "_single",
        "_statements",
        "_written",
        "base",
    )

    def __init__(self, matcher: Matcher, marks: Sequence[Mark], data: bytes, base: _Text | None = None) -> None:
        self._matcher, self._data = matcher, data
        self._marks = _by_table(marks)
        self.base = base  # where interfaces are looked up, if these marks are not those of the text
        if base is not None:
            self._marks.setdefault("gate", ())
        self._rows: dict[str, Mapping[Key, Row]] = {}
        self._single: dict[str, Said | None] = {}
        self._asked: dict[tuple[str, Value], Row | None] = {}
        self._having: dict[tuple[str, str, Value], tuple[tuple[Key, Row], ...]] = {}
        self._written: dict[str, Mapping[tuple[int, Key], Mark]] = {}
        self._statements: dict[str, Mapping[Key, Sequence[Mark]]] = {}

    def _marks_of(self, table: str) -> Sequence[Mark]:
        if table in LAZY and table not in self._marks:
            source = self.base
            self._marks[table] = source._marks_of(table) if source else self._matcher.lookup(self._data, table, None)
        return self._marks.get(table, ())

    def rows(self, table: str) -> Mapping[Key, Row]:
        rows = self._rows.get(table)
        if rows is None:
            marks = self._marks_of(table)
            rows = self._rows[table] = self._made(marks) if marks else _NO_ROWS
        return rows

    def written(self, table: str) -> Mapping[tuple[int, Key], Mark]:
        """The last statement of each group of patterns that was found for a row of a table."""
        if table not in self._written:
            groups = self._matcher.dialect.groups
            marks = self._marks_of(table)
            self._written[table] = {(groups[m.pattern], m.key): (m, line) for m, line in marks if m.pattern >= 0}
        return self._written[table]

    def statements(self, table: str) -> Mapping[Key, Sequence[Mark]]:
        """The statements of each row of a table."""
        if table not in self._statements:
            found: dict[Key, list[Mark]] = {}
            for mark in self._marks_of(table):
                if mark[0].pattern >= 0:
                    found.setdefault(mark[0].key, []).append(mark)
            self._statements[table] = dict(found)
        return self._statements[table]

    def single(self, slot: str) -> Said | None:
        """What the text says of a single value, from the statements alone that can carry it."""
        if slot not in self._single:
            carrying = self._matcher.carrying(slot)
            marks = [mark for mark in self._marks_of("") if mark[0].pattern in carrying]
            self._single[slot] = self._made(marks).get((), {}).get(slot) if marks else None
        return self._single[slot]

    def row(self, table: str, key: Value, named: Iterable[Value]) -> Row | None:
        """One row of a lazy table, read alone unless all of the table is known; `named`: others soon asked for."""
        if table in self._rows:
            return self._rows[table].get((key,))
        if self.base is not None:
            return self.base.row(table, key, named)
        if (table, key) not in self._asked:
            keys = tuple(dict.fromkeys((key, *named)))
            found = self._made(self._matcher.lookup(self._data, table, keys))
            self._asked.update({(table, k): found.get((k,)) for k in keys})
        return self._asked[table, key]

    def having(self, table: str, slot: str, value: Value) -> tuple[tuple[Key, Row], ...]:
        """The rows of a lazy table one of whose `many` values is this one, in the order of the text."""
        if self.base is not None:
            return self.base.having(table, slot, value)
        at = (table, slot, value)
        if at not in self._having:
            near = dict.fromkeys(self._matcher.keys_near(self._data, slot, value))
            rows: dict[Key, Row] = {(key,): row for key in near if (row := self.row(table, key, near)) is not None}
            found = tuple((key, row) for key, row in rows.items() if value in values_of(row, slot))
            if not found:
                found = tuple((k, row) for k, row in self.rows(table).items() if value in values_of(row, slot))
            self._having[at] = found
        return self._having[at]

    def _made(self, marks: Iterable[Mark]) -> dict[Key, dict[str, Said]]:
        """The rows of one table that its statements make, the later ones over the earlier."""
        defaults = self._matcher.dialect.defaults
        rows: dict[Key, dict[str, Said]] = {}
        for match, line in marks:
            said = (line,)
            row = rows.get(match.key)
            if row is None:
                row = rows[match.key] = {slot: Said(value, said) for slot, value in match.named}
            for slot, value in match.fields:
                row[slot] = Said(value, said)
            for slot, value in match.many:
                old = row.get(slot, UNSAID)
                values = old.value if isinstance(old.value, tuple) else ()
                row[slot] = Said((*values, value), (*old.lines, line))
            # What a statement leaves out has its default again, by the line of that statement.
            for slot in match.silent:
                row[slot] = Said(defaults.get(slot), said, True)
        return rows


class _Noted(Mapping[str, Said]):
    """A row that notes which of its values are looked at."""

    __slots__ = ("_notes", "_row", "_table")

    def __init__(self, row: Row, table: str, notes: Notes) -> None:
        self._row, self._table, self._notes = row, table, notes

    def __getitem__(self, slot: str) -> Said:
        self._notes.seen.add((self._table, slot))
        return self._row[slot]

    def __iter__(self) -> Iterator[str]:
        self._notes.seen.add((self._table, "*"))
        return iter(self._row)

    def __len__(self) -> int:
        return len(self._row)

    def __contains__(self, slot: object) -> bool:
        self._notes.seen.add((self._table, str(slot)))
        return slot in self._row


def values_of(row: Row, slot: str) -> tuple[Value, ...]:
    """The values of a slot that may have many."""
    said = row.get(slot, UNSAID).value
    return said if isinstance(said, tuple) else ()


class Records:
    """The rows of one configuration. Never changed once made: what differs is another object.

    `notes`: takes what is looked at, for those who want to know what an answer hangs on.
    """

    __slots__ = ("_changes", "_text", "dialect", "marks", "notes", "strays", "text")
    _text: _Text

    def __init__(
        self,
        dialect: Dialect,
        marks: Sequence[Mark],
        strays: tuple[Stray, ...],
        data: bytes,
        base: Records | None = None,
    ) -> None:
        self._text = _Text(matcher(dialect), marks, data, base._text if base else None)
        self._changes: Mapping[str, Mapping[Key, Row]] = {}
        self.dialect, self.marks, self.strays, self.text = dialect, marks, strays, data
        self.notes: Notes | None = None

    @property
    def changed(self) -> bool:
        """Whether the rows are not those that the text says."""
        return bool(self._changes) or self._text.base is not None

    def noting(self, notes: Notes) -> Records:
        """The same records, which note what is looked at."""
        out = self._copied(self._changes)
        out.notes = notes
        return out

    def _copied(self, changes: Mapping[str, Mapping[Key, Row]]) -> Records:
        out = Records.__new__(Records)
        out._text, out._changes, out.notes = self._text, changes, self.notes
        out.dialect, out.marks, out.strays, out.text = self.dialect, self.marks, self.strays, self.text
        return out

    def _note(self, table: str, slot: str) -> None:
        if self.notes is not None:
            self.notes.seen.add((table, slot))
            if table in LAZY:
                self.notes.seen.add(("lazy", table))

    def _rows(self, table: str) -> Mapping[Key, Row]:
        changed = self._changes.get(table)
        return self._text.rows(table) if changed is None else changed

    def rows(self, table: str) -> Mapping[Key, Row]:
        """The rows of a table, by key, in the order of the text."""
        rows = self._rows(table)
        if self.notes is None:
            return rows
        self._note(table, "")
        return {key: _Noted(row, table, self.notes) for key, row in rows.items()}

    def unchanged(self, table: str, other: Records) -> bool:
        """Whether a table certainly has the same rows in other records made from these, or those from it."""
        mine, theirs = self._changes.get(table), other._changes.get(table)
        return self._text is other._text and mine is theirs

    def written(self, table: str) -> Mapping[tuple[int, Key], Mark]:
        """The last statement of the text for each group of patterns and row of a table."""
        return self._text.written(table)

    def statements(self, table: str, key: Key) -> Sequence[Mark]:
        """All statements of the text that are about one row."""
        return self._text.statements(table).get(key, ())

    def row(self, table: str, key: Value) -> Row | None:
        """One row of a table whose key is one field; a lazy table is not read as a whole for it."""
        if table not in LAZY or table in self._changes:
            return self.rows(table).get((key,))
        self._note(table, "")
        # Whatever else is named in the text will be asked for, too, and costs nothing more now.
        return self._text.row(table, key, self._named(table))

    def _named(self, table: str) -> Iterator[Value]:
        """The keys of a lazy table that rows of other tables of the text name."""
        for name, slot in matcher(self.dialect).naming[table]:
            rows = self._text.rows(name).values() if name else ()
            said = [row.get(slot) for row in rows] if name else [self._text.single(slot)]
            for one in said:
                if one is not None and isinstance(one.value, str | int):
                    yield one.value

    def rows_with(self, table: str, slot: str, value: Value) -> tuple[tuple[Key, Row], ...]:
        """The rows of a lazy table one of whose `many` values is this one, in the order of the text."""
        self._note(table, "")
        if table in self._changes:
            return tuple((k, row) for k, row in self._changes[table].items() if value in values_of(row, slot))
        return self._text.having(table, slot, value)

    def get(self, slot: str, row: Row | None = None) -> Said:
        """What a slot is: said by the text, or the platform's default."""
        if row is not None:
            said = row.get(slot)
        else:
            self._note("", slot)
            if "" in self._changes:
                said = self._changes[""].get((), {}).get(slot)
            else:
                said = self._text.single(slot)
        if said is not None:
            return said
        if row is not None and slot in self.dialect.conditional:
            other, cases = self.dialect.conditional[slot]
            value = self.get(other, row).value
            if isinstance(value, str | int) and value in cases:
                return cases[value]
        default = self.dialect.said_defaults.get(slot)
        return default if default is not None else UNSAID

    def takes_effect(self, slot: str, row: Row) -> bool:
        """Whether a slot of a row means anything, given what else the row says."""
        where, values = self.dialect.only.get(slot, ("", ()))
        return not where or self.get(where, row).value in values

    def place(self, file: str) -> Places:
        """Says in which file, and in which of its lines, a line stands."""
        return Places(self.text, file)

    def having(self, table: str, key: Key, slot: str, value: Value | None) -> Records:
        """The records with one value changed (None: no longer said); a row that is new is added."""
        rows = dict(self._rows(table))
        row = dict(rows[key] if key in rows else {s: Said(v) for s, v in zip(self._keys(table), key, strict=True)})
        if value is None:
            row.pop(slot, None)
        else:
            row[slot] = Said(value)
        rows[key] = row
        return self._copied({**self._changes, table: rows})

    def _keys(self, table: str) -> tuple[str, ...]:
        return self.dialect.keys.get(table, ())

    def without(self, table: str, key: Key) -> Records:
        """The records without one row."""
        return self._copied({**self._changes, table: {k: r for k, r in self._rows(table).items() if k != key}})


def _by_table(marks: Iterable[Mark]) -> dict[str, Sequence[Mark]]:
    out: dict[str, list[Mark]] = {}
    for mark in marks:
        table = mark[0].table
        if table in out:
            out[table].append(mark)
        else:
            out[table] = [mark]
    return dict(out)


def read_records(dialect: Dialect, data: bytes, settings: frozenset[str] | None = None) -> Records:
    """Reads a configuration; Unreadable if it is none of this platform's.

    `settings`: those that are asked for; parts of the text that bear on none of them are not read.
    """
    return Records(dialect, *matcher(dialect).read(data, settings), data)


def looks_like(data: bytes, dialects: Iterable[Dialect]) -> str | None:
    """The dialect that understands most of a text; None if none understands anything."""
    best = max(((matcher(d).understood(data), d.name) for d in dialects), default=(0, ""))
    return best[1] if best[0] else None
