"""Proves a correction on the text at hand, by applying it as the platform would and reading the outcome."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import date

from msgspec import Struct
from msgspec.structs import replace

from ivrel.core.audit.judge import judge, scope_of
from ivrel.core.audit.verdict import Verdict
from ivrel.core.correct.plan import Plan, make_plan, undo
from ivrel.core.dialects.dialect import Dialect
from ivrel.core.dialects.records import Records, read_records
from ivrel.core.dialects.shapes import Edit
from ivrel.core.dialects.shapes.base import Refused
from ivrel.core.dialects.steps import beyond_export
from ivrel.core.dialects.write import apply_edits, fine_edits, write_change
from ivrel.core.fleet import Device
from ivrel.core.mistakes import Unreadable
from ivrel.core.policy import Policy, Requirement
from ivrel.core.settings import SETTINGS, Scope, read_settings
from ivrel.core.settings.need import Need
from ivrel.core.settings.sending import reached

PROPERTIES: Mapping[str, str] = {
    "complete": "nothing breaks any more, but for what is listed",
    "settled": "correcting again gives nothing",
    "minimal": "leave any one line out and something breaks, or is not what the policy says to write",
    "reversible": "the back-out brings the old reading back",
    "never silent": "after every line, a device that could send to a right collector still can",
    "narrow": "nothing but export settings has changed",
}


class Property(Struct, frozen=True):
    """One property of the proof, whether it holds, and what shows that it does not."""

    name: str
    holds: bool
    why: str


class Case(Struct, frozen=True):
    """What a correction is judged by."""

    device: Device
    dialect: Dialect
    policy: Policy
    asked: Mapping[str, Requirement]
    waived: frozenset[str]
    file: str
    today: date

    def scope(self, data: bytes) -> Scope:
        """The scope over a text; Unreadable if it is none."""
        return scope_of(self.device, read_records(self.dialect, data), self.policy, self.asked)

    def broken(self, data: bytes, asked: Mapping[str, Requirement]) -> tuple[Verdict, ...]:
        """What a text is not good for, waived settings aside."""
        verdicts = judge(self.scope(data), asked, self.file)
        return tuple(v for v in verdicts if v.verdict != "meets" and v.setting not in self.waived)


def prove(case: Case, data: bytes, change: str, plan: Plan) -> tuple[bytes, tuple[Property, ...]]:
    """The corrected text, and the six properties; a change that cannot be applied has none of them."""
    dialect = case.dialect
    try:
        edits = dialect.grammar.read_change(change, "change", dialect.style)
        corrected = apply_edits(dialect, data, edits)
    except (Refused, Unreadable) as problem:
        return data, tuple(Property(name, False, f"it cannot be applied: {problem}") for name in PROPERTIES)
    before, after = case.scope(data), case.scope(corrected)
    spare = _spare(case, data, corrected, edits)
    checks = (
        ("complete", _complete(case, corrected, plan)),
        ("settled", _settled(case, after)),
        ("minimal", "" if spare is None else f"'{dialect.grammar.join(spare.words)}' could be left out"),
        ("reversible", _reversible(case, before, after.records, corrected)),
        ("never silent", _never_silent(case, before, data, edits)),
        ("narrow", _narrow(dialect, data, corrected)),
    )
    return corrected, tuple(Property(name, not why, why) for name, why in checks)


def _complete(case: Case, corrected: bytes, plan: Plan) -> str:
    for verdict in case.broken(corrected, case.asked):
        if verdict.verdict == "breaks" and verdict.setting not in plan.obstacles:
            return f"{verdict.setting} still breaks: {verdict.why}"
    return ""


def _settled(case: Case, after: Scope) -> str:
    again = make_plan(after, case.asked, case.waived).steps
    return f"{len(again)} more lines" if again else ""


def prune(case: Case, data: bytes, plan: Plan) -> Plan:
    """The plan without the steps that could be left out, where chains that are shared made some of them idle."""
    steps = list(plan.steps)
    try:
        corrected = apply_edits(case.dialect, data, [s.edit for s in steps])
        while (spare := _spare(case, data, corrected, [s.edit for s in steps])) is not None:
            steps = [s for s in steps if s.edit is not spare]
    except (Refused, Unreadable):
        return plan
    return replace(plan, steps=tuple(steps))


def _spare(case: Case, data: bytes, corrected: bytes, edits: Sequence[Edit]) -> Edit | None:
    """An edit without which the outcome is as good; the last of several."""
    asked = _as_written(case, case.scope(data), case.scope(corrected))
    whole = {(v.setting, v.why) for v in case.broken(corrected, asked)}
    edits = fine_edits(case.dialect, data, edits)
    for n in reversed(range(len(edits))):
        try:
            text = apply_edits(case.dialect, data, [*edits[:n], *edits[n + 1 :]])
            if {(v.setting, v.why) for v in case.broken(text, asked)} <= whole:
                return edits[n]
        except (Refused, Unreadable):
            continue
    return None


def _as_written(case: Case, before: Scope, after: Scope) -> dict[str, Requirement]:
    """The requirements, narrowed to what the policy says to write wherever the correction had to write that."""
    asked = dict(case.asked)
    for name, requirement in case.asked.items():
        if requirement.problem:
            continue
        setting, needs = SETTINGS[name], requirement.needs
        had = {fact.key for fact in setting.facts(before)}
        for key in {fact.key: None for fact in setting.facts(after)}:
            need = needs.get(key, needs.get(""))
            if not isinstance(need, Need) or not need.write:
                continue
            alone = {key: need} if "" not in needs else {"": Need(order=need.order), key: need}
            if key in had and not setting.judge(before, alone):
                continue
            narrow = {**asked[name].needs, key: need.only(need.write)}
            if not setting.judge(after, narrow):
                asked[name] = replace(requirement, needs=narrow)
    return asked


def _reversible(case: Case, before: Scope, after: Records, corrected: bytes) -> str:
    dialect = case.dialect
    backout = write_change(dialect, corrected, [s.edit for s in undo(after, before.records)])
    try:
        edits = dialect.grammar.read_change(backout, "back-out", dialect.style)
        back = case.scope(apply_edits(dialect, corrected, edits))
    except (Refused, Unreadable) as problem:
        return f"the back-out cannot be applied: {problem}"
    old, new = _reading(before), _reading(back)
    return "" if old == new else f"the back-out leaves {next(iter(old ^ new))}"


def _reading(scope: Scope) -> set[str]:
    scope.records.load()
    return {f"{f.setting} {f.key} {f.value} {f.default}" for f in read_settings(scope)}


def _never_silent(case: Case, before: Scope, data: bytes, edits: Sequence[Edit]) -> str:
    could, text = _reached(before), data
    # What is carried out as a whole has no moment in between.
    for step in [list(edits)] if case.dialect.grammar.ATOMIC else [[edit] for edit in edits]:
        text, edit = apply_edits(case.dialect, text, step), step[-1]
        can = _reached(case.scope(text))
        if could and not can:
            return f"after '{case.dialect.grammar.join(edit.words)}' nothing leaves for a right collector"
        could = can
    return ""


def _reached(scope: Scope) -> set[str]:
    """The right collectors that a device can send to."""
    if scope.records.get("export").value == "off":
        return set()
    return {d.collector for d in scope.judged if d.right and d.collector and reached(scope, d)}


def _narrow(dialect: Dialect, data: bytes, corrected: bytes) -> str:
    old, new = beyond_export(dialect, data), beyond_export(dialect, corrected)
    return "" if old == new else "other statements than export settings changed"
