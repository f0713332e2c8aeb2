"""Relevance: which settings depend on which slots, and what a strange statement may be about.

Slots know nothing of settings; each setting declares the slots that say it and those that decide on
it as well. What a dialect has no statement for may be said by any statement that it does not know.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from msgspec.structs import replace

from ivrel.core.dialects.dialect import Dialect
from ivrel.core.dialects.slots import table_of
from ivrel.core.reading.statements import Unparsed
from ivrel.core.settings import SETTINGS, Fact, Scope, read_settings
from ivrel.core.settings.unstated import unstated

_Bearing = Mapping[str, tuple[str, ...]]


def _by_slot() -> _Bearing:
    out: dict[str, tuple[str, ...]] = {}
    for which in ("slots", "hangs_on"):
        for setting in SETTINGS.values():
            for slot in getattr(setting, which):
                out[slot] = (*out.get(slot, ()), setting.name)
    return out


BEARS_ON: _Bearing = _by_slot()  # the settings that hang on a slot, its own setting first

OWNER: Mapping[str, str] = {slot: s.name for s in SETTINGS.values() for slot in s.slots}


def lacking(dialect: Dialect) -> tuple[str, ...]:
    """Return the settings that no statement of a dialect says."""

    def find() -> tuple[str, ...]:
        said = {OWNER[slot] for slot in dialect.slots if slot in OWNER}
        return tuple(name for name in SETTINGS if name not in said)

    return dialect.once("lacking", find)


def bearing(dialect: Dialect, strange: Unparsed) -> tuple[str, ...]:
    """Return the settings that a strange statement may bear on."""
    return dialect.once(("bearing", strange), lambda: _bearing(dialect, strange))


def _bearing(dialect: Dialect, strange: Unparsed) -> tuple[str, ...]:
    out = {name: None for slot in strange.slots for name in BEARS_ON[slot]}
    every = "" in strange.tables
    # What no pattern says may be said by any statement that is not understood.
    for name in lacking(dialect):
        setting = SETTINGS[name]
        slots = (*setting.slots, *setting.hangs_on)
        if every or any(table_of(slot) in strange.tables for slot in slots):
            out[name] = None
    return tuple(out)


def facts_in_doubt(scope: Scope) -> list[Fact]:
    """Return the facts of `read_settings`, with the uncertain ones marked.

    What a default would be says nothing where a line is in doubt, or no default is stated.
    """
    records = scope.records
    doubts: dict[str, str] = {}
    for unparsed_line in records.unparsed:
        for name in bearing(records.dialect, unparsed_line.strange):
            doubts.setdefault(name, f"line {unparsed_line.line} is not understood")
    out = []
    for fact in read_settings(scope):
        doubt = doubts.get(fact.setting, "")
        if not doubt and fact.default and unstated(SETTINGS[fact.setting], scope):
            doubt = "no default is stated"
        if doubt:
            fact = replace(fact, doubt=doubt, value="" if fact.default else fact.value)
        out.append(fact)
    return out


def slots_to_read(dialect: Dialect, asked: Iterable[str]) -> frozenset[str] | None:
    """Return the slots that settings depend on; None if any statement may bear on one of them.

    A judgement looks at its neighbours, too: those that a setting reads are among them.
    """
    names = frozenset(asked)
    return dialect.once(("read", names), lambda: _slots(dialect, names))


def _slots(dialect: Dialect, names: frozenset[str]) -> frozenset[str] | None:
    every = names | {other for name in names for other in SETTINGS[name].reads}
    # Such a setting may be said in any part of the text, so all of it is read.
    if every & set(lacking(dialect)):
        return None
    slots: set[str] = set()
    for name in every:
        slots.update(SETTINGS[name].slots, SETTINGS[name].hangs_on)
    return frozenset(slots)
