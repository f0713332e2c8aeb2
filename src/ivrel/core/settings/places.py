"""Places: where a platform has a value: once, for each destination, or for each feed."""

from __future__ import annotations

from collections.abc import Iterator

from msgspec import Struct

from ivrel.core.dialects.dialect import Dialect
from ivrel.core.dialects.slots import slot_of
from ivrel.core.policy.need import Need
from ivrel.core.reading.records import Records
from ivrel.core.reading.statements import Key
from ivrel.core.settings.contract import Obstacle, about_of, no_choice
from ivrel.core.settings.scope import Scope
from ivrel.core.vocabulary.sourced import SourcedValue

PLACES = ("destination", "feed", "")  # the tables that may hold a value, the narrowest first


class ValuePlace(Struct, frozen=True, gc=False):
    """One place where a value is said: of the device (label '') or of one destination or feed.

    `families`: the address families that it holds for; of all, if there are none.
    """

    label: str
    table: str
    key: Key
    slot: str
    said: SourcedValue
    title: str = ""
    families: tuple[str, ...] = ()


def stands(dialect: Dialect, field: str) -> tuple[str, str] | None:
    """Return the table and the slot of a field on this platform, or has a default for it."""
    slots = [(table, slot) for table in PLACES if (slot := slot_of(field, table)) is not None]
    said = [one for one in slots if dialect.has(one[1])]
    known = [one for one in slots[::-1] if one[1] in dialect.defaults]
    # A place that can be written counts before one that has a default only.
    return next(iter(said or known), None)


def can_say(dialect: Dialect, field: str) -> bool:
    """Whether a platform has a statement for a field anywhere."""
    slots = (slot_of(field, table) for table in PLACES)
    return any(slot is not None and dialect.has(slot) for slot in slots)


def knows(dialect: Dialect, field: str) -> bool:
    """Whether a platform has a statement or a default for a field anywhere."""
    return stands(dialect, field) is not None


def places(scope: Scope, field: str, every: bool = False) -> list[ValuePlace]:
    """Return the places of a value: once for the device, for each destination, or for each feed in
    use.

    `every`: of all destinations, not only those that are judged.
    """
    every = scope.beyond(every)
    return scope.once(lambda: list(_each_place(scope, field, every)), "places", field, every)


def _each_place(scope: Scope, field: str, every: bool) -> Iterator[ValuePlace]:
    records = scope.records
    dialect = records.dialect
    at = dialect.once(("stands", field), lambda: stands(dialect, field))
    if at is None:
        return
    table, slot = at
    if table == "":
        said = records.get(slot)
        if said.value is not None or dialect.has(slot):
            yield ValuePlace("", "", (), slot, said)
        return
    destinations = scope.destinations if every else scope.judged
    if table == "feed":
        for name in scope.feeds(destinations):
            row = records.rows("feed").get((name,), {})
            yield ValuePlace(name, "feed", (name,), slot, records.get(slot, row), name)
        return
    wide = slot_of(field, "")
    for d in destinations:
        if not records.takes_effect(slot, d.row):
            continue
        said = records.get(slot, d.row)
        # What is said once for the device holds for each destination that says nothing itself.
        if said.default and wide is not None and not records.get(wide).default:
            said = records.get(wide)
        yield ValuePlace(d.label, "destination", d.key, slot, said, d.title)


def cannot_say(dialect: Dialect, place: ValuePlace, need: Need, part: str = "") -> Obstacle | None:
    """Return why a platform can say nothing at a place that is asked for; None if it can."""
    if need.choose(lambda v: dialect.can_write(place.slot, v)) is not None:
        return None
    if need.choose(lambda v: True) is None:
        return None  # it is the policy that does not say what to write
    about = about_of(place.label, part)
    written = place.slot not in dialect.only_read and dialect.has(place.slot)
    choices = dialect.choices(place.slot) if written else ()
    more = (("platform", dialect.name), ("choices", ", ".join(choices)))
    return Obstacle("cannot-say", about, place.title, need.text, more, unable=True)


def mend_value(
    records: Records, place: ValuePlace, need: Need, part: str = ""
) -> tuple[Records, list[Obstacle]]:
    """Write at its place what is asked for, if it is not there; or tell why not."""
    dialect = records.dialect
    if need.accepts(str(place.said.value)):
        return records, []
    value = need.choose(lambda v: dialect.can_write(place.slot, v))
    if value is not None:
        return records.having(place.table, place.key, place.slot, value), []
    cannot = cannot_say(dialect, place, need, part)
    return records, [cannot or no_choice(place.title, about_of(place.label, part))]
