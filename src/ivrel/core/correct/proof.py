"""Proves a correction on the text at hand, by applying it as the platform would and reading the outcome."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import date

from msgspec import Struct
from msgspec.structs import replace

from ivrel.core.audit.judge import scope_of
from ivrel.core.correct.plan import Plan, findings_of, make_plan, undo
from ivrel.core.correct.trial import Trials, untouched
from ivrel.core.dialects.dialect import Dialect
from ivrel.core.dialects.records import Records, read_records
from ivrel.core.dialects.shapes import Edit
from ivrel.core.dialects.shapes.base import Refused
from ivrel.core.dialects.slots import SLOTS
from ivrel.core.dialects.steps import restored
from ivrel.core.dialects.write import apply_edits, fine_edits, write_change
from ivrel.core.fleet import Device
from ivrel.core.mistakes import InputError, Unreadable
from ivrel.core.policy import Policy, Requirement
from ivrel.core.settings import SETTINGS, Scope, read_settings
from ivrel.core.settings.need import Need, SetNeed
from ivrel.core.settings.sending import reached, sendings
from ivrel.core.severity import EVERYTHING, NOTHING, Selection

PROPERTIES: Mapping[str, str] = {
    "complete": "nothing breaks any more, but for what is listed",
    "no worse": "no setting that was as asked is not so any more",
    "settled": "correcting again gives nothing",
    "minimal": "leave any one line out and something breaks, or is not what the policy says to write",
    "reversible": "the back-out brings the old reading and its statements back",
    "never silent": "after every line, a device that could send to a right collector still can",
    "narrow": "nothing but export settings has changed",
}


# One more, where the platform's own program can be asked.
TAKEN = "taken"
MEANS: Mapping[str, str] = {**PROPERTIES, TAKEN: "the platform's own program has nothing more against it than before"}


class Property(Struct, frozen=True):
    """One property of the proof, whether it holds, and what shows that it does not."""

    name: str
    holds: bool
    why: str


class Case(Struct, frozen=True):
    """What a correction is judged by; `whole`: all that the policy asks, also what the correction is not about."""

    device: Device
    dialect: Dialect
    policy: Policy
    asked: Mapping[str, Requirement]
    waived: frozenset[str]
    file: str
    today: date
    whole: Mapping[str, Requirement] = {}

    def scope(self, records: Records) -> Scope:
        """The scope over records."""
        return scope_of(self.device, records, self.policy, self.whole or self.asked)

    def read(self, data: bytes) -> Scope:
        """The scope over a text; Unreadable if it is none."""
        return self.scope(read_records(self.dialect, data))


class Proof(Struct, frozen=True):
    """A change applied: the corrected text, the back-out, the single lines that could be left out, the properties."""

    corrected: bytes
    backout: str
    spare: tuple[Edit, ...]
    properties: tuple[Property, ...]

    def holds(self, name: str) -> bool:
        """Whether the property of that name holds."""
        return next(p.holds for p in self.properties if p.name == name)


def prove(case: Case, before: Scope, change: str, plan: Plan) -> Proof:
    """Applies a change and proves it; one that cannot be applied has no property."""
    dialect, data = case.dialect, before.records.text
    try:
        edits = dialect.grammar.read_change(change, "change", dialect.style)
        corrected = apply_edits(dialect, data, edits)
        trials = Trials(before.records, fine_edits(dialect, data, edits), corrected)
    except (InputError, Refused, Unreadable) as problem:
        none = tuple(Property(name, False, f"it cannot be applied: {problem}") for name in PROPERTIES)
        return Proof(data, "", (), none)
    after = case.scope(trials.after)
    spare = _spare(case, before, after, trials)
    backout, irreversible = _back(case, before, after)
    join = dialect.grammar.join
    checks = {
        "complete": _complete(case, before, after, plan),
        "no worse": _worse(case, before, after, plan),
        "settled": _settled(case, after),
        "minimal": f"'{join(spare[-1].words)}' could be left out" if spare else "",
        "reversible": irreversible,
        "never silent": _never_silent(case, before, after, trials, edits),
        "narrow": "" if untouched(dialect, data, corrected) else "other statements than export settings changed",
    }
    properties = tuple(Property(name, not checks[name], checks[name]) for name in PROPERTIES)
    return Proof(corrected, backout, tuple(spare), properties)


def _complete(case: Case, before: Scope, after: Scope, plan: Plan) -> str:
    """What still breaks although nothing that is told stands in its way."""
    for name, requirement in case.asked.items():
        if name in case.waived:
            continue
        known = {o.about for o in plan.obstacles.get(name, ())}
        for finding in findings_of(after, requirement):
            if finding.verdict == "breaks" and not known & {"", finding.about}:
                return f"{name} still breaks: {finding.why}"
    return ""


def _worse(case: Case, before: Scope, after: Scope, plan: Plan) -> str:
    """A setting that was as asked and is not so any more, with the rules that ask for it and for the change."""
    changed = dict.fromkeys(name for names in plan.touched.values() for name in names)
    followed = dict.fromkeys(f"'{case.asked[name].rule}' ({name})" for name in changed)
    for name, requirement in (case.whole or case.asked).items():
        if name in case.waived or findings_of(before, requirement):
            continue
        for finding in findings_of(after, requirement):
            told = f"'{requirement.rule}' asks {name}: {requirement.text}; {finding.why}"
            return f"{told}; the change follows {' and '.join(followed)}" if followed else told
    return ""


def _settled(case: Case, after: Scope) -> str:
    again = make_plan(after, case.asked, case.waived, case.whole).steps
    return f"{len(again)} more lines" if again else ""


def prune(case: Case, before: Scope, plan: Plan, proof: Proof) -> Plan:
    """The plan without the steps that could be left out, where chains that are shared made some of them idle.

    Of the steps that could be left out one by one, not all can be left out together: each is tried again.
    """
    steps, spare = list(plan.steps), list(proof.spare)
    corrected = case.read(proof.corrected)
    whole, kept = _standing(case, corrected), _kept(before, corrected)
    at_once = len(spare) > 1
    while spare:
        gone = {replace(edit, line=0) for edit in (spare if at_once else spare[-1:])}
        fewer = [s for s in steps if s.edit not in gone]
        if len(fewer) == len(steps):
            return plan
        try:
            edits = [s.edit for s in fewer]
            trials = Trials(before.records, edits, apply_edits(case.dialect, before.records.text, edits))
        except (Refused, Unreadable):
            return plan
        after = case.scope(trials.after)
        if at_once and not (_standing(case, after) <= whole and kept <= _sent(after, right=True)):
            at_once = False
            continue
        steps, at_once = fewer, False
        spare = _spare(case, before, after, trials)
    return replace(plan, steps=tuple(steps))


def _standing(case: Case, scope: Scope) -> set[tuple[str, str, str, str]]:
    """All that is not as asked, waived settings aside."""
    asked = {name: r for name, r in case.asked.items() if name not in case.waived}
    return {(name, *found) for name, r in asked.items() for found in _found(scope, r)}


def _spare(case: Case, before: Scope, after: Scope, trials: Trials) -> list[Edit]:
    """The edits without each of which the outcome is as good."""
    asked = _as_written(case, before, after)
    whole = {name: _found(after, r) for name, r in asked.items() if name not in case.waived}
    kept = _kept(before, after)
    order = {edit: n for n, edit in enumerate(trials.edits)}
    spare = []
    for edit, records in trials.without_each():
        if records is None:
            continue
        scope = case.scope(records)
        # Most lines are there for a setting that they bear on; only if none of those misses it, all are looked at.
        first = _bearing(case.dialect, edit)
        names = sorted(whole, key=lambda name: name not in first)
        if len(records.strays) != len(after.records.strays) or not kept <= _sent(scope, right=True):
            continue
        if all(_found(scope, asked[name]) <= whole[name] for name in names):
            spare.append(edit)
    return sorted(spare, key=order.__getitem__)


def _found(scope: Scope, requirement: Requirement) -> set[tuple[str, str, str]]:
    """What is not as asked, by what it is about."""
    return {(f.about, f.verdict, f.why) for f in findings_of(scope, requirement)}


def _bearing(dialect: Dialect, edit: Edit) -> set[str]:
    """The settings that an edit may bear on, by the words with which its statement begins."""
    return {
        name
        for pattern in dialect.patterns
        if pattern.begins(edit.path, edit.words) or pattern.opening[: len(edit.words)] == edit.words
        for slot in pattern.own_slots
        for name in SLOTS[slot].bears_on
    }


def _sent(scope: Scope, *, right: bool) -> Selection:
    """All that leaves, for right collectors or for anybody; what leaves by each channel has bits of its own."""
    if scope.records.get("export").value == "off":
        return NOTHING
    bits = 0
    for d in scope.destinations:
        if d.right or (not right and d.endpoint[0] is not None):
            for n, sending in enumerate(sendings(scope, d).values()):
                bits |= sending.bits << n * EVERYTHING.bits.bit_length()
    return Selection(bits)


def _kept(before: Scope, after: Scope) -> Selection:
    """What left before, for anybody, and leaves for a right collector when all is done."""
    return _sent(before, right=False) & _sent(after, right=True)


def _as_written(case: Case, before: Scope, after: Scope) -> dict[str, Requirement]:
    """The requirements, narrowed to what the policy says to write wherever the correction had to write that."""
    asked = dict(case.asked)
    for name, requirement in case.asked.items():
        if requirement.problem:
            continue
        setting, needs = SETTINGS[name], requirement.needs
        if not any(isinstance(need, Need) and need.write for need in needs.values()):
            continue
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


def _back(case: Case, before: Scope, after: Scope) -> tuple[str, str]:
    """The back-out, and why it does not bring everything back; '' if it does."""
    dialect, corrected = case.dialect, after.records.text
    if corrected == before.records.text:
        return "", ""
    try:
        backout = write_change(dialect, corrected, [s.edit for s in undo(after.records, before.records)])
        edits = dialect.grammar.read_change(backout, "back-out", dialect.style)
        back = case.read(apply_edits(dialect, corrected, edits))
    except (InputError, Refused, Unreadable) as problem:
        return "", f"the back-out cannot be applied: {problem}"
    lost = restored(before.records, back.records)
    if lost:
        return backout, f"after the back-out {lost}"
    old, new = _reading(before), _reading(back)
    for what in {**old, **new}:
        if old.get(what) != new.get(what):
            is_now, was = (", ".join(said.get(what, ["gone"])) for said in (new, old))
            return backout, f"after the back-out {what} is {is_now}, not {was}"
    return backout, ""


def _reading(scope: Scope) -> dict[str, list[str]]:
    """What a configuration says of every setting, in words."""
    out: dict[str, list[str]] = {}
    for f in read_settings(scope):
        said = f"{f.value}{' by default' if f.default else ''}"
        out.setdefault(f"{f.setting} {f.key}".strip(), []).append(said)
    return {what: sorted(said) for what, said in out.items()}


def _never_silent(case: Case, before: Scope, after: Scope, trials: Trials, edits: Sequence[Edit]) -> str:
    """The line after which nothing leaves for a right collector, although something did or should."""
    join = case.dialect.grammar.join
    if _silence_asked(case):
        return ""
    if _sent(before, right=False) and not _sent(after, right=False):
        return "nothing leaves any more when it is done"
    could = _reached(before)
    if case.dialect.grammar.ATOMIC:
        # What is carried out as a whole has no moment in between.
        return "" if not could or _reached(after) else "nothing leaves for a right collector when it is done"
    for edit, records in trials.after_each(edits if any(e.body is not None for e in edits) else trials.edits):
        can = _reached(case.scope(records))
        if could and not can:
            return f"after '{join(edit.words)}' nothing leaves for a right collector"
        could = can
    return ""


def _silence_asked(case: Case) -> bool:
    """Whether the policy asks that nothing leaves."""
    needs = {name: r.needs.get("") for name, r in (case.whole or case.asked).items() if not r.problem}
    export, collectors, level = (needs.get(name) for name in ("export", "collectors", "level"))
    return (
        (isinstance(export, Need) and not export.accepts("on"))
        or (isinstance(collectors, SetNeed) and collectors.exactly == ())
        or (isinstance(level, Need) and level.accepts("none") and level.choose(lambda v: v != "none") is None)
    )


def _reached(scope: Scope) -> set[str]:
    """The right collectors that a device can send to."""
    if scope.records.get("export").value == "off":
        return set()
    return {d.collector for d in scope.judged if d.right and d.collector and reached(scope, d)}
