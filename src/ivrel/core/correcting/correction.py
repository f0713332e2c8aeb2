"""Writes the correction of one configuration, its back-out, and the proof of both."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from datetime import date
from hashlib import sha256

from msgspec import Struct

from ivrel.core.correcting.answers import Answers
from ivrel.core.correcting.case import Case
from ivrel.core.correcting.changes import write_change
from ivrel.core.correcting.plan import Plan, make_plan
from ivrel.core.correcting.proof import Property, prove, prune
from ivrel.core.correcting.steps import Step
from ivrel.core.dialects.dialect import Dialect
from ivrel.core.fleet import Device
from ivrel.core.judging.judge import with_waivers
from ivrel.core.policy import Policy, Requirement, effective
from ivrel.core.vocabulary.errors import Refused
from ivrel.core.vocabulary.verdict import DeviceResult


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
    """The correction of one device.

    `fingerprint` is the SHA-256 of the configuration it was made for.
    """

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
    # Carried out as a whole: `change` is written in another form than the lines of `changes`
    whole: bool = False

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
    """Return the correction that makes a configuration meet the policy; Unreadable if it is none.

    `only`: the settings that it is about; all, if there are none. `file`: what the configuration is
    called.
    """
    whole = effective(policy, device)
    asked = {name: r for name, r in whole.items() if not only or name in only}
    waivers = Case(device, dialect, policy, asked, frozenset(), file, today, whole)
    state = waivers.answers(waivers.read(waivers.text(data)))
    before = with_waivers(device, state.verdicts(whole.values(), file), policy, today)
    waived = frozenset(v.setting for v in before.verdicts if v.verdict == "waived")
    case = waivers.waiving(waived)
    plan = make_plan(state, asked, waived, whole)
    change, stuck = _written(case, state, plan)
    if not change:
        return Correction(
            *(device.name, dialect.name, (), "", "", ()),
            remains=_remaining(before, plan, asked, stuck),
            fingerprint=_print(data),
            before=before,
            after=before,
            corrected=data,
        )
    proof = prove(case, state, change, plan)
    if proof.spare and proof.holds("complete"):
        pruned = prune(case, state, plan, proof)
        shorter, stuck = _written(case, state, pruned)
        if pruned is not plan and shorter:
            plan, change = pruned, shorter
            proof = prove(case, state, change, plan)
    after = before
    if proof.after is not None:
        verdicts = proof.after.verdicts(whole.values(), file)
        after = with_waivers(device, verdicts, policy, today)
    return Correction(
        device=device.name,
        platform=dialect.name,
        changes=tuple(_change(step, plan, before, asked, dialect) for step in plan.steps),
        change=change,
        backout=proof.backout,
        proof=proof.properties,
        remains=_remaining(after, plan, asked),
        fingerprint=_print(data),
        before=before,
        after=after,
        corrected=proof.corrected.data,
        asks=dialect.shape.ASKS,
        whole=dialect.shape.ATOMIC,
    )


def _written(case: Case, state: Answers, plan: Plan) -> tuple[str, str]:
    """Return the text of a plan's change, or why the platform would not take it."""
    try:
        edits = [s.edit for s in plan.steps]
        return write_change(case.dialect, state.records.text, edits), ""
    except Refused as problem:
        return "", str(problem)


def _print(data: bytes) -> str:
    return sha256(data).hexdigest()


def _remaining(
    after: DeviceResult, plan: Plan, asked: Collection[str], stuck: str = ""
) -> tuple[Remaining, ...]:
    return tuple(
        Remaining(
            v.setting,
            v.verdict,
            "; ".join(
                [v.why, *(o.why for o in plan.stuck(v.setting)), *([stuck] if stuck else [])]
            ),
        )
        for v in after.verdicts
        if v.verdict != "meets" and v.setting in asked
    )


def _change(
    step: Step, plan: Plan, before: DeviceResult, asked: Mapping[str, Requirement], dialect: Dialect
) -> Change:
    settings = plan.owners(step)
    join = dialect.shape.join
    remove = f"{dialect.shape.remove} " if step.edit.removes else ""
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
