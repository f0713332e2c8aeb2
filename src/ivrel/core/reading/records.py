"""Records: the rows of one configuration, as it says them or as they should be.

Never changed once made: what differs is another object. Rows that differ become the steps that turn
the one text into the other.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence

from ivrel.core.dialects.dialect import Dialect
from ivrel.core.dialects.slots import LAZY
from ivrel.core.reading import reader
from ivrel.core.reading.matcher import matcher
from ivrel.core.reading.mentions import Hosts
from ivrel.core.reading.reading import Reading
from ivrel.core.reading.statements import Key, Mark, UnparsedLine
from ivrel.core.reading.tables import value_of, values_of
from ivrel.core.text.bundle import Places
from ivrel.core.text.text import Text
from ivrel.core.vocabulary.sourced import Row, SourcedValue
from ivrel.core.vocabulary.values import Value

# What was looked at: a slot of a table ('' for single values), or with slot '' which rows there
# are; ('lazy', table) if the table is one that is looked up.
Note = tuple[str, str]

EVERY_SLOT = "*"  # noted for a row that was gone through as a whole


class Dependencies:
    """Takes what is looked at, so that it can be told what an answer depends on."""

    __slots__ = ("seen",)

    def __init__(self) -> None:
        self.seen: set[Note] = set()


class _NotedRow(Mapping[str, SourcedValue]):
    """A row that notes which of its values are looked at."""

    __slots__ = ("_notes", "_row", "_table")

    def __init__(self, row: Row, table: str, notes: Dependencies) -> None:
        self._row = row
        self._table = table
        self._notes = notes

    def __getitem__(self, slot: str) -> SourcedValue:
        self._notes.seen.add((self._table, slot))
        return self._row[slot]

    def __iter__(self) -> Iterator[str]:
        self._notes.seen.add((self._table, EVERY_SLOT))
        return iter(self._row)

    def __len__(self) -> int:
        return len(self._row)

    def __contains__(self, slot: object) -> bool:
        self._notes.seen.add((self._table, str(slot)))
        return slot in self._row


class _NotedRows(Mapping[Key, Row]):
    """The rows of a table, each of which notes what is looked at."""

    __slots__ = ("_notes", "_rows", "_table")

    def __init__(self, rows: Mapping[Key, Row], table: str, notes: Dependencies) -> None:
        self._rows = rows
        self._table = table
        self._notes = notes

    def __getitem__(self, key: Key) -> Row:
        return _NotedRow(self._rows[key], self._table, self._notes)

    def __iter__(self) -> Iterator[Key]:
        return iter(self._rows)

    def __len__(self) -> int:
        return len(self._rows)

    def __contains__(self, key: object) -> bool:
        return key in self._rows


class Records:
    """The rows of one configuration.

    `marks`: the statements that the rows are made of, lazy tables aside; `strays`: those that are
    not understood; `base`, `held`, `like`: of a trial, as in `Reading`; `notes`: takes what is
    looked at.
    """

    __slots__ = ("_changes", "_reading", "dialect", "marks", "notes", "text", "unparsed")
    _reading: Reading

    def __init__(
        self,
        dialect: Dialect,
        marks: Sequence[Mark],
        unparsed: tuple[UnparsedLine, ...],
        text: Text,
        base: Records | None = None,
        held: Iterable[str] = (),
        like: Records | None = None,
    ) -> None:
        below, alike = (None if one is None else one._reading for one in (base, like))
        self._reading = Reading(matcher(dialect), marks, text, below, held, alike)
        self._changes: Mapping[str, Mapping[Key, Row]] = {}
        self.dialect = dialect
        self.marks = marks
        self.unparsed = unparsed
        self.text = text
        self.notes: Dependencies | None = None

    @property
    def changed(self) -> bool:
        """Whether the rows are not those that the text says."""
        return bool(self._changes) or self._reading.base is not None

    def noting(self, notes: Dependencies | None) -> Records:
        """Return the same records, which note what is looked at."""
        out = self._copied(self._changes)
        out.notes = notes
        return out

    def with_strays(self, more: tuple[UnparsedLine, ...]) -> Records:
        """Return the same records, with more statements that are in doubt."""
        out = self._copied(self._changes)
        out.unparsed = (*self.unparsed, *more)
        return out

    def _copied(self, changes: Mapping[str, Mapping[Key, Row]]) -> Records:
        out = Records.__new__(Records)
        out._reading = self._reading
        out._changes = changes
        out.notes = self.notes
        out.dialect = self.dialect
        out.marks = self.marks
        out.unparsed = self.unparsed
        out.text = self.text
        return out

    def _note(self, table: str, slot: str) -> None:
        if self.notes is not None:
            self.notes.seen.add((table, slot))
            if table in LAZY:
                self.notes.seen.add(("lazy", table))

    def _rows(self, table: str) -> Mapping[Key, Row]:
        changed = self._changes.get(table)
        return self._reading.rows(table) if changed is None else changed

    def rows(self, table: str) -> Mapping[Key, Row]:
        """Return the rows of a table, by key, in the order of the text."""
        rows = self._rows(table)
        if self.notes is None:
            return rows
        self._note(table, "")
        return _NotedRows(rows, table, self.notes)

    def unchanged(self, table: str, other: Records) -> bool:
        """Whether a table certainly has the same rows in records made from the same text."""
        mine = self._changes.get(table)
        theirs = other._changes.get(table)
        return self._reading is other._reading and mine is theirs

    def marks_of(self, table: str) -> Sequence[Mark]:
        """Return the statements of the text that are about a table."""
        return self._reading.marks_of(table)

    def written(self, table: str) -> Mapping[tuple[int, Key], Mark]:
        """Return the last statement of the text for each group of patterns and row of a table."""
        return self._reading.written(table)

    def statements(self, table: str, key: Key) -> Sequence[Mark]:
        """Return all statements of the text that are about one row."""
        return self._reading.statements(table).get(key, ())

    def row(self, table: str, key: Value) -> Row | None:
        """Return one row of a table whose key is one field.

        A lazy table is not read as a whole for it.
        """
        if table not in LAZY or table in self._changes:
            return self.rows(table).get((key,))
        self._note(table, "")
        return self._reading.row(table, key)

    def rows_with(self, table: str, slot: str, value: Value) -> tuple[tuple[Key, Row], ...]:
        """Return the rows of a lazy table one of whose `many` values is this one."""
        self._note(table, "")
        if table in self._changes:
            rows = self._changes[table].items()
            return tuple((k, row) for k, row in rows if value in values_of(row, slot))
        return self._reading.having(table, slot, value)

    def line_with(self, word: str) -> int | None:
        """Return the first line that holds a word outside the parts that the dialect knows, and
        that it does not set aside.
        """
        found = reader.mentions(matcher(self.dialect), self.text, Hosts((word,)))
        return found[0].line if found else None

    def get(self, slot: str, row: Row | None = None) -> SourcedValue:
        """Return the value of a slot: from the text, or the platform's default."""
        if row is not None:
            said = row.get(slot)
        else:
            self._note("", slot)
            if "" in self._changes:
                said = self._changes[""].get((), {}).get(slot)
            else:
                said = self._reading.single(slot)
        return said if said is not None else value_of(self.dialect, None, slot, row)

    def takes_effect(self, slot: str, row: Row) -> bool:
        """Whether a slot of a row means anything, given what else the row says."""
        where, values = self.dialect.only.get(slot, ("", ()))
        return not where or self.get(where, row).value in values

    def place(self, file: str, *, told: bool = True) -> Places:
        """Return the function that maps a line of the text to its file and the line there.

        `told`: as for `Places`.
        """
        return Places(self.text.data, file, told=told)

    def having(self, table: str, key: Key, slot: str, value: Value | None) -> Records:
        """Return the records with one value changed (None: no longer said).

        A row that is new is added.
        """
        rows = dict(self._rows(table))
        if key in rows:
            row = dict(rows[key])
        else:
            keys = self.dialect.keys.get(table, ())
            row = {s: SourcedValue(v) for s, v in zip(keys, key, strict=True)}
        if value is None:
            row.pop(slot, None)
        else:
            row[slot] = SourcedValue(value)
        rows[key] = row
        return self._copied({**self._changes, table: rows})

    def with_row(self, table: str, key: Key, row: Row | None) -> Records:
        """Return the records with one row that is another one, or is gone."""
        rows = dict(self._rows(table))
        if row is None:
            del rows[key]
        else:
            rows[key] = row
        return self._copied({**self._changes, table: rows})

    def only(self, table: str, keys: Collection[Key]) -> Records:
        """Return the records with some rows of a table alone."""
        kept = {key: row for key, row in self._rows(table).items() if key in keys}
        return self._copied({**self._changes, table: kept})

    def without(self, table: str, key: Key) -> Records:
        """Return the records without one row."""
        left = {k: r for k, r in self._rows(table).items() if k != key}
        return self._copied({**self._changes, table: left})


def read_records(
    dialect: Dialect,
    data: bytes | Text,
    slots: frozenset[str] | None = None,
    hosts: Hosts | None = None,
) -> Records:
    """Return the records of a configuration; Unreadable if it is not of this platform.

    `slots`: those that are asked for; parts of the text that say none of them are not read;
    `hosts`: the collectors of the policy. The same parts of a text are read once, however often
    they are asked for.
    """
    text = data if isinstance(data, Text) else Text(data)
    known = matcher(dialect)
    heads = known.heads.eager if slots is None else known.heads.saying(slots)
    records = text.once(
        ("records", dialect, heads),
        lambda: Records(dialect, *reader.read(known, text, heads), text),
    )
    lines = {unparsed_line.line for unparsed_line in records.unparsed}
    mentions = () if hosts is None else reader.mentions(known, text, hosts)
    more = tuple(unparsed_line for unparsed_line in mentions if unparsed_line.line not in lines)
    if not more:
        return records
    at = "records", dialect, heads, more
    return text.once(at, lambda: records.with_strays(more))
