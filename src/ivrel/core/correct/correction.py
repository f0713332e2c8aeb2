"""Writes the correction of one configuration, its back-out, and the proof of both."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from datetime import date
from hashlib import sha256

from msgspec import Struct

from ivrel.core.audit.auditor import audit_text
from ivrel.core.audit.verdict import DeviceResult
from ivrel.core.correct.plan import Plan, make_plan
from ivrel.core.correct.proof import MEANS, PROPERTIES, TAKEN, Case, Property, prove, prune
from ivrel.core.dialects.dialect import Dialect
from ivrel.core.dialects.records import read_records
from ivrel.core.dialects.shapes.base import Refused
from ivrel.core.dialects.steps import Step
from ivrel.core.dialects.write import write_change
from ivrel.core.fleet import Device
from ivrel.core.policy import Policy, Requirement, effective

__all__ = ["MEANS", "PROPERTIES", "TAKEN", "Change", "Correction", "Property", "Remaining", "correct"]


class Change(Struct, frozen=True):
    """One line of a correction: what it says, what it replaces, and why it is there."""

    line: str
    inside: str
    removes: bool
    replaces: str
    settings: tuple[str, ...]
    reason: str


class Remaining(Struct, frozen=True):
    """What is not as asked even after the correction, and why."""

    setting: str
    verdict: str
    why: str


class Correction(Struct, frozen=True):
    """The correction of one device; `fingerprint` is the SHA-256 of the configuration it was made for."""

    device: str
    platform: str
    changes: tuple[Change, ...]
    change: str
    backout: str
    proof: tuple[Property, ...]
    remains: tuple[Remaining, ...]
    fingerprint: str
    before: DeviceResult
    after: DeviceResult
    corrected: bytes
    asks: str = ""  # the platform's own program, which says whether it takes a configuration
    whole: bool = False  # carried out as a whole: `change` is written in another form than the lines of `changes`

    @property
    def proved(self) -> bool:
        """Whether every property of the proof holds."""
        return all(p.holds for p in self.proof)


def correct(
    device: Device,
    dialect: Dialect,
    data: bytes,
    policy: Policy,
    today: date,
    file: str,
    only: Collection[str] = (),
) -> Correction:
    """The correction that makes a configuration meet the policy; Unreadable if it cannot be read.

    `only`: the settings that it is about; all, if there are none.
    """
    records = read_records(dialect, data)
    before = audit_text(device, dialect, data, policy, today, file)
    whole = effective(policy, device)
    asked = {name: r for name, r in whole.items() if not only or name in only}
    waived = frozenset(v.setting for v in before.verdicts if v.verdict == "waived")
    case = Case(device, dialect, policy, asked, waived, file, today, whole)
    scope = case.scope(records)
    plan = make_plan(scope, asked, waived, whole)
    try:
        change, stuck = write_change(dialect, data, [s.edit for s in plan.steps]), ""
    except Refused as problem:
        change, stuck = "", str(problem)
    if not plan.steps or stuck:
        return Correction(
            device.name,
            dialect.name,
            (),
            "",
            "",
            (),
            _remaining(before, plan, asked, stuck),
            _print(data),
            before,
            before,
            data,
        )
    proof = prove(case, scope, change, plan)
    if proof.spare and proof.holds("complete"):
        pruned = prune(case, scope, plan, proof)
        if pruned is not plan:
            plan = pruned
            change = write_change(dialect, data, [s.edit for s in plan.steps])
            proof = prove(case, scope, change, plan)
    after = before
    if proof.corrected != data:
        after = audit_text(device, dialect, proof.corrected, policy, today, file)
    return Correction(
        device.name,
        dialect.name,
        tuple(_change(step, plan, before, asked, dialect) for step in plan.steps),
        change,
        proof.backout,
        proof.properties,
        _remaining(after, plan, asked),
        _print(data),
        before,
        after,
        proof.corrected,
        dialect.grammar.ASKS,
        dialect.grammar.ATOMIC,
    )


def _print(data: bytes) -> str:
    return sha256(data).hexdigest()


def _remaining(after: DeviceResult, plan: Plan, asked: Collection[str], stuck: str = "") -> tuple[Remaining, ...]:
    return tuple(
        Remaining(
            v.setting,
            v.verdict,
            "; ".join([v.why, *(o.why for o in plan.stuck(v.setting)), *([stuck] if stuck else [])]),
        )
        for v in after.verdicts
        if v.verdict != "meets" and v.setting in asked
    )


def _change(
    step: Step, plan: Plan, before: DeviceResult, asked: Mapping[str, Requirement], dialect: Dialect
) -> Change:
    settings = plan.owners(step)
    join = dialect.grammar.join
    remove = f"{dialect.style.remove} " if step.edit.removes else ""
    return Change(
        remove + join(step.edit.words),
        " / ".join(join(words) for words in step.edit.path),
        step.edit.removes,
        join(step.replaces) if step.replaces else "",
        settings,
        "; ".join(_reason(name, before, asked) for name in settings),
    )


def _reason(name: str, before: DeviceResult, asked: Mapping[str, Requirement]) -> str:
    verdict = next(v for v in before.verdicts if v.setting == name)
    requirement = asked[name]
    said = f"'{requirement.rule}' asks {name}: {requirement.text}"
    return said if verdict.verdict in ("meets", "unknown") else f"{said}; {verdict.why}"
