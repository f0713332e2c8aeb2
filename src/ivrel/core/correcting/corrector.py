"""Writes the corrections of many devices, their back-outs, and the proof of both."""

from __future__ import annotations

import functools
from collections.abc import Collection, Iterable, Mapping
from datetime import date

from ivrel.core.correcting.answer_cache import CorrectionCache, OfDevice
from ivrel.core.correcting.answers import StateAnswers
from ivrel.core.correcting.case import Case, Start
from ivrel.core.correcting.changes import write_change
from ivrel.core.correcting.correction import (
    Correction,
    Remaining,
    each_once,
    remaining,
    unchanged,
)
from ivrel.core.correcting.fleet_defaults import NOTHING_USUAL, Usual, leaves_open, preferring
from ivrel.core.correcting.plan import CorrectionPlan, make_plan
from ivrel.core.correcting.prints import fingerprint, print_of_statements
from ivrel.core.correcting.proof import prove, prune
from ivrel.core.correcting.properties import reached_by
from ivrel.core.correcting.reasons import changes_of
from ivrel.core.correcting.secrets import secrets_of
from ivrel.core.dialects.dialect import Dialect
from ivrel.core.fleet import Device
from ivrel.core.judging.auditor import Auditor, Found
from ivrel.core.judging.judge import hosts_of, scope_of
from ivrel.core.policy import Policy, Requirement, effective
from ivrel.core.policy.need import Need, SetNeed
from ivrel.core.reading.records import read_records
from ivrel.core.settings import Scope
from ivrel.core.text.text import Text
from ivrel.core.vocabulary.errors import Refused
from ivrel.core.vocabulary.verdict import DeviceResult


class Corrector:
    """Writes corrections by one policy, on one day.

    `only`: the settings that they are about; all, if there are none. `usual`: what most of the
    fleet has, for where the policy leaves a choice; while that is None, corrections that depend on
    it are Undecided. `others`: as for `Auditor`. What was found out about one device is remembered
    for those that say the same.
    """

    MOST_REMEMBERED = 100_000  # answers, and what they hang on, of one dialect

    def __init__(
        self,
        policy: Policy,
        today: date,
        only: Collection[str] = (),
        usual: Usual | None = NOTHING_USUAL,
        others: Iterable[Dialect] = (),
    ) -> None:
        self.auditor = Auditor(policy, today, others)
        self.only = frozenset(only)
        self._usual = usual
        self._memories: dict[object, CorrectionCache] = {}

    def correct(
        self, device: Device, dialect: Dialect, data: bytes | Text, file: str
    ) -> Correction:
        """Return the correction that makes a configuration meet the policy; Unreadable if it is
        none.

        `file`: what the configuration is called.
        """
        own = OfDevice(data if isinstance(data, Text) else Text(data))
        result = self._audit(device, dialect, own, file)
        # Most devices of a fleet need nothing, which their audit tells.
        if result.good and _surely_sends(effective(self.auditor.policy, device), result):
            remains = tuple(
                Remaining(v.setting, v.verdict, each_once(v.why))
                for v in result.verdicts
                if v.verdict != "meets" and (not self.only or v.setting in self.only)
            )
            return unchanged(device, dialect, own.text.data, result, sends=True, remains=remains)
        return worked_out(self._start(device, dialect, own, file, result))

    def start(self, device: Device, dialect: Dialect, data: bytes | Text, file: str) -> Start:
        """Return a configuration with what it is judged by; Unreadable if it is none.

        `file`: what the configuration is called. What is waived is left alone.
        """
        own = OfDevice(data if isinstance(data, Text) else Text(data))
        return self._start(device, dialect, own, file, self._audit(device, dialect, own, file))

    def _audit(self, device: Device, dialect: Dialect, own: OfDevice, file: str) -> DeviceResult:
        # Between two devices, never while one is gone through: numbers hold in one memory alone.
        full = [at for at, one in self._memories.items() if len(one) > self.MOST_REMEMBERED]
        for at in full:
            del self._memories[at]

        def finding(scope: Scope) -> Found:
            return StateAnswers(scope, self._memory_of(dialect, scope), own).found

        return self.auditor.audit(device, dialect, own.text, file, finding)

    def _start(
        self, device: Device, dialect: Dialect, own: OfDevice, file: str, before: DeviceResult
    ) -> Start:
        whole = effective(self.auditor.policy, device)
        # Where a part can be read alone, as for an audit, all of the text is still to be parsed.
        if dialect.shape.WHOLE:
            own.text = Text(own.text.data, whole=True)
        records = read_records(dialect, own.text, hosts=hosts_of(self.auditor.policy))
        scope = scope_of(device, records, self.auditor.policy, whole)
        memory = self._memory_of(dialect, scope)
        state = StateAnswers(scope, memory, own)
        asked = {name: r for name, r in whole.items() if not self.only or name in self.only}
        prefer = functools.partial(self._preferring, state=state)
        waived = frozenset(v.setting for v in before.verdicts if v.verdict == "waived")
        case = Case(
            device=device,
            dialect=dialect,
            auditor=self.auditor,
            whole=whole,
            asked=asked,
            prefer=prefer,
            waived=waived,
            file=file,
            first=own.text,
            memory=memory,
        )
        return Start(case, state, before)

    def _preferring(self, asked: Requirement, state: StateAnswers) -> Requirement:
        """Return a requirement with what is to be written where it leaves that open: the same
        object for equal devices, so that cached answers are found.
        """
        if not leaves_open(asked):
            return asked
        prefer = functools.partial(preferring, asked, fleet=self._usual)
        return state.ask(("preferring", asked), prefer)

    def _memory_of(self, dialect: Dialect, scope: Scope) -> CorrectionCache:
        """Return the cache for all devices with the same dialect and collectors."""
        at = dialect, scope.wanted, scope.forbidden
        if at not in self._memories:
            self._memories[at] = CorrectionCache()
        return self._memories[at]


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
    """Return the correction of one configuration; see `Corrector` for many."""
    return Corrector(policy, today, only, usual).correct(device, dialect, data, file)


def worked_out(begun: Start) -> Correction:
    """Return the correction of a configuration, whatever its audit says."""
    case = begun.case
    state = begun.state
    before = begun.before
    plan = make_plan(state, case.asked, case.waived, case.whole, case.prefer)
    change, stuck = _written(case, state, plan)
    sends = bool(reached_by(state))
    if not change:
        remains = remaining(case, before, plan, stuck)
        data = state.records.text.data
        return unchanged(case.device, case.dialect, data, before, sends=sends, remains=remains)
    proof = prove(case, state, change, plan)
    if proof.spare and proof.holds("complete"):
        pruned = prune(case, state, plan, proof)
        shorter, stuck = _written(case, state, pruned)
        if pruned is not plan and shorter:
            plan = pruned
            change = shorter
            proof = prove(case, state, change, plan)
    after = before if proof.after is None else case.result(proof.after)
    return Correction(
        device=case.device.name,
        platform=case.dialect.name,
        changes=tuple(changes_of(begun, plan, proof.after)),
        change=change,
        backout=proof.backout,
        proof=proof.properties,
        remains=remaining(case, after, plan),
        fingerprint=fingerprint(state.records.text.data),
        before=before,
        after=after,
        corrected=proof.corrected.data,
        statements=print_of_statements(state.records),
        asks=case.dialect.shape.ASKS,
        whole=case.dialect.shape.ATOMIC,
        sends=sends,
        would_send=bool(reached_by(proof.after or state)),
        gaps=proof.gaps,
        no_longer_sent=proof.no_longer_sent if change else (),
        secrets=secrets_of(case.dialect, state.records.text, proof.carried),
    )


def _written(case: Case, state: StateAnswers, plan: CorrectionPlan) -> tuple[str, str]:
    """Return the text of a plan's change, or why the platform would not take it."""
    try:
        edits = [s.edit for s in plan.steps]
        return write_change(case.dialect, state.records.text, edits), ""
    except Refused as problem:
        return "", str(problem)


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
