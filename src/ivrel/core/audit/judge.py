"""Judges one configuration against what the policy asks of its device."""

from __future__ import annotations

from collections.abc import Mapping
from functools import lru_cache

from ivrel.core.audit.verdict import DeviceResult, Place, Verdict
from ivrel.core.bundle import Places
from ivrel.core.dialects.matching import Stray
from ivrel.core.dialects.records import Records
from ivrel.core.fleet import Device
from ivrel.core.mistakes import plain
from ivrel.core.policy import Policy, Requirement, effective
from ivrel.core.settings import SETTINGS, Fact, Finding, Scope

__all__ = ["judge", "judge_one", "scope_of", "touched_by", "unreadable"]


@lru_cache(maxsize=1024)
def touched_by(asked: frozenset[str]) -> frozenset[str]:
    """The settings that must be read to judge those asked for: a finding may look at its neighbours."""
    return asked | {near for name in asked for near in SETTINGS[name].reads}


def unreadable(device: Device, policy: Policy, problem: str) -> DeviceResult:
    """The result of a device whose configuration is not there or cannot be read."""
    verdicts = tuple(
        Verdict(r.setting, "unknown", "", r.text, r.rule, "the configuration could not be read", ())
        for r in effective(policy, device).values()
    )
    return DeviceResult(device.name, device.kind, device.site, device.platform, verdicts, problem)


def scope_of(device: Device, records: Records, policy: Policy, asked: Mapping[str, Requirement]) -> Scope:
    """The scope in which a device is judged: with the collectors that are asked of it."""
    need = asked["collectors"].needs[""] if "collectors" in asked else None
    # Where the policy says only what must not be there, everything that is there is judged.
    wanted = need.wanted if need is not None and (need.exactly is not None or need.includes) else None
    if wanted is not None:
        # What leaves for a relay leaves for those that it forwards to.
        wanted += tuple(c.name for c in policy.collectors.values() if c.reaches & set(wanted))
    return Scope(device, records, policy.collectors, wanted)


def judge(scope: Scope, asked: Mapping[str, Requirement], file: str) -> tuple[Verdict, ...]:
    """The verdicts of one device, waivers aside."""
    places = scope.records.place(file)
    return tuple(judge_one(scope, r, places) for r in asked.values())


def judge_one(scope: Scope, asked: Requirement, places: Places) -> Verdict:
    """The verdict of one requirement; `unknown` where a line that is not understood may bear on it."""
    strays = [s for s in scope.records.strays if asked.setting in s.bears_on]
    if strays:
        return _doubtful(scope, asked, strays, places)
    return _unasked(asked) if asked.problem else _judge(scope, asked, places)


def _unasked(asked: Requirement) -> Verdict:
    """The verdict where it is not known what is asked."""
    return Verdict(asked.setting, "unknown", "", asked.text, asked.rule, asked.problem, ())


_WORST = ("breaks", "unknown", "unable")


def _judge(scope: Scope, asked: Requirement, places: Places) -> Verdict:
    setting = SETTINGS[asked.setting]
    findings = setting.judge(scope, asked.needs)
    facts = setting.facts(scope)
    if not findings:
        lines = tuple(line for fact in facts for line in fact.lines)
        return _verdict(asked, "meets", facts, "as asked", lines, places)
    verdict = min((f.verdict for f in findings), key=_WORST.index)
    whys = [f.why for f in findings]
    if verdict == "breaks":
        records, obstacles = setting.mend(scope, asked.needs)
        unable = [o.why for o in obstacles if o.unable]
        if unable and records is scope.records:
            verdict = "unable"
            whys += unable
    why = "; ".join(dict.fromkeys(whys))
    return _verdict(asked, verdict, facts, why, _lines(findings), places)


def _lines(findings: list[Finding]) -> tuple[int, ...]:
    return tuple(line for f in findings for line in f.lines)


def _doubtful(scope: Scope, asked: Requirement, strays: list[Stray], places: Places) -> Verdict:
    """The verdict where a statement that bears on the setting is not understood."""
    facts = SETTINGS[asked.setting].facts(scope)
    derived = scope.records.dialect.grammar.DERIVED
    said = "; ".join(not_understood(s, places, derived=derived) for s in strays[:3])
    if len(strays) > 3:
        said += f"; and {len(strays) - 3} more lines"
    return _verdict(asked, "unknown", facts, said, tuple(s.line for s in strays), places)


def _verdict(
    asked: Requirement, verdict: str, facts: list[Fact], why: str, lines: tuple[int, ...], places: Places
) -> Verdict:
    one = places.file
    ordered = sorted(set(lines)) if len(lines) > 1 else lines
    where = tuple([Place(one, line) if one else Place(*places(line)) for line in ordered])
    found = plain(SETTINGS[asked.setting].say(facts))
    return Verdict(asked.setting, verdict, found, asked.text, asked.rule, plain(why), where)


def not_understood(stray: Stray, places: Places, *, derived: bool = False) -> str:
    """What to say of a statement that no pattern understands; its text only where it surely concerns export.

    `derived`: statements are what comes of a text, and this one says itself what is not known.
    """
    if derived and stray.text:
        return f"line {places(stray.line)[1]}: {stray.text}"
    return f"line {places(stray.line)[1]} is not understood{f': {stray.text}' if stray.text else ''}"
