"""Meanings: which slots the values of a template are, or why that is not sure."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence

from ivrel.core.authoring.learning.meaning import SIGNS, Around, Meaning, Table, can_be
from ivrel.core.authoring.learning.pieces import in_pieces, mostly
from ivrel.core.authoring.learning.rules import (
    ABOUT_STAMPS,
    CLOCK,
    DESTINATION,
    FEED,
    GATE,
    GENERIC,
    LOCAL,
    NEVER_NAMES,
    RESOLVER,
    SINGLES,
    STAMPS,
    SlotRule,
)
from ivrel.core.authoring.learning.spellings import (
    fits,
    is_facility,
    is_prefix,
    is_severity,
    may_be,
)
from ivrel.core.authoring.learning.tables import are_collectors
from ivrel.core.authoring.learning.templates import NAME, Keys, Template
from ivrel.core.vocabulary.addresses import is_address


def meaning_of(template: Template, tables: Mapping[Keys, Table], around: Around) -> Meaning:
    """Return the meaning of a template, if it is certain."""
    table = tables.get(template.row)
    if template.row and table is None:
        return Meaning(doubt="it is not clear what its rows are")
    width = {len(said.values) for said in template.said}
    listed = template.said[0].listed
    if template.assigns and width != {1} and not listed:
        return Meaning(doubt="it has no value, or several")
    keys = tuple(word for word in reversed(template.keys) if word != NAME)
    if any(SIGNS.search(word) for word in keys):
        return Meaning(doubt="its words hold signs that mean something in a pattern")
    if table is not None:
        return _of_row(template, table, keys, around)
    if any(CLOCK.fullmatch(word) for word in keys):
        return _of_clock(template, keys)
    if any(RESOLVER.fullmatch(word) for word in keys):
        return _addresses(template, "resolver.address", "it stands with what resolves names")
    # A single value of the device is in no block that might be a way of its own.
    known = (NEVER_NAMES, ABOUT_STAMPS)
    between = [w for w in keys[1:-1] if not any(words.fullmatch(w.lower()) for words in known)]
    if between:
        return Meaning(doubt=f"it is not clear what '{between[0]}' is, in which it stands")
    whole = listed or not template.assigns
    if whole and any(w in around.collectors for w in template.column(0)):
        found = _of_endpoints(template)
        # Where some leave words out, the same column holds different things.
        pieces = (
            found
            if not found.doubt
            else in_pieces(template, "destination.address", DESTINATION, around)
        )
        return found if pieces.doubt else pieces
    if any(ABOUT_STAMPS.fullmatch(word) for word in keys):
        return _of_stamps(template, keys)
    return _of_single(template, keys, around)


def _of_row(template: Template, table: Table, keys: Keys, around: Around) -> Meaning:
    at = max(n for n, word in enumerate(template.keys) if word == NAME)
    names = {at: table.key}
    words = template.column(0)
    if any(len(said.values) != 1 for said in template.said):
        return Meaning(doubt="it has several values")
    every = [said.values[0] for said in template.said]
    if table.name == "feed" and are_collectors(every, around):
        return Meaning({at: "give.feed"}, {0: "give.destination"}, _GIVES)
    if table.name in _BY_WORDS:
        return _fitting(template, names, keys[:1], words, _BY_WORDS[table.name], around)
    if table.name == "take":
        names[template.keys.index(NAME)] = "take.feed"
    for slot, why, fits_all in _FIELDS[table.name]:
        if fits_all(every, around):
            return Meaning(names, {0: slot}, why)
    return Meaning(doubt=f"it says something else of a row of '{table.name}'")


def _are_addresses(words: Sequence[str], around: Around) -> bool:
    return all(map(is_prefix, words)) or all(map(is_address, words))


def _are_severities(words: Sequence[str], around: Around) -> bool:
    return all(map(is_severity, words))


_GIVES = "its values are names of collectors"
# Of tables whose fields the words beside them tell: these words.
_BY_WORDS = {"destination": DESTINATION, "feed": FEED, "gate": GATE}
# Of each other table: the slots of its fields, why, and what their words are.
_FIELDS: Mapping[str, Sequence[tuple[str, str, Callable[[Sequence[str], Around], bool]]]] = {
    "interface": (
        ("interface.address", "its rows have addresses with prefixes", _are_addresses),
        ("interface.state", "its values are up and down",
         lambda words, around: fits("interface.state", words)),
    ),
    "server": (("server.address", "its values are addresses", _are_addresses),),
    "resolver": (("resolver.address", "its values are addresses", _are_addresses),),
    "pick": (
        ("pick.severity", "each row has a severity of its own", _are_severities),
        ("pick.destination", _GIVES, are_collectors),
    ),
    "take": (("take.level", "its rows are categories, each with a severity", _are_severities),),
    "give": (("give.destination", _GIVES, are_collectors),),
}  # fmt: skip


def _fitting(
    template: Template, names: Mapping[int, str], keys: Keys, words: Sequence[str],
    rules: Sequence[SlotRule], around: Around,
) -> Meaning:  # fmt: skip
    """Return the one slot that the words beside a value announce, and that its values fit."""
    found = [rule.slot for rule in rules if rule.hints(keys) and can_be(rule.slot, words, around)]
    if len(found) == 1:
        return Meaning(
            names,
            {0: found[0]},
            f"'{_telling(rules, found[0], keys)}' tells of it, and its values fit",
        )
    if found:
        return Meaning(doubt=f"it may be {' or '.join(found)}")
    return Meaning(doubt="neither its words nor its values tell what it is")


def _telling(rules: Sequence[SlotRule], slot: str, keys: Keys) -> str:
    """Return the word that announces a slot."""
    rule = next(rule for rule in rules if rule.slot == slot)
    return next(key for key in keys if rule.hints((key,)))


def _of_clock(template: Template, keys: Keys) -> Meaning:
    words = template.column(0)
    if len(template.said[0].values) == 1 and all(map(is_address, words)):
        return Meaning({}, {0: "server.address"}, "addresses that stand with the clock")
    if keys[0].lower() == "zone":
        return Meaning({}, {0: "clock.zone"}, "'zone' stands with the clock")
    return Meaning(doubt="it says something else of the clock")


def _addresses(template: Template, slot: str, why: str) -> Meaning:
    if len(template.said[0].values) == 1 and all(map(is_address, template.column(0))):
        return Meaning({}, {0: slot}, why)
    return Meaning(doubt="its values are no addresses")


def _of_endpoints(template: Template) -> Meaning:
    """Return the meanings of the columns of a statement that holds a whole collector."""
    if len({len(said.values) for said in template.said}) > 1:
        return Meaning(doubt="it has more values in some places than in others")
    columns = {0: "destination.address"}
    for n in range(1, len(template.said[0].values)):
        words = template.column(n)
        if fits("destination.transport", words):
            slot = "destination.transport"
        elif mostly("destination.level", words, is_severity):
            slot = "destination.level"
        elif fits("destination.facility", words):
            slot = "destination.facility"
        elif all(word.isdigit() for word in words):
            slot = "destination.port"
        elif len(words) == 1 and not SIGNS.search(words[0]) and not is_address(words[0]):
            continue  # a word that stands as it is
        else:
            return Meaning(doubt=f"its value '{words[0]}' is of no kind that is known")
        if slot in columns.values():
            return Meaning(doubt=f"two of its values may be {slot}")
        columns[n] = slot
    return Meaning({}, columns, "its first value is the address of a collector")


def _of_stamps(template: Template, keys: Keys) -> Meaning:
    """Return the meaning of a statement about stamps: one property, or several in a row."""
    prefix = "debug-" if any(word.lower().startswith("debug") for word in keys) else ""
    if template.assigns:
        words = template.column(0)
        rules = [rule for rule in STAMPS if rule.hints(keys[:1])] or list(STAMPS[:1])
        slots = [rule.slot for rule in rules if fits(rule.slot, words)]
        if prefix and slots and slots[0] not in ("stamp.kind", "stamp.precision"):
            return Meaning(doubt="it says more of stamps for debugging than is known")
        if len(slots) == 1:
            why = f"'{keys[0]}' stands with stamps"
            return Meaning({}, {0: prefix + slots[0]}, why)
        return Meaning(doubt="it says something else of stamps")
    flow: list[str] = []
    for said in template.said:
        at = 0
        for word in said.values:
            told = [rule.slot for rule in STAMPS if _tells_stamp(rule.slot, word)]
            if len(told) != 1:
                return Meaning(doubt=f"'{word}' is not known to say anything of stamps")
            if told[0] not in flow:
                flow.insert(at, told[0])
            elif flow.index(told[0]) < at:
                return Meaning(doubt="its values stand in several orders")
            at = flow.index(told[0]) + 1
    found = tuple(prefix + slot for slot in flow)
    return Meaning({}, {}, "its values are those of stamps", flow=found)


def _tells_stamp(slot: str, word: str) -> bool:
    """Whether a word of a statement about stamps says this of them."""
    if slot in ("stamp.year", "stamp.zone"):
        return word.lower() == slot.removeprefix("stamp.")
    return fits(slot, [word])


def _of_single(template: Template, keys: Keys, around: Around) -> Meaning:
    values = template.said[0].values
    if {len(said.values) for said in template.said} == {1} and all(
        map(is_facility, template.column(0))
    ):
        return Meaning({}, {0: "facility"}, "its values are facilities")
    if len(values) == 1:
        near = keys[:1]
        above = keys[1:]
        # What stands with a local output is of that one, and only if its own word says no more.
        local = [rule for rule in SINGLES if rule.slot in LOCAL and rule.hints(above)]
        if local:
            generic = {rule.slot for rule in GENERIC if rule.hints(near)}
            local = [rule for rule in local if rule.slot in generic]
            if not local:
                return Meaning(doubt=f"it says something else of '{above[0]}'")
            return _fitting(template, {}, above, template.column(0), local, around)
        return _fitting(template, {}, near, template.column(0), (*SINGLES, *STAMPS[1:]), around)
    if len({len(said.values) for said in template.said}) > 1:
        rules = [rule for rule in SINGLES if rule.hints(keys[:1])]
        return in_pieces(template, "", rules, around)
    columns: dict[int, str] = {}
    for n in range(len(values)):
        words = template.column(n)
        slots = [r.slot for r in SINGLES if r.hints(keys[:1]) and may_be(r.slot, words)]
        slots = [slot for slot in slots if slot not in columns.values()]
        if len(slots) == 1:
            columns[n] = slots[0]
        elif len(words) > 1 or slots or words[0].isdigit() or SIGNS.search(words[0]):
            return Meaning(doubt="neither its words nor its values tell what it is")
    if not columns:
        return Meaning(doubt="neither its words nor its values tell what it is")
    return Meaning({}, columns, f"'{keys[0]}' tells of it, and its values fit")
