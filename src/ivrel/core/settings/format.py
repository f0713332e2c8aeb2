"""format: RFC 3164 or RFC 5424, as each collector expects it."""

from __future__ import annotations

from collections.abc import Iterator

from msgspec.structs import replace

from ivrel.core.policy.need import Need, Needs
from ivrel.core.settings.contract import Clash, Finding, More, SharedRequirements
from ivrel.core.settings.places import ValuePlace, places
from ivrel.core.settings.scope import Scope
from ivrel.core.settings.valued import ValuePart, valued
from ivrel.core.vocabulary.values import FORMAT

EXPECTED = "expected"


def wants(scope: Scope, place: ValuePlace, need: Need) -> Need:
    """Return the format that a place must have: that of the collectors it feeds, if one is asked
    for.
    """
    if need.any_of is None or EXPECTED not in need.any_of:
        return need
    # A place of the device feeds all destinations; one of a feed, those that the feed gives to.
    fed = [d for d in scope.judged if place.table != "destination" or d.key == place.key]
    if place.table == "feed":
        fed = [d for d in fed if place.label in scope.feeds([d])]
    formats = dict.fromkeys(
        f for d in fed if d.collector and (f := scope.collectors[d.collector].format)
    )
    # Collectors that expect nothing take anything.
    return Need(any_of=tuple(formats)) if formats else Need()


def _torn(scope: Scope, place: ValuePlace) -> More:
    """Tell which collectors a place feeds that expect different formats; () if none do."""
    fed = [d for d in scope.judged if place.table == "" or place.label in scope.feeds([d])]
    expects = {
        d.title: c.format
        for d in fed
        if d.collector and (c := scope.collectors[d.collector]).format
    }
    if place.table == "destination" or len(set(expects.values())) < 2:
        return ()
    said = " and ".join(f"{name} expects {form}" for name, form in expects.items())
    by = f"what leaves by {place.label}" if place.label else scope.records.dialect.name
    return (("expects", said), ("where", f"{by} has"))


def judge(scope: Scope, needs: Needs) -> list[Finding]:
    """Find places with another format, and those that feed collectors of several formats."""
    found = _PLAIN.judge(scope, needs)
    if EXPECTED in (needs[""].any_of or ()):
        for place in places(scope, "format"):
            # No value is right for collectors that expect different formats.
            if torn := _torn(scope, place):
                about = f"{place.label} torn".strip()
                lines = place.said.lines
                found.append(Finding("torn", about, more=torn, lines=lines, judged="unable"))
    return found


def clashes(asked: SharedRequirements) -> Iterator[Clash]:
    """Find collectors that expect another format than is asked for."""
    need = asked.needs["format"][""]
    expects = {c.name: c.format for c in asked.wanted if c.format}
    # Where each destination or feed has a format of its own, collectors may differ.
    wide = asked.dialect is not None and not any(
        map(asked.dialect.has, ("destination.format", "feed.format"))
    )
    if (
        wide
        and asked.dialect
        and EXPECTED in (need.any_of or ())
        and len(set(expects.values())) > 1
    ):
        said = " and ".join(f"{name} expects {form}" for name, form in expects.items())
        yield Clash("collectors", f"{said}, and {asked.dialect.name} has one format for all")
    for c in asked.wanted:
        if c.format and EXPECTED not in (need.any_of or ()) and not need.accepts(c.format):
            yield Clash("collectors", f"{c.name} expects {c.format}")


def expected_of(asked: SharedRequirements) -> set[str | None]:
    """Return the formats that are asked for; None among them if any will do."""
    need = asked.needs.get("format", {}).get("")
    named = need.any_of if need else None
    if named is None or EXPECTED in named:
        return {c.format for c in asked.wanted} if named else {None}
    return set(named)


_PLAIN = valued(
    "format",
    ValuePart("", "format", FORMAT),
    more=(EXPECTED,),
    wants=wants,
    what="the format",
    clashes=clashes,
    kind="rfc3164, rfc5424, or `expected`",
    meaning="the format of messages",
    effect="the form of messages changes: what reads them at the collector must know the new one",
    matters="a collector that expects the other format cuts messages apart at the wrong places",
    meets="format: expected  ←  shape rfc5424, and that is what the collector expects",
    breaks="format: rfc5424  ←  shape rfc3164, or a platform that knows no other",
)

SETTING = replace(
    _PLAIN,
    judge=judge,
    hangs_on=("destination.name", "destination.address", "feed.name"),
)
