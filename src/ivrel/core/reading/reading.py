"""A reading: one text as a dialect understands it, never changed once made.

All answers hang on the text alone, so that it does not matter who asked before. Rows are made when
something first asks for their table.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence

from ivrel.core.reading.lookup import likely_keys, lookup
from ivrel.core.reading.matcher import Matcher
from ivrel.core.reading.statements import LAZY, NO_PATTERN, Key, Mark
from ivrel.core.reading.tables import NO_ROWS, by_table, rows_of, values_of
from ivrel.core.text.text import Text
from ivrel.core.vocabulary.said import Row, Said
from ivrel.core.vocabulary.values import Value


class Reading:
    """What one text says, table by table.

    `base`: the reading that lazy tables are taken from, if the statements are not those of the text
    but of a trial; `held`: those lazy tables that the statements hold themselves.
    """

    __slots__ = (
        "_having",
        "_held",
        "_looked_up",
        "_marks",
        "_rows",
        "_single",
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
    ) -> None:
        self.matcher, self.text, self.base = matcher, text, base
        self._marks = by_table(marks)
        self._held = tuple(held)
        for table in held:
            self._marks.setdefault(table, ())
        self._rows: dict[str, Mapping[Key, Row]] = {}
        self._single: dict[str, Said | None] = {}
        self._looked_up: dict[tuple[str, Value], Row | None] = {}
        self._having: dict[tuple[str, str, Value], tuple[tuple[Key, Row], ...]] = {}
        self._written: dict[str, Mapping[tuple[int, Key], Mark]] = {}
        self._statements: dict[str, Mapping[Key, Sequence[Mark]]] = {}

    def marks_of(self, table: str) -> Sequence[Mark]:
        """Return the statements of a table, in the order of the text."""
        if table in LAZY and table not in self._marks:
            if self.base is not None:
                self._marks[table] = self.base.marks_of(table)
            else:
                self._marks[table] = lookup(self.matcher, self.text, table)
        return self._marks.get(table, ())

    def rows(self, table: str) -> Mapping[Key, Row]:
        """Return the rows of a table, by key, in the order of the text."""
        rows = self._rows.get(table)
        if rows is None and self.base is not None and table in LAZY and table not in self._held:
            return self.base.rows(table)
        if rows is None:
            marks = self.marks_of(table)
            rows = rows_of(self.matcher.dialect, marks) if marks else NO_ROWS
            self._rows[table] = rows
        return rows

    def single(self, slot: str) -> Said | None:
        """Return what the text says of a single value, from the statements that can carry it."""
        if slot not in self._single:
            carrying = self.matcher.carrying(slot)
            marks = [mark for mark in self.marks_of("") if mark[0].pattern in carrying]
            rows = rows_of(self.matcher.dialect, marks)
            self._single[slot] = rows[()].get(slot) if () in rows else None
        return self._single[slot]

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
        if table in self._rows:
            return self._rows[table].get((key,))
        if self.base is not None:
            return self.base.row(table, key)
        if (table, key) not in self._looked_up:
            # What else the text names will be asked for, too, and costs little more now.
            keys = tuple(dict.fromkeys((key, *self._named(table))))
            self._look_up(table, keys)
        return self._looked_up[table, key]

    def _look_up(self, table: str, keys: Sequence[Value]) -> None:
        marks = lookup(self.matcher, self.text, table, keys)
        found = rows_of(self.matcher.dialect, marks)
        self._looked_up.update({(table, k): found.get((k,)) for k in keys})

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
        if self.base is not None:
            return self.base.having(table, slot, value)
        at = (table, slot, value)
        if at not in self._having:
            likely = tuple(dict.fromkeys(likely_keys(self.matcher, self.text, slot, value)))
            if any((table, key) not in self._looked_up for key in likely):
                self._look_up(table, likely)
            rows: dict[Key, Row | None] = {(key,): self._looked_up[table, key] for key in likely}
            found = [(k, row) for k, row in rows.items() if row and value in values_of(row, slot)]
            if not found:
                every = self.rows(table).items()
                found = [(k, row) for k, row in every if value in values_of(row, slot)]
            self._having[at] = tuple(found)
        return self._having[at]
