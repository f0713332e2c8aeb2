"""Steps: the edits that lead from one configuration's records to another's, each with the row that
it writes.
"""

from __future__ import annotations

from collections.abc import Container, Iterator, Mapping, Sequence

from msgspec import Struct
from msgspec.structs import replace

from ivrel.core.correcting.difference import same_value
from ivrel.core.dialects.dialect import Dialect
from ivrel.core.dialects.pattern import Pattern
from ivrel.core.reading.records import Records
from ivrel.core.reading.statements import Key, Understood
from ivrel.core.shapes.shape import Edit
from ivrel.core.text.words import Path, Words
from ivrel.core.vocabulary.sourced import Row
from ivrel.core.vocabulary.values import Value


class EditStep(Struct, frozen=True):
    """An edit, and the row whose values it writes; a row that goes as a whole has no slots.

    `makes`: whether the row is there by this step.
    """

    edit: Edit
    table: str
    key: Key
    slots: tuple[str, ...] = ()
    replaces: Words = ()
    makes: bool = False


def steps_between(before: Records, after: Records, same: Container[str] = ()) -> list[EditStep]:
    """Return the edits that turn the text of `before` into one that says `after`, table by table.

    `same`: tables that are known to be equal.
    """
    dialect = before.dialect
    steps: list[EditStep] = []
    for table in ("", *dialect.keys):
        if table == "interface" or table in same or before.unchanged(table, after):
            continue  # no correction writes interfaces
        old_rows = before.rows(table)
        new_rows = after.rows(table)
        for key, row in new_rows.items():
            if not _is_same_row(old_rows.get(key), row):
                of_row = list(_row_steps(before, after, table, key, old_rows.get(key)))
                if of_row and table and key not in old_rows:
                    of_row[0] = replace(of_row[0], makes=True)
                steps += of_row
        for key, row in old_rows.items():
            if key in new_rows:
                continue
            if not table and dialect.stays:
                steps += _row_steps(before, after, table, key, row)
            else:
                steps += _removals(before, table, key, row)
    # What is inside of something that goes need not be taken away itself.
    gone = {(*s.edit.path, s.edit.words) for s in steps if s.edit.removes}
    # Of a choice, one case takes the place of the other with all that is in it.
    gone |= {(*s.edit.path, s.replaces) for s in steps if s.replaces}
    return [s for s in steps if not (s.edit.removes and _is_inside(s.edit.path, gone))]


def _is_inside(path: Path, gone: Container[Path]) -> bool:
    """Whether one of the headers of a path goes."""
    return any(path[:depth] in gone for depth in range(1, len(path) + 1))


def _is_same_row(old: Row | None, new: Row) -> bool:
    """Whether two rows say the same, wherever and in whatever words."""
    if old is new:
        return True
    if old is None or len(old) != len(new):
        return False
    return all(same_value(old.get(slot), said) for slot, said in new.items())


def _removals(before: Records, table: str, key: Key, row: Row) -> Iterator[EditStep]:
    """Yield what takes a row away: its statements, or what names it as a whole, in the words that
    are in the text.
    """
    dialect = before.dialect
    get = Getter(before, row)
    by = dialect.removal.get(table)
    edits: dict[Edit, None] = {}
    for match, _ in before.statements(table, key):
        pattern = dialect.patterns[match.pattern]
        words = None
        path = None
        if by is not None:
            standing = pattern.standing(match.path, match.words)
            words = by.write_removal(get, get.said, standing)
            path = by.write_path(get, standing)
        if words and path is not None:
            edits[Edit(path, words, True)] = None
        else:
            edits[Edit(match.path, _removal_words(pattern, match, get), True)] = None
    return (EditStep(edit, table, key) for edit in edits)


def _removal_words(pattern: Pattern, match: Understood, get: Getter) -> Words:
    """Return the words that remove a statement, as they are in the text."""
    standing = pattern.standing(match.path, match.words)
    # What the statement itself leaves out is not among the words that name it.
    said = lambda slot: get(slot) if slot in standing else None  # noqa: E731
    return pattern.write_removal(get, said, standing) or match.words


class Getter:
    """Gives patterns the values of one row."""

    def __init__(self, records: Records, row: Row) -> None:
        self.records = records
        self.row = row

    def __call__(self, slot: str) -> Value | None:
        value = self.records.get(slot, self.row).value
        return None if isinstance(value, tuple) else value

    def said(self, slot: str) -> Value | None:
        """Return the value, if it is not left to the platform."""
        said = self.row.get(slot)
        return None if said is None or said.default or isinstance(said.value, tuple) else said.value


def _row_steps(
    before: Records, after: Records, table: str, key: Key, old: Row | None
) -> Iterator[EditStep]:
    """Yield the steps of one row: a statement is written if it says anything that the defaults do
    not.
    """
    dialect = before.dialect
    new = after.rows(table).get(key, {})
    get = Getter(after, new)
    keys = dialect.keys.get(table, ())
    groups = dialect.once(("groups", table), lambda: _groups(dialect, table))
    said = {slot for slot in new if slot not in keys and not new[slot].default}
    had = old or {}
    differ = {slot for slot in {**had, **new} if not same_value(had.get(slot), new.get(slot))}
    # A row that says nothing but its name is made by the first statement that names it.
    bare = table != "" and old is None and not said
    first = next(iter(groups), None)
    for group, patterns in groups.items():
        # Patterns of one group are spellings of one statement, so that the first has the slots of
        # all.
        values = tuple(slot for slot in patterns[0].slots if slot not in keys)
        changed = tuple(slot for slot in values if old is None or slot in differ)
        anchor = bare and group == first
        if not changed and not anchor:
            continue
        written = before.written(table).get((group, key))
        # What is in a text that is wanted back is written as it is there.
        stood = None if after.changed else after.written(table).get((group, key))
        # A statement is there for values of its own: those of its headers only say where it is.
        own = said & set(patterns[0].own_slots) or (
            said & set(values) and not set(patterns[0].own_slots) - set(keys)
        )
        # A statement whose negation means a value cannot be taken away: it says the default then.
        stays = written is not None and not dialect.stays.isdisjoint(patterns[0].own_slots)
        ways = (p.write(get, get.said) for p in patterns) if anchor or own or stays else iter(())
        statement = (
            (stood[0].path, stood[0].words)
            if stood
            else next((way for way in ways if way is not None), None)
        )
        if statement is not None:
            if written is None:
                yield EditStep(Edit(*statement), table, key, changed)
            elif statement != (written[0].path, written[0].words):
                # A block that stays the same is named as it is there.
                path, words = statement
                if patterns[0].read_path(path) == patterns[0].read_path(written[0].path):
                    path = written[0].path
                yield EditStep(Edit(path, words), table, key, changed, written[0].words)
        elif written:
            match = written[0]
            words = _removal_words(dialect.patterns[match.pattern], match, get)
            yield EditStep(Edit(match.path, words, True), table, key, changed)


def _groups(dialect: Dialect, table: str) -> Mapping[int, Sequence[Pattern]]:
    """Return the patterns of a table, by the group that they are of."""
    groups: dict[int, list[Pattern]] = {}
    for number, pattern in enumerate(dialect.patterns):
        if pattern.table == table:
            groups.setdefault(dialect.groups[number], []).append(pattern)
    return dict(groups)
