"""Claims: what the messages of a device prove or contradict of each setting.

A message shows what it bears, never what is missing: that nothing was heard proves nothing.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from datetime import UTC, datetime

from msgspec import Struct

from ivrel.core.evidence.summary import Evidence, ExampleMessage, Summary, Tally
from ivrel.core.fleet import Device
from ivrel.core.measuring.clocks import clock_of, told
from ivrel.core.policy import Policy, Requirement, effective
from ivrel.core.policy.need import Need, SetNeed
from ivrel.core.settings.format import EXPECTED
from ivrel.core.settings.source import IDENTITY
from ivrel.core.vocabulary.addresses import is_address
from ivrel.core.vocabulary.values import THRESHOLD

CLAIMS = ("contradicted", "not seen", "proved")  # the worst first


class Claim(Struct, frozen=True):
    """What messages say of one setting of a device.

    `heard`: what was heard, in words; `why`: what contradicts, or is missing to a proof;
    `example`: the message that decides; None where none does.
    """

    setting: str
    claim: str
    heard: str
    wanted: str
    rule: str
    why: str = ""
    example: ExampleMessage | None = None


class Heard(Struct, frozen=True):
    """What one device is judged by: what was heard of it, and what the policy asks of it."""

    device: Device
    policy: Policy
    asked: Mapping[str, Requirement]
    summary: Summary


class _Said(Struct, frozen=True):
    """The outcome of one comparison."""

    claim: str
    heard: str
    why: str = ""
    example: ExampleMessage | None = None


Judge = Callable[[Heard, Requirement], _Said]


def claims_of(device: Device, policy: Policy, evidence: Evidence) -> tuple[Claim, ...]:
    """Return the claims about a device, setting by setting."""
    summary = evidence.devices.get(device.name) or Summary()
    return tuple(judged(Heard(device, policy, effective(policy, device), summary)))


def judged(heard: Heard) -> Iterator[Claim]:
    """Yield a claim for each setting that the policy asks of the device."""
    for name, requirement in heard.asked.items():
        if requirement.problem:
            said = _Said("not seen", "", requirement.problem)
        elif not heard.summary.number:
            said = _Said("not seen", "", "nothing was heard of the device")
        elif name in _JUDGES:
            said = _JUDGES[name](heard, requirement)
        else:
            said = _Said("not seen", "", "no message shows it")
        yield Claim(
            name,
            said.claim,
            said.heard,
            requirement.text,
            requirement.rule,
            said.why,
            said.example,
        )


def _value(what: str, lacking: str) -> Judge:
    """Return the comparison of a value that each message bears."""

    def judge(heard: Heard, requirement: Requirement) -> _Said:
        return _compared(heard.summary.of(what), requirement.needs[""], lacking)

    return judge


def _compared(values: Mapping[str, Tally], need: Need, lacking: str) -> _Said:
    """Compare the values that were heard with what is asked: a single one that is not as asked
    contradicts.
    """
    if not values:
        return _Said("not seen", "", lacking)
    said = _listed(values)
    for value, tally in _most_first(values):
        if not need.accepts(value):
            return _Said("contradicted", said, f"{value} was heard, not {need.text}", tally.first)
    return _Said("proved", said, "", _most_first(values)[0][1].first)


def _most_first(values: Mapping[str, Tally]) -> list[tuple[str, Tally]]:
    return sorted(values.items(), key=lambda one: (-one[1].number, one[0]))


def _listed(values: Mapping[str, Tally], most: int = 4) -> str:
    """Return values with how often each was heard, the most frequent first."""
    ranked = _most_first(values)
    said = [f"{value} ({tally.number:,})" for value, tally in ranked[:most]]
    return ", ".join(said) + (f" and {len(ranked) - most} more" if len(ranked) > most else "")


_NO_PRI = "no record holds the message as the device wrote it"


def _export(heard: Heard, requirement: Requirement) -> _Said:
    need = requirement.needs[""]
    number = heard.summary.number
    said = f"{number:,} message{'' if number == 1 else 's'}"
    example = min(
        (tally.first for values in heard.summary.values.values() for tally in values.values()),
        default=None,
    )
    if need.accepts("on"):
        return _Said("proved", said, "", example)
    return _Said("contradicted", said, "it sends, although export is to be off", example)


def _level(heard: Heard, requirement: Requirement) -> _Said:
    """Compare the least urgent severity that was heard with the thresholds that are asked for."""
    need: Need = requirement.needs[""]
    values = heard.summary.of("severity")
    if not values:
        return _Said("not seen", "", _NO_PRI)
    order = THRESHOLD.choices
    accepted = [order.index(word) for word in order if need.accepts(word)]
    least_urgent = max(values, key=order.index)
    said = f"down to {least_urgent}"
    tally = values[least_urgent]
    if accepted and order.index(least_urgent) > max(accepted):
        return _Said(
            "contradicted", said, f"{least_urgent} was heard, not {need.text}", tally.first
        )
    # Between two thresholds that are asked for, it may be either, or one that is not.
    if order.index(least_urgent) in accepted:
        return _Said("proved", said, "", tally.first)
    why = f"nothing less urgent than {least_urgent} was heard, which proves no level of {need.text}"
    return _Said("not seen", said, why)


def _stamp(heard: Heard, requirement: Requirement) -> _Said:
    kinds = heard.summary.of("stamp kind")
    if not kinds:
        return _Said("not seen", "", _NO_PRI)
    heards = []
    example = None
    for part, need in requirement.needs.items():
        values = heard.summary.of(f"stamp {part}")
        if not values:
            # Only a calendar's stamp has these parts; none of them was heard.
            what = _listed(kinds)
            tally = _most_first(kinds)[0][1]
            if not need.accepts("hidden"):
                why = f"stamps are {what}, which show no {part}"
                return _Said("contradicted", what, why, tally.first)
            continue
        said = _compared(values, need, "")
        heards.append(f"{part} {said.heard}")
        if said.claim == "contradicted":
            return _Said(said.claim, f"{part} {said.heard}", f"{part}: {said.why}", said.example)
        example = example or said.example
    return _Said("proved", "; ".join(heards), "", example)


def _collectors(heard: Heard, requirement: Requirement) -> _Said:
    """Compare where messages arrived with where they should, and on which port."""
    need: SetNeed = requirement.needs[""]
    values = heard.summary.of("arrival")
    if not values:
        return _Said("not seen", "", "it is not known at which collector the records were made")
    collectors = heard.policy.collectors
    said = _listed(values)
    arrived = set()
    for value, tally in _most_first(values):
        name, _, way = value.partition(" ")
        arrived.add(name)
        through = collectors[name].reaches if name in collectors else frozenset()
        wanted = name in need.wanted or bool(through & set(need.wanted))
        if name in need.never or (need.exactly is not None and not wanted):
            why = f"messages arrive at {name}, which is not asked for"
            return _Said("contradicted", said, why, tally.first)
        expected = f"{collectors[name].transport} {collectors[name].port}"
        if way and way != expected and not heard.summary.of("relay"):
            why = f"messages arrive at {name} by {way}, not {expected}"
            return _Said("contradicted", said, why, tally.first)
    reached = arrived.union(*(collectors[name].reaches for name in arrived if name in collectors))
    missing = [name for name in need.wanted if name not in reached]
    if missing:
        return _Said("not seen", said, f"nothing was heard at {' and '.join(missing)}")
    return _Said("proved", said, "", _most_first(values)[0][1].first)


def _source(heard: Heard, requirement: Requirement) -> _Said:
    """Compare the senders with the identity, or with the addresses that are asked for."""
    need: Need = requirement.needs[""]
    values = heard.summary.of("source")
    identity = heard.device.identity
    if not values:
        return _Said("not seen", "", "the records tell no sender, or it is a relay's")
    said = _listed(values)
    named = [word for word in need.any_of or () if word != IDENTITY and not is_address(word)]
    by_identity = need.any_of is not None and IDENTITY in need.any_of
    if named or (by_identity and identity is None):
        what = "interfaces" if named else "the identity of the device"
        return _Said("not seen", said, f"messages do not tell {what}")
    accepted = {identity if word == IDENTITY else word for word in need.any_of or ()}
    for value, tally in _most_first(values):
        # A device has an identity of one family, and may be reached by the other.
        other_family = by_identity and identity is not None and (":" in value) != (":" in identity)
        if value in need.never or (accepted and value not in accepted and not other_family):
            wanted = f"{identity}, its identity" if by_identity else need.text
            return _Said("contradicted", said, f"{value} sends, not {wanted}", tally.first)
    if accepted and not accepted & values.keys():
        return _Said("not seen", said, "its identity is of another family than what was heard")
    return _Said("proved", said, "", _most_first(values)[0][1].first)


def _format(heard: Heard, requirement: Requirement) -> _Said:
    need: Need = requirement.needs[""]
    if need.any_of is not None and EXPECTED in need.any_of:
        asked = heard.asked.get("collectors")
        wanted = asked.needs[""].wanted if asked is not None else ()
        known = (heard.policy.collectors[n] for n in wanted if n in heard.policy.collectors)
        formats = {c.format for c in known}
        if len(formats) != 1 or None in formats:
            return _Said("not seen", "", "its collectors expect several formats, or any")
        need = Need(any_of=tuple(str(form) for form in formats))
    return _compared(heard.summary.of("format"), need, _NO_PRI)


# What of a clock contradicts that something sets it; that it drifts may be granted.
_WRONG = ("unset", "year", "zone", "wrong")
CLOCK_TOLERANCE = 60.0  # seconds


def _clock(heard: Heard, requirement: Requirement) -> _Said:
    """Compare the stamps with the times at which they came: a clock that is wrong is set by
    nothing. One that is right may be so by chance.
    """
    unsynchronised = heard.summary.of("synchronised").get("no")
    if unsynchronised is not None:
        why = "it says that its clock is not synchronised"
        return _Said("contradicted", "not synchronised", why, unsynchronised.first)
    pairs = heard.summary.pairs
    clock = clock_of(heard.device.name, pairs.sample, pairs.number, CLOCK_TOLERANCE)
    if clock.kind in _WRONG and clock.example is not None:
        shown = clock.example
        when = datetime.fromtimestamp(shown.came, UTC)
        example = ExampleMessage(shown.file, shown.line, when, shown.data)
        return _Said("contradicted", told(clock), told(clock), example)
    if clock.kind == "untold":
        return _Said("not seen", "", told(clock))
    return _Said("not seen", "its clock is right", "messages do not tell what sets it")


def _told(heard: Heard, requirement: Requirement) -> _Said:
    """Look for a message of changes, or of logins."""
    need: Need = requirement.needs[""]
    tally = heard.summary.of("tells").get(requirement.setting)
    if tally is None:
        return _Said("not seen", "", f"no message tells of {requirement.setting}")
    said = f"{tally.number:,} message{'' if tally.number == 1 else 's'}"
    if need.accepts("on"):
        return _Said("proved", said, "", tally.first)
    why = f"it tells of {requirement.setting}, although it is not to"
    return _Said("contradicted", said, why, tally.first)


_JUDGES: Mapping[str, Judge] = {
    "export": _export,
    "collectors": _collectors,
    "level": _level,
    "facility": _value("facility", _NO_PRI),
    "source": _source,
    "stamp": _stamp,
    "origin": _value("origin", _NO_PRI),
    "numbering": _value("numbering", _NO_PRI),
    "format": _format,
    "clock": _clock,
    "changes": _told,
    "logins": _told,
}

JUDGED = frozenset(_JUDGES)  # the settings that messages can tell of
