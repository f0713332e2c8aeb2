"""Tables: which of the names in templates are those of rows, and of what."""

from __future__ import annotations

from collections.abc import Sequence

from ivrel.core.authoring.learning.meaning import Around, Table
from ivrel.core.authoring.learning.rules import CLOCK, RESOLVER
from ivrel.core.authoring.learning.spellings import is_prefix, is_severity, value_of
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
        values = [word for t in some for word in t.column(0)]
        addresses = [word for word in values if is_address(word)]
        if any(map(is_prefix, values)) and not any("/" in w and not is_prefix(w) for w in values):
            out[row] = Table("interface", "interface.name")
        elif any(CLOCK.fullmatch(word) for word in row) and addresses:
            out[row] = Table("server", "server.id")
        elif any(RESOLVER.fullmatch(word) for word in row) and addresses:
            out[row] = Table("resolver", "resolver.id")
        elif any(word in around.collectors for word in addresses):
            out[row] = Table("destination", "destination.name")
        elif _picks(some, around):
            out[row] = Table("pick", "pick.id")
        elif row.count(NAME) == 2 and all(_takes(template) for template in some):
            out[row] = Table("take", "take.category")
    for row in rows:
        # What takes categories gives them to collectors.
        below = (other for other in out if len(other) > len(row) and other[: len(row)] == row)
        if any(out[other].name == "take" for other in below):
            out[row] = Table("give", "give.feed")
    return out


def _takes(template: Template) -> bool:
    """Whether rows say of categories from which severity on they are taken."""
    at = max(n for n, word in enumerate(template.keys) if word == NAME)
    names = template.names[at]
    return all(name in CATEGORIES for name in names) and all(map(is_severity, template.column(0)))


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
