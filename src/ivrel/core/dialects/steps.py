"""Steps: the edits that lead from one configuration's records to another's, each with the row that it writes."""

from __future__ import annotations

from collections.abc import Iterator

from msgspec import Struct

from ivrel.core.dialects.dialect import Dialect
from ivrel.core.dialects.pattern import Path, Words
from ivrel.core.dialects.records import LAZY, Key, Match, Records, Row, Said, matcher
from ivrel.core.dialects.shapes import Edit
from ivrel.core.dialects.shapes.base import LONGEST, decode
from ivrel.core.dialects.slots import Value


class Step(Struct, frozen=True):
    """An edit, and the values of which row it writes; a row that goes as a whole has no slots."""

    edit: Edit
    table: str
    key: Key
    slots: tuple[str, ...] = ()
    replaces: Words = ()


def steps_between(before: Records, after: Records) -> list[Step]:
    """The edits that turn the text of `before` into one that says `after`, table by table."""
    dialect = before.dialect
    steps: list[Step] = []
    for table in ("", *dialect.keys):
        if not after.loaded(table):
            continue
        old_rows, new_rows = before.rows(table), after.rows(table)
        for key, row in new_rows.items():
            if row is not old_rows.get(key):
                steps += _row_steps(before, after, table, key, old_rows.get(key))
        for key, row in old_rows.items():
            if key not in new_rows:
                steps += _removals(before, table, key, row)
    # What stands inside of something that goes need not be taken away itself.
    gone = [(*s.edit.path, s.edit.words) for s in steps if s.edit.removes]
    return [s for s in steps if not (s.edit.removes and any(s.edit.path[: len(g)] == g for g in gone))]


def _removals(before: Records, table: str, key: Key, row: Row) -> Iterator[Step]:
    get = Getter(before, row)
    by = before.dialect.removal.get(table)
    if by is not None:
        words, path = by.write_removal(get), by.write_path(get)
        # A value may stand there in another of its words than the one that would be written.
        for (_, at), (match, _) in before.written.items():
            if at == key and match.table == table and by.read(match.path, match.words) is not None:
                words, path = match.words, match.path
        if words and path is not None:
            yield Step(Edit(path, words, True), table, key)
            return
    for number, pattern in enumerate(before.dialect.patterns):
        written = before.written.get((number, key)) if pattern.table == table else None
        if written:
            words = pattern.write_removal(get) or written[0].words
            yield Step(Edit(written[0].path, words, True), table, key)


class Getter:
    """Gives patterns the values of one row."""

    def __init__(self, records: Records, row: Row) -> None:
        self.records, self.row = records, row

    def __call__(self, slot: str) -> Value | None:
        value = self.records.get(slot, self.row).value
        return None if isinstance(value, tuple) else value

    def said(self, slot: str) -> Value | None:
        """The value, if it is not left to the platform."""
        said = self.row.get(slot)
        return None if said is None or said.default or isinstance(said.value, tuple) else said.value


def _row_steps(before: Records, after: Records, table: str, key: Key, old: Row | None) -> Iterator[Step]:
    """The steps of one row: a statement is written if it says anything that the defaults do not."""
    new = after.rows(table)[key]
    get = Getter(after, new)
    keys = before.dialect.keys.get(table, ())
    patterns = [(n, p) for n, p in enumerate(before.dialect.patterns) if p.table == table]
    said = {slot for slot in new if slot not in keys and not new[slot].default}
    # A row that says nothing but its name is made by the first statement that names it.
    bare = table != "" and old is None and not said
    for number, pattern in patterns:
        values = tuple(slot for slot in pattern.slots if slot not in keys)
        written = before.written.get((number, key))
        changed = tuple(s for s in values if old is None or not _same(old.get(s), new.get(s)))
        anchor = bare and number == patterns[0][0]
        if not changed and not anchor:
            continue
        statement = pattern.write(get, get.said) if anchor or said & set(values) else None
        if statement is not None:
            if written is None or statement != (written[0].path, written[0].words):
                replaces = written[0].words if written else ()
                yield Step(Edit(*statement), table, key, changed, replaces)
        elif written:
            words = pattern.write_removal(get) or written[0].words
            yield Step(Edit(written[0].path, words, True), table, key, changed)


def _same(old: Said | None, new: Said | None) -> bool:
    return old is new or (
        old is not None and new is not None and old.value == new.value and old.default == new.default
    )


def _is_export(dialect: Dialect, match: Match) -> bool:
    """Whether a statement of a lazy table says how traffic is recorded, which is an export setting."""
    own = dialect.patterns[match.pattern].own_slots if match.pattern >= 0 else ()
    return any(slot in ("gate.tell", "gate.feed") for slot in own)


def beyond_export(dialect: Dialect, data: bytes) -> list[tuple[Path, bytes]]:
    """All statements that are none of export settings: what no correction may touch."""
    reader = matcher(dialect)
    out = []
    for path, raw, _ in reader.grammar.everything(data, dialect.style):
        words = tuple(reader.grammar.split(decode(raw[:LONGEST])))
        match = reader.find(path, words) if words else None
        if match is None or (match.table in LAZY and not _is_export(dialect, match)):
            if reader.is_header(path, words):
                continue
            out.append((path, raw))
    return out
