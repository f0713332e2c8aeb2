"""Checks that no value becomes a second statement, or a command of a line editor.

Passes: a name with a blank that the dialect writes in quotes, or refuses
Fails:  a name with `;` that ends the statement, so that its rest becomes a statement of its own
"""

from __future__ import annotations

from collections.abc import Iterator

from ivrel.core.correcting.changes import apply_change, write_change
from ivrel.core.correcting.steps import steps_between
from ivrel.core.dialects.dialect import Dialect
from ivrel.core.dialects.slots import LAZY, SLOTS, table_of
from ivrel.core.reading.records import Records, read_records
from ivrel.core.reading.statements import Key
from ivrel.core.vocabulary.errors import InputError, Refused, Unreadable

# Appended to values: control characters of line editors, line ends, and characters that separate
# statements, words or values on some platform.
BEHIND = (
    *("\x15x", "\x03x", "\x1b[Ax", "\x7fx", "\nx", "\rx", "\u2028x", "\x85x"),
    *(" x", "\tx", ";x", "; x", "}x", "{x", " }", '"x', '" x', "'x", "\\", "#x", " #x", "!x"),
    *("=x", " = x", "]x", "[x", "<x", ">x", "&x", ",x", "|x", ")x", "(x", "$x", "`x", "%x"),
)

At = tuple[str, Key, str]  # a table, a row and a slot


def steering_values(dialect: Dialect, records: Records) -> Iterator[tuple[int, str]]:
    """Yield a mistake for each slot of an example that writes some value as something else, with
    the line of its pattern.
    """
    for table in ("", *dialect.keys):
        if table in LAZY:
            continue
        for key, row in records.rows(table).items():
            for slot, said in row.items():
                if slot not in dialect.only_read and table_of(slot) == table and said.lines:
                    found = _steered(dialect, records, (table, key, slot), str(said.value))
                    if found:
                        line = next(p.line for p in dialect.patterns if slot in p.slots)
                        yield line, f"{slot} takes {found}, which is written as something else"


def _steered(dialect: Dialect, records: Records, at: At, value: str) -> str:
    """Return the first value that is written as something else; empty if there is none."""
    table, key, slot = at
    if slot in dialect.keys.get(table, ()):
        return ""  # another value is another row
    for behind in BEHIND:
        try:
            other = SLOTS[slot].type.parse(value + behind)
        except ValueError:
            continue  # no value of this slot at all
        try:
            steps = steps_between(records, records.having(table, key, slot, other))
            change = write_change(dialect, records.text, [step.edit for step in steps])
            applied = apply_change(dialect, records.text.data, change, "change")
            after = read_records(dialect, applied) if change else records
        except (Refused, InputError, Unreadable, ValueError):
            continue  # nothing is written
        said = after.rows(table).get(key, {}).get(slot)
        # A value that is not written at all is reported by the proof.
        is_other = change and said is not None and said.value != other
        if is_other or _came(records, after, at):
            return repr(value + behind)
    return ""


def _came(records: Records, after: Records, at: At) -> bool:
    """Whether anything but the value at `at` is new."""
    if len(after.unparsed) > len(records.unparsed):
        return True
    for table in ("", *records.dialect.keys):
        for key, row in () if table in LAZY else after.rows(table).items():
            old = records.rows(table).get(key)
            if old is None and table:
                return True
            for slot, said in row.items():
                was = (old or {}).get(slot)
                if (table, key, slot) != at and (was is None or was.value != said.value):
                    return True
    return False
