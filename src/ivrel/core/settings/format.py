"""format: RFC 3164 or RFC 5424, as each collector expects it."""

from __future__ import annotations

from collections.abc import Iterator

from ivrel.core.dialects.slots import FORMAT
from ivrel.core.settings.base import Asked, Clash, Place, Scope
from ivrel.core.settings.need import Need
from ivrel.core.settings.valued import Part, valued

EXPECTED = "expected"


def wants(scope: Scope, place: Place, need: Need) -> Need:
    """What a place is to say: what the collectors that it feeds expect, if that is asked for."""
    if need.any_of is None or EXPECTED not in need.any_of:
        return need
    fed = [d for d in scope.judged if place.table != "destination" or d.key == place.key]
    if place.table == "feed":
        fed = [d for d in fed if place.label in scope.feeds([d])]
    formats = dict.fromkeys(c.format for d in fed if d.collector and (c := scope.collectors[d.collector]).format)
    if len(formats) != 1:
        # Collectors that expect nothing take anything; of two that differ, one place can serve only one.
        return Need(any_of=tuple(f for f in formats if f)) if formats else Need()
    return Need(any_of=tuple(f for f in formats if f))


def clashes(asked: Asked) -> Iterator[Clash]:
    need = asked.needs["format"][""]
    for c in asked.wanted:
        if c.format and EXPECTED not in (need.any_of or ()) and not need.accepts(c.format):
            yield Clash("collectors", f"{c.name} expects {c.format}")


def expected_of(asked: Asked) -> set[str | None]:
    """The formats that are asked for; None among them if any will do."""
    need = asked.needs.get("format", {}).get("")
    named = need.any_of if need else None
    if named is None or EXPECTED in named:
        return {c.format for c in asked.wanted} if named else {None}
    return set(named)


SETTING = valued(
    "format",
    Part("", "format", FORMAT),
    more=(EXPECTED,),
    wants=wants,
    lacks="says nothing of the format",
    clashes=clashes,
    kind="rfc3164, rfc5424, or `expected`",
    meaning="the format of messages",
    matters="a collector that expects the other format cuts messages apart at the wrong places",
    meets="format: expected  ←  shape rfc5424, and that is what the collector expects",
    breaks="format: rfc5424  ←  shape rfc3164, or a platform that knows no other",
)
