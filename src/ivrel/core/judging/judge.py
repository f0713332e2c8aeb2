"""Judges one configuration against what the policy asks of its device.

Everything here is pure: a verdict depends on the scope and the requirement alone.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import date

from msgspec import Struct
from msgspec.structs import replace

from ivrel.core.fleet import Device
from ivrel.core.policy import Policy, Requirement, Waiver, effective
from ivrel.core.reading.mentions import Hosts
from ivrel.core.reading.records import Records
from ivrel.core.reading.statements import UnparsedLine
from ivrel.core.settings import SETTINGS, Fact, Finding, Scope
from ivrel.core.settings.relevance import bearing
from ivrel.core.settings.unstated import judged
from ivrel.core.text.bundle import Places
from ivrel.core.vocabulary.verdict import GOOD, DeviceResult, FindingRecord, Place, Verdict
from ivrel.core.vocabulary.wording import plain

UNPARSED_SHOWN = 3  # strange statements that are told; the rest is counted
_WORST = ("breaks", "unknown", "unable")


class Known(Struct, frozen=True):
    """What is known of a setting already: what is not as asked, and what the configuration says;
    None if that is to be found.
    """

    findings: Sequence[Finding]
    facts: list[Fact] | None = None


def unreadable(device: Device, policy: Policy, problem: str) -> DeviceResult:
    """Return the result of a device whose configuration is not there or cannot be read."""
    why = "the configuration could not be read"
    told = (FindingRecord("unreadable", judged="unknown"),)
    verdicts = tuple(
        Verdict(r.setting, "unknown", "", r.text, r.rule, why, (), told)
        for r in effective(policy, device).values()
    )
    return DeviceResult(device.name, device.kind, device.site, device.platform, verdicts, problem)


SHORTEST_NAME = 5  # letters: a shorter name of a collector stands in many statements


def hosts_of(policy: Policy) -> Hosts:
    """Return the addresses and names of a policy's collectors, as statements name them."""

    def find() -> Hosts:
        out: list[str] = []
        for c in policy.collectors.values():
            out += [c.address, *c.names]
            if len(c.name) >= SHORTEST_NAME:
                out.append(c.name)
        return Hosts(out)

    return policy.once("hosts", find)


def scope_of(
    device: Device, records: Records, policy: Policy, asked: Mapping[str, Requirement]
) -> Scope:
    """Return the scope that a device is judged in, with the collectors that it should have."""
    need = asked["collectors"].needs[""] if "collectors" in asked else None
    wanted = None
    # Where the policy says only what must not be there, everything that is there is judged.
    if need is not None and (need.exactly is not None or need.includes):
        relays = (c.name for c in policy.collectors.values() if c.reaches & set(need.wanted))
        # What leaves for a relay leaves for those that it forwards to.
        wanted = (*need.wanted, *relays)
    forbidden = frozenset(need.never) if need is not None else frozenset()
    return Scope(device, records, policy.collectors, wanted, forbidden)


def judge(scope: Scope, asked: Mapping[str, Requirement], file: str) -> tuple[Verdict, ...]:
    """Return the verdicts of one device, waivers aside.

    `file`: what its configuration is called.
    """
    places = scope.records.place(file)
    return tuple(judge_one(scope, r, places) for r in asked.values())


def judge_one(
    scope: Scope,
    asked: Requirement,
    places: Places,
    known: Known | None = None,
) -> Verdict:
    """Return the verdict of one requirement; `known`: of its setting, if anything is.

    It is `unknown` where a line that is not understood may bear on it.
    """
    unparsed = strays_on(scope.records, asked.setting)
    # Doubt goes first: a value that is as asked may be replaced by the line that nobody understood.
    if unparsed:
        return _doubtful(scope, asked, unparsed, places)
    if asked.problem:  # it is not known what is asked
        told = (FindingRecord("unasked", judged="unknown"),)
        problem = asked.problem
        return Verdict(asked.setting, "unknown", "", asked.text, asked.rule, problem, (), told)
    return _judge(scope, asked, places, known)


def strays_on(records: Records, setting: str) -> list[UnparsedLine]:
    """Return the statements that are not understood and may bear on a setting."""
    return [s for s in records.unparsed if setting in bearing(records.dialect, s.strange)]


def _judge(scope: Scope, asked: Requirement, places: Places, known: Known | None) -> Verdict:
    setting = SETTINGS[asked.setting]
    findings = judged(setting, scope, asked.needs) if known is None else known.findings
    facts = None if known is None else known.facts
    if facts is None:
        facts = setting.facts(scope)
    if not findings:
        lines = tuple(line for fact in facts for line in fact.lines)
        return _verdict(asked, "meets", facts, "as asked", lines, places)
    # One finding that is certain outweighs those that are not.
    verdict = min((f.verdict for f in findings), key=_WORST.index)
    whys = [f.why for f in findings]
    if verdict == "unable":
        whys += [f.cannot.why for f in findings if f.cannot is not None]
    why = "; ".join(dict.fromkeys(whys))
    lines = tuple(line for f in findings for line in f.lines)
    return _verdict(asked, verdict, facts, why, lines, places, tuple(map(_told, findings)))


def _told(f: Finding) -> FindingRecord:
    return FindingRecord(f.kind, plain(f.about), plain(f.found), plain(f.wanted), f.verdict)


def _doubtful(
    scope: Scope, asked: Requirement, unparsed: Sequence[UnparsedLine], places: Places
) -> Verdict:
    """Return the verdict where statements that bear on the setting are not understood."""
    facts = SETTINGS[asked.setting].facts(scope)
    derived = scope.records.dialect.shape.DERIVED
    said = "; ".join(not_understood(s, places, derived=derived) for s in unparsed[:UNPARSED_SHOWN])
    if len(unparsed) > UNPARSED_SHOWN:
        said += f"; and {len(unparsed) - UNPARSED_SHOWN} more lines"
    told = (FindingRecord("not-understood", judged="unknown"),)
    lines = tuple(s.line for s in unparsed)
    return _verdict(asked, "unknown", facts, said, lines, places, told)


def _verdict(
    asked: Requirement,
    verdict: str,
    facts: list[Fact],
    why: str,
    lines: tuple[int, ...],
    places: Places,
    told: tuple[FindingRecord, ...] = (),
) -> Verdict:
    file = places.file
    # Most verdicts have one line or none, and there is one for each device and setting.
    ordered = sorted(set(lines)) if len(lines) > 1 else lines
    if not places.told:
        ordered = ()
    where = tuple([Place(file, n) if file else Place(*places(n)) for n in ordered])
    found = plain(SETTINGS[asked.setting].say(facts))
    return Verdict(asked.setting, verdict, found, asked.text, asked.rule, plain(why), where, told)


def not_understood(unparsed_line: UnparsedLine, places: Places, *, derived: bool = False) -> str:
    """Return the message about a statement that no pattern reads.

    Its text is reported only where it surely concerns export. `derived`: statements are worked out
    from lines, and this one says itself what is not known.
    """
    at = f"line {places(unparsed_line.line)[1]}"
    if derived and unparsed_line.text:
        return f"{at}: {unparsed_line.text}"
    return f"{at} is not understood{f': {unparsed_line.text}' if unparsed_line.text else ''}"


def with_waivers(
    device: Device, verdicts: tuple[Verdict, ...], policy: Policy, today: date
) -> DeviceResult:
    """Return the result of a device, with the waivers that hold for it on a day."""
    out = []
    for v in verdicts:
        # What is as asked needs no exception, and says nothing of one.
        waiver = _waiver(policy, device, v.setting) if v.verdict not in GOOD else None
        if waiver is None:
            out.append(v)
        elif today <= waiver.until:
            why = f"{v.why}; waived until {waiver.until}: {waiver.because}"
            out.append(replace(v, verdict="waived", why=why))
        else:
            why = f"{v.why}; its waiver ran out on {waiver.until}"
            out.append(replace(v, why=why))
    return DeviceResult(device.name, device.kind, device.site, device.platform, tuple(out))


def waived_settings(policy: Policy, device: Device, today: date) -> frozenset[str]:
    """Return the settings of a device that a waiver covers on a day."""
    covering = (w for w in policy.waivers if today <= w.until)
    named = {w.setting for w in covering if w.covers(device, w.setting)}
    return frozenset(named)


def _waiver(policy: Policy, device: Device, setting: str) -> Waiver | None:
    """Return the waiver that covers a verdict; of several, the one that lasts longest."""
    return max(
        (w for w in policy.waivers if w.covers(device, setting)),
        key=lambda w: w.until,
        default=None,
    )
