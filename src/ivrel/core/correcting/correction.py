"""Writes the correction of one configuration, its back-out, and the proof of both."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from datetime import date
from hashlib import sha256

from msgspec import Struct

from ivrel.core.correcting.answers import Answers
from ivrel.core.correcting.case import Case, start
from ivrel.core.correcting.changes import write_change
from ivrel.core.correcting.instead import instead, waiver_text
from ivrel.core.correcting.plan import Plan, make_plan
from ivrel.core.correcting.proof import Property, prove, prune
from ivrel.core.correcting.properties import Gap, reached_by
from ivrel.core.correcting.reasons import Change, changes_of
from ivrel.core.correcting.usual import NOTHING_USUAL, Usual
from ivrel.core.dialects.dialect import Dialect
from ivrel.core.fleet import Device
from ivrel.core.policy import Policy, Requirement, effective
from ivrel.core.policy.need import Need, SetNeed
from ivrel.core.vocabulary.errors import Refused
from ivrel.core.vocabulary.verdict import DeviceResult, Verdict


class Remaining(Struct, frozen=True, omit_defaults=True):
    """What is not as asked even after the correction, and why.

    `instead`: what would do in its place, where the platform cannot be as asked; `waiver`: the text
    of a waiver.
    """

    setting: str
    verdict: str
    why: str
    instead: tuple[str, ...] = ()
    waiver: str = ""


class Correction(Struct, frozen=True):
    """The correction of one device.

    `fingerprint` is the SHA-256 of the configuration it was made for; `sends`, `would_send`:
    whether anything leaves for a right collector, as it is and with the change.
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
    sends: bool = False
    would_send: bool = False
    gaps: tuple[Gap, ...] = ()  # of single collectors while the change goes in

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
    usual: Usual = NOTHING_USUAL,
) -> Correction:
    """Return the correction that makes a configuration meet the policy; Unreadable if it is none.

    `only`: the settings that it is about; all, if there are none. `file`: what the configuration is
    called; `usual`: what most of the fleet has, for where the policy leaves a choice.
    """
    begun = start(device, dialect, data, policy, today, file, only, usual)
    case, state, before = begun.case, begun.state, begun.before
    plan = make_plan(state, case.asked, case.waived, case.whole)
    change, stuck = _written(case, state, plan)
    sends = bool(reached_by(state))
    if not change:
        return Correction(
            *(device.name, dialect.name, (), "", "", ()),
            remains=remaining(case, before, plan, stuck),
            fingerprint=fingerprint(data),
            before=before,
            after=before,
            corrected=data,
            sends=sends,
            would_send=sends,
        )
    proof = prove(case, state, change, plan)
    if proof.spare and proof.holds("complete"):
        pruned = prune(case, state, plan, proof)
        shorter, stuck = _written(case, state, pruned)
        if pruned is not plan and shorter:
            plan, change = pruned, shorter
            proof = prove(case, state, change, plan)
    after = before if proof.after is None else case.result(proof.after)
    return Correction(
        device=device.name,
        platform=dialect.name,
        changes=tuple(changes_of(begun, plan, proof.after)),
        change=change,
        backout=proof.backout,
        proof=proof.properties,
        remains=remaining(case, after, plan),
        fingerprint=fingerprint(data),
        before=before,
        after=after,
        corrected=proof.corrected.data,
        asks=dialect.shape.ASKS,
        whole=dialect.shape.ATOMIC,
        sends=sends,
        would_send=bool(reached_by(proof.after or state)),
        gaps=proof.gaps,
    )


def untouched(
    device: Device,
    dialect: Dialect,
    data: bytes,
    policy: Policy,
    result: DeviceResult,
    only: Collection[str] = (),
) -> Correction | None:
    """Return the correction of a device in which nothing is to be corrected, from its audit alone.

    None if it has to be worked out: something is not as asked, or it does not follow from what is
    that the device sends. `only`: as in `correct`.
    """
    if not result.good or not _surely_sends(effective(policy, device), result):
        return None
    remains = tuple(
        Remaining(v.setting, v.verdict, _each_once(v.why))
        for v in result.verdicts
        if v.verdict != "meets" and (not only or v.setting in only)
    )
    return Correction(
        *(device.name, dialect.name, (), "", "", ()),
        remains=remains,
        fingerprint=fingerprint(data),
        before=result,
        after=result,
        corrected=data,
        sends=True,
        would_send=True,
    )


def _surely_sends(asked: Mapping[str, Requirement], result: DeviceResult) -> bool:
    """Whether something leaves for a right collector of a device that is as asked."""
    met = {v.setting for v in result.verdicts if v.verdict == "meets"}
    needs = {name: r.needs.get("") for name, r in asked.items() if name in met}
    export, collectors, level = (needs.get(name) for name in ("export", "collectors", "level"))
    if not isinstance(export, Need) or export.accepts("off"):
        return False
    if not isinstance(collectors, SetNeed) or not collectors.wanted:
        return False
    return isinstance(level, Need) and not level.accepts("none")


def _each_once(why: str) -> str:
    return "; ".join(dict.fromkeys(why.split("; ")))


def _written(case: Case, state: Answers, plan: Plan) -> tuple[str, str]:
    """Return the text of a plan's change, or why the platform would not take it."""
    try:
        edits = [s.edit for s in plan.steps]
        return write_change(case.dialect, state.records.text, edits), ""
    except Refused as problem:
        return "", str(problem)


def fingerprint(data: bytes) -> str:
    """Return the SHA-256 of a configuration."""
    return sha256(data).hexdigest()


def remaining(
    case: Case, after: DeviceResult, plan: Plan, stuck: str = ""
) -> tuple[Remaining, ...]:
    """Return what is not as asked after a change; `stuck`: why none could be written."""
    return tuple(
        _remains(case, v, plan, stuck)
        for v in after.verdicts
        if v.verdict != "meets" and v.setting in case.asked
    )


def _remains(case: Case, v: Verdict, plan: Plan, stuck: str) -> Remaining:
    obstacles = plan.obstacles.get(v.setting, ())
    # What is unable says so itself; beside other findings, the obstacle tells.
    told = [o.why for o in obstacles if v.verdict != "unable" or not o.unable]
    why = _each_once("; ".join([v.why, *told, *([stuck] if stuck else [])]))
    cannot = "; ".join(dict.fromkeys(o.why for o in obstacles if o.unable))
    if v.verdict not in ("unable", "breaks") or not cannot:
        return Remaining(v.setting, v.verdict, why)
    return Remaining(
        v.setting,
        v.verdict,
        why,
        instead(case.dialect, case.policy, case.asked[v.setting]),
        waiver_text(case.device, v.setting, cannot, case.today),
    )
