"""source: the interface or address that messages leave from, so that a device has one face at the
collector.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping
from typing import Literal

from ivrel.core.form import Node, Report
from ivrel.core.policy.collector import Collector
from ivrel.core.policy.need import Need, Needs, read_need
from ivrel.core.reading.records import Records
from ivrel.core.reading.statements import DOUBT
from ivrel.core.settings.contract import Fact, Finding, More, Obstacle, Setting, no_destination
from ivrel.core.settings.families import KINDS, SLOTS, by_family
from ivrel.core.settings.places import ValuePlace, can_say, places
from ivrel.core.settings.scope import Destination, Scope
from ivrel.core.settings.source_path import (
    SourcePath,
    cannot_reach,
    in_use,
    interface_with,
    knows_interfaces,
    leaving_by,
    other_plane,
    parts_off,
    way_of,
)
from ivrel.core.vocabulary.addresses import address, family_of, is_address
from ivrel.core.vocabulary.wording import shorten

IDENTITY = "identity"
RIVALS_NAMED = 3  # so many devices of the same identity are named; the rest is counted


def ask(node: Node, report: Report, collectors: Mapping[str, Collector]) -> Needs | None:
    """Read the interface, the address, or the identity that is asked for."""
    need = read_need(node, report, _name)
    return {"": need} if need else None


def _name(text: str) -> str:
    if not text.strip():
        raise ValueError("expected 'identity', the name of an interface, or an address")
    try:
        return address(text)
    except ValueError:
        return text


def _places(scope: Scope, every: bool = False) -> list[tuple[ValuePlace, bool]]:
    """Return where the source is said, and whether as an interface (else as an address)."""
    every = scope.beyond(every)
    return scope.once(lambda: _found_places(scope, every), "source places", every)


def _found_places(scope: Scope, every: bool) -> list[tuple[ValuePlace, bool]]:
    out = []
    # Where interfaces are not part of the configuration, an address says more than a name.
    kinds = KINDS if knows_interfaces(scope.records) else KINDS[::-1]
    for kind, by_interface in kinds:
        out += [(place, by_interface) for place in places(scope, f"source-{kind}", every)]
    # A platform may know both ways; what is said counts, and the first way is the one to write.
    said = {place.label for place, _ in out if place.said.value is not None}
    first: dict[str, tuple[ValuePlace, bool]] = {}
    for place, by_interface in out:
        if place.said.value is not None or place.label not in said:
            first.setdefault(place.label, (place, by_interface))
    return by_family(scope, list(first.values()), kinds, every)


def facts(scope: Scope) -> list[Fact]:
    """Tell the source at each place, and what it comes to."""
    out = []
    for place, by_interface in _places(scope, every=True):
        if place.said.value is None:
            note = "whatever interface is nearest"
            out.append(Fact("source", place.label, "", "nearest", (), True, note))
            continue
        way = way_of(scope, place, by_interface)
        note = way.wrong or way.doubt or (", ".join(way.addresses) if by_interface else "")
        value = str(place.said.value)
        out.append(Fact("source", place.label, "", value, way.lines, False, note))
    return out


def _can_choose(scope: Scope) -> bool:
    """Whether this platform has any statement for the source."""
    dialect = scope.records.dialect
    return any(map(dialect.has, SLOTS)) or any(can_say(dialect, f"source-{k}") for k, _ in KINDS)


def judge(scope: Scope, needs: Needs) -> list[Finding]:
    """Find sources that are not set, lead nowhere, or show another face."""
    need: Need = needs[""]
    identity = scope.device.identity if scope.device else None
    by_identity = need.any_of is not None and IDENTITY in need.any_of
    others = tuple(v for v in need.any_of or () if v != IDENTITY)
    # Without an identity in the fleet there is nothing to compare with; other values that are asked
    # for can still be judged.
    if by_identity and identity is None and not others:
        return [Finding("identity-unknown", wanted=need.text, judged="unknown")]
    at = _places(scope)
    if not at:
        if _can_choose(scope):
            return no_destination(scope)
        platform = scope.records.dialect.name
        return [Finding("no-source", found=platform, wanted=need.text, judged="unable")]
    out = []
    # An address that two devices are known by tells neither from the other at the collector.
    if by_identity and (others_too := _rivals(scope)):
        more = (("others", others_too),)
        out.append(Finding("rivals", IDENTITY, found=identity or "", more=more))
    for place, by_interface in at:
        if place.said.value is None:
            out.append(Finding("nearest", place.label, place.title, wanted=need.text))
            continue
        way = way_of(scope, place, by_interface)
        if way.doubt:
            out.append(_finding(place, way.doubt, way, need, "unknown"))
            continue
        wrong = _wrong(scope, need, place, by_interface, way)
        if wrong:
            unknown = by_identity and identity is None
            # What is none of the others may still be the identity, which the fleet does not give.
            sure = not unknown or not _may_be_identity(scope, need, place, by_interface, way)
            out.append(_finding(place, wrong, way, need, "breaks" if sure else "unknown", unknown))
    return out


def _may_be_identity(
    scope: Scope, need: Need, place: ValuePlace, by_interface: bool, way: SourcePath
) -> bool:
    """Whether a source is wrong for no other reason than that it is none of those named."""
    faces = {way.name, *way.addresses}
    reaches = not (way.wrong or cannot_reach(scope, place, by_interface, way))
    return reaches and not faces & set(need.never)


def _finding(
    place: ValuePlace,
    why: str,
    way: SourcePath,
    need: Need,
    judged: Literal["breaks", "unknown"],
    unknown: bool = False,
) -> Finding:
    """Return the finding about a source.

    `unknown`: the fleet gives no identity to compare it with.
    """
    more = (("why", why), ("unknown", "yes" if unknown else ""))
    found = str(place.said.value)
    return Finding("source", place.label, place.title, found, need.text, more, way.lines, judged)


def _rivals(scope: Scope) -> str:
    """Return the devices that the fleet gives this device's identity as well; '' if none."""
    device = scope.device
    if device is None or not device.rivals:
        return ""
    some = device.rivals[:RIVALS_NAMED]
    more = len(device.rivals) - RIVALS_NAMED
    return ", ".join(some) + (f" and {more} more" if more > 0 else "")


def _wrong(scope: Scope, need: Need, place: ValuePlace, by_interface: bool, way: SourcePath) -> str:
    """Return why a source that is set is not as asked; '' if it is."""
    identity = scope.device.identity if scope.device else None
    return (
        way.wrong or cannot_reach(scope, place, by_interface, way) or _against(need, identity, way)
    )


def _against(need: Need, identity: str | None, way: SourcePath) -> str:
    faces = {way.name, *way.addresses}
    if identity is not None and identity in _identities(way):
        faces.add(IDENTITY)
    if faces & set(need.never):
        return f"leaves from {way.name}, which is never to be the source"
    if need.any_of is None or faces & set(need.any_of):
        return ""
    known = [v for v in need.any_of if v != IDENTITY or identity is not None]
    wanted = " or ".join(f"{identity} (its identity)" if v == IDENTITY else v for v in known)
    left = (
        f"{way.name} ({', '.join(way.addresses)})"
        if way.name and way.addresses
        else way.name or way.addresses[0]
    )
    return f"leaves from {left}, not {wanted}"


def _identities(way: SourcePath) -> tuple[str, ...]:
    """Return the addresses that identify a device sending from here: in another family, those
    beside it.
    """
    own = {family_of(a) for a in way.addresses}
    return (*way.addresses, *(a for a in way.beside if family_of(a) not in own))


def mend(scope: Scope, needs: Needs) -> tuple[Records, list[Obstacle]]:
    """Set a source that is asked for and can reach the destinations."""
    records = scope.records
    need = needs[""]
    at = _places(scope)
    if not _can_choose(scope):
        return records, []
    obstacles: list[Obstacle] = []
    if IDENTITY in (need.any_of or ()) and _rivals(scope):
        obstacles.append(Obstacle("own-identity", IDENTITY))
    for place, by_interface in at:
        if place.said.value is not None:
            way = way_of(scope, place, by_interface)
            if way.doubt:
                more: More = (("why", way.doubt),)
                obstacles.append(Obstacle("stuck", place.label, place.title, more=more))
                continue
            if not _wrong(scope, need, place, by_interface, way):
                continue
            # To move what may be the identity would be to guess.
            by_identity = IDENTITY in (need.any_of or ())
            unknown = scope.device is None or scope.device.identity is None
            here = place, by_interface, way
            if by_identity and unknown and _may_be_identity(scope, need, *here):
                continue
        leaving = leaving_by(scope, place)
        value = _choice(scope, need, place, by_interface, leaving)
        if value is None:
            why = _stuck(scope, need, place, by_interface, leaving)
            obstacles.append(Obstacle("stuck", place.label, place.title, more=(("why", why),)))
        elif not records.dialect.can_write(place.slot, value):
            why = f"'{shorten(value)}' cannot be written, or would steer what it is typed to"
            obstacles.append(Obstacle("stuck", place.label, place.title, more=(("why", why),)))
        else:
            records = records.having(place.table, place.key, place.slot, value)
    return records, obstacles


def _choice(
    scope: Scope, need: Need, place: ValuePlace, by_interface: bool, families: Collection[str]
) -> str | None:
    """Return the first wanted source that this device has and that can reach these families, in its
    platform's words.
    """

    def first(options: Iterable[str]) -> str | None:
        return next((a for a in options if all(family_of(a) == f for f in families)), None)

    # What the policy says to write comes before what it only allows.
    for asked in (*([need.write] if need.write else []), *(need.any_of or ())):
        wanted = (
            ((scope.device.identity if scope.device else None) or "")
            if asked == IDENTITY
            else asked
        )
        # Whether such an interface exists cannot be seen, so the word of the policy is written.
        if not knows_interfaces(scope.records):
            if wanted and is_address(wanted) != by_interface and (by_interface or first([wanted])):
                return wanted
            continue
        found = interface_with(scope.records, wanted)
        row = found[1] if found else scope.records.row("interface", wanted)
        if row is None or scope.records.get("interface.state", row).value == "down" or DOUBT in row:
            continue
        if other_plane(scope.records, row, place):
            continue
        addresses = () if parts_off(row) else in_use(row)
        if by_interface and addresses and {family_of(a) for a in addresses} >= set(families):
            return found[0] if found else wanted
        # Where the identity is of the other family, what is beside it is as good.
        value = first(
            ([wanted, *addresses] if asked == IDENTITY else [wanted]) if found else addresses
        )
        if value is not None and not by_interface:
            return value
    return None


def _stuck(
    scope: Scope,
    need: Need,
    place: ValuePlace,
    by_interface: bool,
    leaving: Mapping[str, Destination],
) -> str:
    """Return why no source that is asked for can be written."""
    identity = scope.device.identity if scope.device else None
    if need.any_of is None and not need.write:
        return "the policy does not say what to write; add `write:` to it"
    found = (
        interface_with(scope.records, identity)
        if identity and IDENTITY in (need.any_of or ())
        else None
    )
    if found and other_plane(scope.records, found[1], place):
        return (
            f"{found[0]}, which has the identity {identity}, carries no messages of {place.label}"
        )
    # With no family asked for, there may be a source after all: then the family is the reason.
    any_family = _choice(scope, need, place, by_interface, ())
    if any_family is not None:
        wanted = " and ".join(f"{family} for {d.title}" for family, d in leaving.items())
        if not by_interface:
            return f"the address {any_family} is of another family than asked for: {wanted}"
        return f"{any_family} is up, but has no address of {wanted}"
    if need.any_of == (IDENTITY,):
        return f"no interface that is up has the identity {identity}"
    return f"no interface that is up and has an address is {need.text}"


SETTING = Setting(
    name="source",
    slots=(
        *("source.interface", "source.address", *SLOTS),
        *("destination.source-address", "destination.source-interface"),
        *("feed.source-interface", "feed.source-address"),
        *("interface.name", "interface.address", "interface.state", "interface.plane"),
        *("interface.inet-state", "interface.inet6-state", "interface.part-state"),
    ),
    hangs_on=(
        *("destination.name", "destination.address", "feed.name"),
        *("give.feed", "give.destination"),
    ),
    kind="`identity`, the name of an interface, or an address",
    meaning="the interface or address that messages leave from",
    effect="messages come from another address: filters and inventories by address must follow",
    matters="without it a device shows up under whatever address is nearest, and under several "
    "in turn",
    meets="source: identity  ←  leave-from loop1, and loop1 has the address that the fleet gives "
    "the device",
    breaks="source: identity  ←  no source; or one without address; or another interface's",
    ask=ask,
    facts=facts,
    judge=judge,
    mend=mend,
)
