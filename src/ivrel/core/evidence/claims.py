"""Claims: what the messages of a device prove or contradict of each setting.

A message shows what it bears, never what is missing: that nothing was heard proves nothing. And it
shows it for its time: a value that has stopped contradicts nothing of today (`in_time`).
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from datetime import UTC, datetime

from msgspec import Struct

from ivrel.core.evidence.clocks import clock_against
from ivrel.core.evidence.in_time import ValuesInTime, has_paused, in_time, is_before
from ivrel.core.evidence.summary import Evidence, ExampleMessage, Summary, Tally
from ivrel.core.fleet import Device
from ivrel.core.policy import Policy, Requirement, effective
from ivrel.core.policy.need import Need, SetNeed
from ivrel.core.settings.format import EXPECTED
from ivrel.core.settings.source import IDENTITY
from ivrel.core.vocabulary.addresses import is_address
from ivrel.core.vocabulary.values import THRESHOLD

CLAIMS = ("contradicted", "not seen", "proved")  # the worst first


class SeenValue(Struct, frozen=True):
    """One value that messages showed: how many did, when the first and the last of them came."""

    value: str
    number: int
    first: datetime | None
    last: datetime | None


class Claim(Struct, frozen=True):
    """What messages say of one setting of a device.

    `heard`: what was heard, in words; `why`: what contradicts, or is missing to a proof;
    `example`: the message that decides; None where none does; `values`: all that were heard, the
    most frequent first.
    """

    setting: str
    claim: str
    heard: str
    wanted: str
    rule: str
    why: str = ""
    example: ExampleMessage | None = None
    values: tuple[SeenValue, ...] = ()

    @property
    def first(self) -> datetime | None:
        """When the first message that shows it came, as far as that is known."""
        return min((v.first for v in self.values if v.first is not None), default=None)

    @property
    def last(self) -> datetime | None:
        """When the last message that shows it came, as far as that is known."""
        return max((v.last for v in self.values if v.last is not None), default=None)


class Heard(Struct, frozen=True):
    """What one device is judged by: what was heard of it, and what the policy asks of it.

    `changed`: when a correction was delivered to it last, in seconds since 1970: what was heard
    only before says nothing of today; `common_offset`: how far the clocks of most devices are
    ahead, in seconds.
    """

    device: Device
    policy: Policy
    asked: Mapping[str, Requirement]
    summary: Summary
    changed: float | None = None
    common_offset: float = 0.0

    def of(self, what: str) -> Mapping[str, Tally]:
        """Return the values of one thing that is observed, without those of before its change."""
        values = self.summary.of(what)
        return {v: t for v, t in values.items() if not is_before(t, self.changed)}


class _Said(Struct, frozen=True):
    """The outcome of one comparison."""

    claim: str
    heard: str
    why: str = ""
    example: ExampleMessage | None = None


Judge = Callable[[Heard, Requirement], _Said]


def claims_of(
    device: Device,
    policy: Policy,
    evidence: Evidence,
    changed: float | None = None,
    common_offset: float = 0.0,
) -> tuple[Claim, ...]:
    """Return the claims about a device, setting by setting.

    `changed`: when a correction was delivered to it last, in seconds since 1970; `common_offset`:
    how far the clocks of most devices are ahead of the collectors', in seconds.
    """
    asked = effective(policy, device)
    summary = evidence.of(device.name)
    return tuple(judged(Heard(device, policy, asked, summary, changed, common_offset)))


def judged(heard: Heard) -> Iterator[Claim]:
    """Yield a claim for each setting that the policy asks of the device."""
    for name, requirement in heard.asked.items():
        if requirement.problem:
            said = _Said("not seen", "", requirement.problem)
        elif not heard.summary.number:
            said = _Said("not seen", "", "nothing was heard of the device")
        elif heard.changed is not None and (heard.summary.ended or 0) < heard.changed:
            when = clock_time(heard.changed)
            why = f"nothing was heard since its correction was delivered at {when}"
            said = _Said("not seen", "", why)
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
            _seen(heard.summary.of(_OBSERVED.get(name, ""))),
        )


def _seen(values: Mapping[str, Tally]) -> tuple[SeenValue, ...]:
    return tuple(
        SeenValue(value, tally.number, _moment(tally.begun), _moment(tally.ended))
        for value, tally in _most_first(values)
    )


def _moment(seconds: float | None) -> datetime | None:
    return None if seconds is None else datetime.fromtimestamp(seconds, UTC)


def clock_time(seconds: float) -> str:
    """Return a moment in words, in UTC: '2026-11-23 12:04'."""
    return datetime.fromtimestamp(seconds, UTC).strftime("%Y-%m-%d %H:%M")


def _value(what: str, lacking: str) -> Judge:
    """Return the comparison of a value that each message bears."""

    def judge(heard: Heard, requirement: Requirement) -> _Said:
        return _compared(heard, what, requirement.needs[""], lacking)

    return judge


def _compared(heard: Heard, what: str, need: Need, lacking: str) -> _Said:
    """Compare the values that were heard with what is asked: a single one that is not as asked and
    still holds contradicts.
    """
    values = heard.summary.of(what)
    if not values:
        return _Said("not seen", "", lacking)
    found = in_time(values, need.accepts, heard.changed)
    return _decided(found, values, need.text)


def _decided(found: ValuesInTime, values: Mapping[str, Tally], wanted: str) -> _Said:
    """Return what values prove or contradict; `values`: with those that were left out."""
    said = _in_words(values, found)
    for value, tally in _most_first(found.wrong):
        return _Said("contradicted", said, f"{value} was heard, not {wanted}", tally.first)
    if found.unsure:
        return _Said("not seen", said, _may_have_stopped(found.unsure))
    if not found.right:
        return _Said("not seen", said, "it was heard only before its correction was delivered")
    return _Said("proved", said, "", _most_first(found.right)[0][1].first)


def _may_have_stopped(unsure: Mapping[str, Tally]) -> str:
    value, tally = _most_first(unsure)[0]
    until = clock_time(tally.ended or 0)
    return (
        f"{value} was heard until {until}, which may have ended: --since leaves out what was before"
    )


def _in_words(values: Mapping[str, Tally], found: ValuesInTime) -> str:
    """Return values with how often each was heard; where one has ended, with their times."""
    since = found.since
    if since is None:
        return _listed(values)
    parts = []
    for value, tally in _most_first({**found.right, **found.wrong}):
        begun = tally.begun or 0
        from_when = f" since {clock_time(begun)}" if begun > since else ""
        parts.append(f"{value} ({tally.number:,}){from_when}")
    for value, tally in _most_first({**found.stopped, **found.unsure}):
        parts.append(f"{value} ({tally.number:,}) until {clock_time(tally.ended or 0)}")
    return ", ".join(parts[:4]) + (f" and {len(parts) - 4} more" if len(parts) > 4 else "")


def _most_first(values: Mapping[str, Tally]) -> list[tuple[str, Tally]]:
    return sorted(values.items(), key=lambda one: (-one[1].number, one[0]))


def _listed(values: Mapping[str, Tally], most: int = 4) -> str:
    """Return values with how often each was heard, the most frequent first."""
    ranked = _most_first(values)
    said = [f"{value} ({tally.number:,})" for value, tally in ranked[:most]]
    return ", ".join(said) + (f" and {len(ranked) - most} more" if len(ranked) > most else "")


_SURELY_UNSYNCHRONISED = 5  # messages; a device that starts says so for a moment
_NO_PRI = "no record holds the message as the device wrote it"


def _export(heard: Heard, requirement: Requirement) -> _Said:
    need = requirement.needs[""]
    number = heard.summary.number
    said = f"{number:,} message{'' if number == 1 else 's'}"
    example = heard.summary.first
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
    most = max(accepted, default=len(order))
    found = in_time(values, lambda severity: order.index(severity) <= most, heard.changed)
    if found.wrong:
        least_urgent = max(found.wrong, key=order.index)
        tally = found.wrong[least_urgent]
        why = f"{least_urgent} was heard, not {need.text}"
        return _Said("contradicted", f"down to {least_urgent}", why, tally.first)
    if found.unsure:
        return _Said("not seen", _in_words(values, found), _may_have_stopped(found.unsure))
    if not found.right:
        why = "it was heard only before its correction was delivered"
        return _Said("not seen", _listed(values), why)
    lasting = [v for v, t in found.right.items() if not is_before(t, found.since)]
    least_urgent = max(lasting, key=order.index)
    said = f"down to {least_urgent}"
    if found.since is not None:
        said = f"{said} since {clock_time(found.since)}"
    # Between two thresholds that are asked for, it may be either, or one that is not.
    if order.index(least_urgent) in accepted:
        return _Said("proved", said, "", found.right[least_urgent].first)
    why = f"nothing less urgent than {least_urgent} was heard, which proves no level of {need.text}"
    return _Said("not seen", said, why)


def _stamp(heard: Heard, requirement: Requirement) -> _Said:
    kinds = heard.of("stamp kind")
    if not kinds:
        return _Said("not seen", "", _NO_PRI)
    heards = []
    example = None
    open_part = None
    for part, need in requirement.needs.items():
        values = heard.summary.of(f"stamp {part}")
        if part != "kind" and set(kinds) != {"calendar"} and not need.accepts("hidden"):
            # Only a calendar's stamp has the other parts.
            ended = in_time(kinds, lambda kind: kind == "calendar", heard.changed)
            for value, tally in _most_first(ended.wrong):
                what = _in_words(kinds, ended)
                why = f"stamps are {value}, which show no {part}"
                return _Said("contradicted", what, why, tally.first)
        if not values:
            continue
        said = _compared(heard, f"stamp {part}", need, "")
        heards.append(f"{part} {said.heard}")
        if said.claim == "contradicted":
            return _Said(said.claim, f"{part} {said.heard}", f"{part}: {said.why}", said.example)
        if said.claim == "not seen":
            open_part = open_part or _Said(said.claim, said.heard, f"{part}: {said.why}")
        example = example or said.example
    return open_part or _Said("proved", "; ".join(heards), "", example)


def _collectors(heard: Heard, requirement: Requirement) -> _Said:
    """Compare where messages arrived with where they should, and on which port."""
    need: SetNeed = requirement.needs[""]
    values = heard.of("arrival")
    if not values:
        return _Said("not seen", "", "it is not known at which collector the records were made")

    def wrong(value: str) -> str:
        return _misplaced(heard, need, value)

    found = in_time(values, lambda value: not wrong(value), heard.changed)
    said = _in_words(values, found)
    for value, tally in _most_first(found.wrong):
        return _Said("contradicted", said, wrong(value), tally.first)
    if found.unsure:
        return _Said("not seen", said, _may_have_stopped(found.unsure))
    # What arrived there once and does no more proves nothing of today.
    lasting = [v for v, t in found.right.items() if not has_paused(t, heard.summary.ended)]
    collectors = heard.policy.collectors
    arrived = {value.partition(" ")[0] for value in lasting}
    reached = arrived.union(*(collectors[name].reaches for name in arrived if name in collectors))
    missing = [name for name in need.wanted if name not in reached]
    if missing:
        ended = [t.ended for v, t in found.right.items() if v.partition(" ")[0] == missing[0]]
        until = f" any more since {clock_time(ended[0])}" if ended and ended[0] else ""
        why = f"nothing was heard at {' and '.join(missing)}{until}"
        return _Said("not seen", said, why)
    return _Said("proved", said, "", _most_first(found.right)[0][1].first)


def _misplaced(heard: Heard, need: SetNeed, value: str) -> str:
    """Return why messages should not arrive where they did ('NAME TRANSPORT PORT'); '' if they
    should.
    """
    collectors = heard.policy.collectors
    name, _, way = value.partition(" ")
    through = collectors[name].reaches if name in collectors else frozenset()
    wanted = name in need.wanted or bool(through & set(need.wanted))
    if name in need.never or (need.exactly is not None and not wanted):
        return f"messages arrive at {name}, which is not asked for"
    expected = f"{collectors[name].transport} {collectors[name].port}"
    if way and way != expected and not heard.summary.of("relay"):
        return f"messages arrive at {name} by {way}, not {expected}"
    return ""


def _source(heard: Heard, requirement: Requirement) -> _Said:
    """Compare the senders with the identity, or with the addresses that are asked for."""
    need: Need = requirement.needs[""]
    values = heard.of("source")
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

    def is_right(value: str) -> bool:
        # A device has an identity of one family, and may be reached by the other.
        other_family = by_identity and identity is not None and (":" in value) != (":" in identity)
        is_other = bool(accepted) and value not in accepted and not other_family
        return value not in need.never and not is_other

    wanted = f"{identity}, its identity" if by_identity else need.text
    found = in_time(values, is_right, heard.changed)
    said = _in_words(values, found)
    for value, tally in _most_first(found.wrong):
        return _Said("contradicted", said, f"{value} sends, not {wanted}", tally.first)
    if found.unsure:
        return _Said("not seen", said, _may_have_stopped(found.unsure))
    if accepted and not accepted & found.right.keys():
        return _Said("not seen", said, "its identity is of another family than what was heard")
    return _Said("proved", said, "", _most_first(found.right)[0][1].first)


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
    return _compared(heard, "format", need, _NO_PRI)


def _clock(heard: Heard, requirement: Requirement) -> _Said:
    """Compare the stamps with the times at which they came: a clock that is wrong is set by
    nothing. One that is right may be so by chance.
    """
    no = heard.of("synchronised").get("no")
    if no is not None and _says_it_lasts(no, heard.summary):
        why = "it says that its clock is not synchronised"
        return _Said("contradicted", "not synchronised", why, no.first)
    clock = clock_against(heard.device.name, heard.summary, heard.changed, heard.common_offset)
    return _Said(clock.claim, clock.heard, clock.why, clock.example)


def _says_it_lasts(no: Tally, summary: Summary) -> bool:
    """Whether a device says at last that its clock is not synchronised, and mostly did before: one
    that starts says so for a while.
    """
    is_most = no.number >= _SURELY_UNSYNCHRONISED and 2 * no.number > summary.number
    return is_most and not has_paused(no, summary.ended)


def _told(heard: Heard, requirement: Requirement) -> _Said:
    """Look for a message of changes, or of logins."""
    need: Need = requirement.needs[""]
    tally = heard.of("tells").get(requirement.setting)
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

# What is observed of the settings that have values of their own.
_OBSERVED: Mapping[str, str] = {
    "collectors": "arrival",
    "level": "severity",
    "facility": "facility",
    "source": "source",
    "stamp": "stamp kind",
    "origin": "origin",
    "numbering": "numbering",
    "format": "format",
    "changes": "tells",
    "logins": "tells",
    "clock": "synchronised",
}

JUDGED = frozenset(_JUDGES)  # the settings that messages can tell of
