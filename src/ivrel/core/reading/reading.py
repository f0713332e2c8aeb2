"""A reading: one text as a dialect understands it, never changed once made.

All answers depend on the text alone, so that it does not matter who asked before. Rows are made
when something first asks for their table.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence

from ivrel.core.dialects.slots import LAZY
from ivrel.core.reading.lookup import LookedUp
from ivrel.core.reading.matcher import Matcher
from ivrel.core.reading.statements import NO_PATTERN, Key, Mark
from ivrel.core.reading.tables import NO_ROWS, by_key, by_table, rows_of, values_of
from ivrel.core.text.text import Text
from ivrel.core.vocabulary.sourced import Row, SourcedValue
from ivrel.core.vocabulary.values import Value


class Reading:
    """What one text says, table by table.

    `base`: the reading that lazy tables are taken from, if the statements are not those of the text
    but of a trial; `held`: those lazy tables that the statements hold themselves; `like`: one that
    has most statements in common.
    """

    __slots__ = (
        "_by_row",
        "_like",
        "_marks",
        "_rows",
        "_statements",
        "_written",
        "base",
        "matcher",
        "text",
    )

    def __init__(
        self,
        matcher: Matcher,
        marks: Sequence[Mark],
        text: Text,
        base: Reading | None = None,
        held: Iterable[str] = (),
        like: Reading | None = None,
    ) -> None:
        self.matcher = matcher
        self.text = text
        self.base = base
        self._like = like
        self._marks = by_table(marks)
        for table in held:
            self._marks.setdefault(table, ())
        self._rows: dict[str, Mapping[Key, Row]] = {}
        self._written: dict[str, Mapping[tuple[int, Key], Mark]] = {}
        self._statements: dict[str, Mapping[Key, Sequence[Mark]]] = {}
        self._by_row: dict[str, Mapping[Key, Sequence[Mark]]] = {}

    @property
    def _looked_up(self) -> LookedUp:
        at = "looked up", self.matcher.dialect
        return self.text.once(at, lambda: LookedUp(self.matcher, self.text))

    def marks_of(self, table: str) -> Sequence[Mark]:
        """Return the statements of a table, in the order of the text."""
        if table in LAZY and table not in self._marks:
            if self.base is not None:
                return self.base.marks_of(table)
            return self._looked_up.marks(table)
        return self._marks.get(table, ())

    def rows(self, table: str) -> Mapping[Key, Row]:
        """Return the rows of a table, by key, in the order of the text."""
        if table in LAZY and table not in self._marks:
            return self._looked_up.rows(table) if self.base is None else self.base.rows(table)
        rows = self._rows.get(table)
        if rows is None:
            marks = self.marks_of(table)
            like = self._like
            if not marks:
                rows = NO_ROWS
            elif like is None:
                rows = rows_of(self.matcher.dialect, marks)
            elif like._marks.get(table) == marks:
                rows = like.rows(table)
            else:
                rows = self._rows_like(like, table)
            self._rows[table] = rows
        return rows

    def _rows_like(self, like: Reading, table: str) -> Mapping[Key, Row]:
        """Return the rows of a table; those that another reading has, too, are the same objects."""
        rows = {}
        known = like._of_rows(table)
        old = like.rows(table)
        for key, marks in self._of_rows(table).items():
            if known.get(key) == marks:
                rows[key] = old[key]
            else:
                rows[key] = rows_of(self.matcher.dialect, marks)[key]
        return rows

    def _of_rows(self, table: str) -> Mapping[Key, Sequence[Mark]]:
        """Return all that a text says of each row of a table."""
        found = self._by_row.get(table)
        if found is None:
            found = self._by_row[table] = by_key(self.marks_of(table))
        return found

    def single(self, slot: str) -> SourcedValue | None:
        """Return a single value, as the text sets it."""
        return self.rows("").get((), {}).get(slot)

    def written(self, table: str) -> Mapping[tuple[int, Key], Mark]:
        """Return the last statement of each group of patterns for each row of a table."""
        if table not in self._written:
            groups = self.matcher.dialect.groups
            out = {}
            for match, line in self.marks_of(table):
                if match.pattern != NO_PATTERN:
                    out[groups[match.pattern], match.key] = match, line
            self._written[table] = out
        return self._written[table]

    def statements(self, table: str) -> Mapping[Key, Sequence[Mark]]:
        """Return the statements of each row of a table."""
        if table not in self._statements:
            found: dict[Key, list[Mark]] = {}
            for mark in self.marks_of(table):
                if mark[0].pattern != NO_PATTERN:
                    found.setdefault(mark[0].key, []).append(mark)
            self._statements[table] = dict(found)
        return self._statements[table]

    def row(self, table: str, key: Value) -> Row | None:
        """Return one row of a lazy table, read alone unless all of the table is known."""
        if table in self._marks:
            return self.rows(table).get((key,))
        if self.base is not None:
            return self.base.row(table, key)
        return self._looked_up.row(table, key, lambda: self._named(table))

    def _named(self, table: str) -> Iterator[Value]:
        """Yield the keys of a lazy table that other rows of the text name."""
        for name, slot in self.matcher.heads.naming[table]:
            if name:
                said = [row.get(slot) for row in self.rows(name).values()]
            else:
                said = [self.single(slot)]
            for one in said:
                if one is not None and isinstance(one.value, str | int):
                    yield one.value

    def having(self, table: str, slot: str, value: Value) -> tuple[tuple[Key, Row], ...]:
        """Return the rows of a lazy table one of whose `many` values is this one.

        They are in the order of the text.
        """
        if table in self._marks:
            rows = self.rows(table).items()
            return tuple((key, row) for key, row in rows if value in values_of(row, slot))
        if self.base is not None:
            return self.base.having(table, slot, value)
        return self._looked_up.having(table, slot, value)
