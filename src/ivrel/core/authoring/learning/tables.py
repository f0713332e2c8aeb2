"""Tables: which of the names in templates are those of rows, and of what."""

from __future__ import annotations

from collections.abc import Sequence

from ivrel.core.authoring.learning.meaning import Around, Table, can_be
from ivrel.core.authoring.learning.rules import CLOCK, FEED, GATE, RESOLVER
from ivrel.core.authoring.learning.spellings import fits, is_prefix, is_severity, value_of
from ivrel.core.authoring.learning.templates import NAME, Keys, Template
from ivrel.core.settings.categories import CATEGORIES
from ivrel.core.vocabulary.addresses import is_address


def tables_of(found: Sequence[Template], around: Around) -> dict[Keys, Table]:
    """Return the tables whose rows have names, by the keys up to the name."""
    rows: dict[Keys, list[Template]] = {}
    for template in found:
        if template.row:
            rows.setdefault(template.row, []).append(template)
    out: dict[Keys, Table] = {}
    for row, some in rows.items():
        found_table = _named_table(row, some, around)
        if found_table is not None:
            out[row] = found_table
    for row in rows:
        # What takes categories gives them to collectors.
        below = (other for other in out if len(other) > len(row) and other[: len(row)] == row)
        if any(out[other].name == "take" for other in below):
            out[row] = Table("give", "give.feed")
    return out


def _named_table(row: Keys, some: Sequence[Template], around: Around) -> Table | None:
    """Return the table that rows fill; None if it is not clear which."""
    values = [word for t in some for word in t.column(0)]
    addresses = [word for word in values if is_address(word)]
    if any(map(is_prefix, values)) and not any("/" in w and not is_prefix(w) for w in values):
        return Table("interface", "interface.name")
    if addresses:
        known = (
            (CLOCK, Table("server", "server.id")),
            (RESOLVER, Table("resolver", "resolver.id")),
        )
        for words, table in known:
            if any(words.fullmatch(word) for word in row):
                return table
        if any(word in around.collectors for word in addresses):
            return Table("destination", "destination.name")
    if _picks(some, around):
        return Table("pick", "pick.id")
    if _is_way(some, around):
        return Table("feed", "feed.name")
    if _are_gates(some):
        return Table("gate", "gate.id")
    takes = row.count(NAME) == 2 and all(_takes(template) for template in some)
    return Table("take", "take.category") if takes else None


def _takes(template: Template) -> bool:
    """Whether rows say of categories the first severity that is taken."""
    at = max(n for n, word in enumerate(template.keys) if word == NAME)
    names = template.names[at]
    return all(name in CATEGORIES for name in names) and all(map(is_severity, template.column(0)))


def _is_way(some: Sequence[Template], around: Around) -> bool:
    """Whether rows are ways of messages: planes of the device, each with a severity and a source of
    its own, that give to collectors.

    Their names are those of planes if they are the same in several samples: users name what is
    theirs, each otherwise. What selects messages has no source.
    """
    last = {template.keys[-1].lower(): template.column(0) for template in some}
    gives = any(words and are_collectors(words, around) for words in last.values())
    found = {
        rule.slot
        for rule in FEED
        for key, words in last.items()
        if rule.hints((key,)) and words and can_be(rule.slot, words, around)
    }
    sources = {"feed.source-interface", "feed.source-address"}
    if not gives or "feed.level" not in found or not sources & found:
        return False
    at = max(n for n, word in enumerate(some[0].keys) if word == NAME)
    names: dict[str, set[str]] = {}
    for template in some:
        for said in template.said:
            names.setdefault(said.sample, set()).add(said.keys[at])
    return len(names) > 1 and len(set(map(frozenset, names.values()))) == 1


def are_collectors(words: Sequence[str], around: Around) -> bool:
    """Whether words are names of collectors; some may lead to nothing, a fault that an audit is to
    find.
    """
    return 2 * sum(word in around.destinations for word in words) > len(words)


def _are_gates(some: Sequence[Template]) -> bool:
    """Whether rows let traffic pass or stop it, and say what of it they record."""
    slots = set()
    for template in some:
        words = template.column(0)
        hinted = (rule.slot for rule in GATE if words and rule.hints(template.keys[-1:]))
        slots |= {slot for slot in hinted if fits(slot, words)}
    return {"gate.action", "gate.tell"} <= slots


def _picks(some: Sequence[Template], around: Around) -> bool:
    """Whether rows give one severity each to a destination, and several to the same."""
    by_row: dict[Keys, dict[str, str]] = {}
    for template in some:
        for said in template.said:
            if len(said.values) != 1:
                return False
            word = said.values[0]
            kind = (
                "severity" if is_severity(word)
                else "to" if word in around.destinations else "other"
            )  # fmt: skip
            by_row.setdefault((said.sample, *said.keys[:-1]), {})[kind] = word
    given: dict[tuple[str, str], set[str]] = {}
    for row, said_of in by_row.items():
        if {"severity", "to"} <= said_of.keys():
            severity = value_of("severity", said_of["severity"]) or ""
            given.setdefault((row[0], said_of["to"]), set()).add(severity)
    return any(len(severities) >= 3 for severities in given.values())
