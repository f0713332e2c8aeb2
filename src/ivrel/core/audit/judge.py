"""Judges one configuration against what the policy asks of its device."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from datetime import date
from functools import lru_cache

from msgspec import Struct

from ivrel.core.audit.verdict import GOOD, DeviceResult, Place, Verdict
from ivrel.core.bundle import Places
from ivrel.core.dialects.dialect import Dialect
from ivrel.core.dialects.records import Mark, Records, Stray, looks_like, read_records
from ivrel.core.dialects.slots import SLOTS
from ivrel.core.fleet import Device
from ivrel.core.mistakes import Foreign, Unreadable
from ivrel.core.policy import Policy, Requirement, Waiver, effective
from ivrel.core.settings import SETTINGS, Fact, Scope

__all__ = ["DeviceResult", "Verdict", "audit_text", "judge", "scope_of", "unreadable"]


def audit_text(
    device: Device,
    dialect: Dialect,
    data: bytes,
    policy: Policy,
    today: date,
    file: str,
    others: Iterable[Dialect] = (),
) -> DeviceResult:
    """Reads a configuration and judges it; a text that cannot be read makes every verdict `unknown`.

    `others`: dialects that it may be written in if it is foreign to its own.
    """
    asked = effective(policy, device)
    try:
        records = read_records(dialect, data, touched_by(frozenset(asked)))
    except Foreign as problem:
        alike = looks_like(data, others)
        return unreadable(device, policy, f"{file}: {problem}{f'; this looks like {alike}' if alike else ''}")
    except Unreadable as problem:
        return unreadable(device, policy, f"{file}: {problem}")
    verdicts = judge(scope_of(device, records, policy, asked), asked, file)
    return _result(device, verdicts, policy, today)


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
    wanted = asked["collectors"].needs[""].wanted if "collectors" in asked else None
    if wanted is not None:
        # What leaves for a relay leaves for those that it forwards to.
        wanted += tuple(c.name for c in policy.collectors.values() if c.reaches & set(wanted))
    return Scope(device, records, policy.collectors, wanted)


def judge(scope: Scope, asked: Mapping[str, Requirement], file: str) -> tuple[Verdict, ...]:
    """The verdicts of one device, waivers aside."""
    strays, places = scope.records.strays, scope.records.place(file)
    if not strays and places.file and not scope.records.changed:
        return _remembered(scope, asked, places)
    return tuple(
        _doubtful(scope, r, found, places)
        if strays and (found := [s for s in strays if r.setting in s.bears_on])
        else _unasked(r)
        if r.problem
        else _judge(scope, r, places)
        for r in asked.values()
    )


class _Seen(Struct, frozen=True):
    """Verdicts that were given once, and what they hang on; lines are given as numbers of statements."""

    hang_on: tuple[object, ...]
    verdicts: Mapping[str, tuple[Verdict, tuple[int, ...]]]


_seen: dict[tuple[object, ...], _Seen] = {}
MOST = 20_000  # configurations remembered


def _remembered(scope: Scope, asked: Mapping[str, Requirement], places: Places) -> tuple[Verdict, ...]:
    """The verdicts of one device; where another one said the same to the same requirements, what it was told.

    Fleets repeat themselves: most configurations differ in no statement but those of the device itself.
    """
    dialect = scope.records.dialect
    concerning = _concerning(dialect)
    marks: list[Mark] = []
    rest: list[Mark] = []
    for one in scope.records.marks:
        (marks if concerning[one[0].pattern] else rest).append(one)
    if rest:
        # A statement about the device itself may be the only one that makes a row.
        named = {(m.table, m.key) for m, _ in marks}
        marks += [(m, line) for m, line in rest if m.pattern >= 0 and (m.table, m.key) not in named]
    lines = [line for _, line in marks]
    # The key holds what has to be the same; what it names is kept alive with it, so that no other takes its place.
    hang_on: tuple[object, ...] = (dialect, *asked.values(), *[m for m, _ in marks])
    key = (len(asked), *map(id, hang_on))
    known = _seen.get(key)
    if known is None:
        given = {r.setting: _unasked(r) if r.problem else _judge(scope, r, places) for r in asked.values()}
        if len(_seen) < MOST and len(set(lines)) == len(lines):
            _seen[key] = _Seen(hang_on, _by_statement(given, lines))
        return tuple(given.values())
    out, file = [], places.file
    for r in asked.values():
        told = known.verdicts.get(r.setting)
        if told is None:
            out.append(_unasked(r) if r.problem else _judge(scope, r, places))
            continue
        v, at = told
        if at:
            where = tuple([Place(file, line) for line in sorted([lines[n] for n in at])])
            v = Verdict(v.setting, v.verdict, v.found, v.wanted, v.rule, v.why, where)
        out.append(v)
    return tuple(out)


def _by_statement(given: Mapping[str, Verdict], lines: list[int]) -> dict[str, tuple[Verdict, tuple[int, ...]]]:
    """The verdicts that hang on statements alone, with the numbers of these in place of lines."""
    at = {line: n for n, line in enumerate(lines)}
    return {
        name: (v, tuple(at[p.line] for p in v.where))
        for name, v in given.items()
        if not SETTINGS[name].of_device and all(p.line in at for p in v.where)
    }


@lru_cache(maxsize=64)
def _concerning(dialect: Dialect) -> tuple[bool, ...]:
    """Of each pattern, whether it bears on a setting that does not hang on the device itself."""
    keys = {slot for slots in dialect.keys.values() for slot in slots}
    out = []
    for pattern in dialect.patterns:
        own = [slot for slot in pattern.own_slots if slot not in keys] or pattern.own_slots
        bears_on = {name for slot in own for name in SLOTS[slot].bears_on}
        out.append(not bears_on or any(not SETTINGS[name].of_device for name in bears_on))
    return (*out, False)  # a statement that only names a row has the number -1


def _unasked(asked: Requirement) -> Verdict:
    """The verdict where it is not known what is asked."""
    return Verdict(asked.setting, "unknown", "", asked.text, asked.rule, asked.problem, ())


def _judge(scope: Scope, asked: Requirement, places: Places) -> Verdict:
    setting = SETTINGS[asked.setting]
    findings = setting.judge(scope, asked.needs)
    facts = setting.facts(scope)
    if not findings:
        lines = tuple(line for fact in facts for line in fact.lines)
        return _verdict(asked, "meets", facts, "as asked", lines, places)
    verdict = "breaks" if any(f.verdict == "breaks" for f in findings) else "unknown"
    why = "; ".join(f.why for f in findings)
    if verdict == "breaks":
        records, obstacles = setting.mend(scope, asked.needs)
        unable = [o.why for o in obstacles if o.unable]
        if unable and records is scope.records:
            verdict, why = "unable", f"{why}; {'; '.join(unable)}"
    return _verdict(asked, verdict, facts, why, tuple(line for f in findings for line in f.lines), places)


def _doubtful(scope: Scope, asked: Requirement, strays: list[Stray], places: Places) -> Verdict:
    """The verdict where a statement that bears on the setting is not understood."""
    facts = SETTINGS[asked.setting].facts(scope)
    said = "; ".join(f"line {places(s.line)[1]} is not understood: {s.text}" for s in strays[:3])
    if len(strays) > 3:
        said += f"; and {len(strays) - 3} more lines"
    return _verdict(asked, "unknown", facts, said, tuple(s.line for s in strays), places)


def _verdict(
    asked: Requirement, verdict: str, facts: list[Fact], why: str, lines: tuple[int, ...], places: Places
) -> Verdict:
    one = places.file
    ordered = sorted(set(lines)) if len(lines) > 1 else lines
    where = tuple([Place(one, line) if one else Place(*places(line)) for line in ordered])
    return Verdict(asked.setting, verdict, SETTINGS[asked.setting].say(facts), asked.text, asked.rule, why, where)


def _result(device: Device, verdicts: tuple[Verdict, ...], policy: Policy, today: date) -> DeviceResult:
    out = []
    for v in verdicts:
        waiver = _waiver(policy, device, v.setting) if v.verdict not in GOOD else None
        if waiver is None:
            out.append(v)
        elif today <= waiver.until:
            why = f"{v.why}; waived until {waiver.until}: {waiver.because}"
            out.append(Verdict(v.setting, "waived", v.found, v.wanted, v.rule, why, v.where))
        else:
            why = f"{v.why}; its waiver ran out on {waiver.until}"
            out.append(Verdict(v.setting, v.verdict, v.found, v.wanted, v.rule, why, v.where))
    return DeviceResult(device.name, device.kind, device.site, device.platform, tuple(out))


def _waiver(policy: Policy, device: Device, setting: str) -> Waiver | None:
    """The waiver that covers a verdict; of several, the one that lasts longest."""
    return max((w for w in policy.waivers if w.covers(device, setting)), key=lambda w: w.until, default=None)
