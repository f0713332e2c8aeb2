"""Why each line of a correction is there: the rules that ask for it, and what is wrong without."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence

from msgspec import Struct

from ivrel.core.correcting.answers import StateAnswers
from ivrel.core.correcting.case import Start
from ivrel.core.correcting.fleet_defaults import chosen
from ivrel.core.correcting.plan import CorrectionPlan
from ivrel.core.correcting.steps import EditStep
from ivrel.core.reading.statements import Key
from ivrel.core.settings import Finding
from ivrel.core.vocabulary.values import Value
from ivrel.core.vocabulary.wording import plain


class CorrectionLine(Struct, frozen=True):
    """One line of a correction: what it says, what it replaces, and why it is there."""

    line: str
    inside: str
    removes: bool
    replaces: str
    settings: tuple[str, ...]
    reason: str


def changes_of(
    start: Start, plan: CorrectionPlan, after: StateAnswers | None
) -> Iterator[CorrectionLine]:
    """Yield the lines of a plan with their reasons.

    `after`: the answers about the corrected configuration, which knows rows that are new.
    """
    shape = start.case.dialect.shape
    reasons = _Reasons(start, after)
    for step in plan.steps:
        settings = plan.owners(step)
        remove = f"{shape.remove} " if step.edit.removes else ""
        yield CorrectionLine(
            remove + shape.join(step.edit.words),
            " / ".join(shape.join(words) for words in step.edit.path),
            step.edit.removes,
            shape.join(step.replaces) if step.replaces else "",
            settings,
            "; ".join(reasons.reason(name, step) for name in settings),
        )


class _Reasons:
    """The reasons for the lines of one correction.

    `after`: as for `changes_of`.
    """

    def __init__(self, start: Start, after: StateAnswers | None) -> None:
        self._start = start
        self._after = after
        self._states = [start.state, *([] if after is None else [after])]
        self._names: set[str] = set()  # what destinations are called in findings
        self._by_key: dict[Key, set[str]] = {}
        self._by_ref: dict[Value, set[str]] = {}
        for state in self._states:
            for d in state.plain.destinations:
                names = {d.label, d.title, d.collector or d.label}
                self._names |= names
                self._by_key.setdefault(d.key, set()).update(names)
                self._by_ref.setdefault(d.ref, set()).update(names)
        self._of_setting: dict[str, _OfSetting] = {}

    def reason(self, setting: str, step: EditStep) -> str:
        """Return the rule that asks for a setting, and what is wrong with it: of the destination of
        the step's row alone, where that is reported destination by destination. And where a value
        comes from that the policy leaves open.
        """
        known = self._of_setting.get(setting)
        if known is None:
            known = self._of_setting[setting] = self._about(setting)
        if known.is_met:
            return known.asks
        labels = self._labels(step)
        own = {n for label in labels for n in known.by_name.get(label, ())}
        told = [known.wrong]
        if labels and (own or known.is_told_by_destination):
            told = [plain(known.findings[n].why) for n in sorted(own)]
        return "; ".join([known.asks, *dict.fromkeys((*told, *known.chosen))])

    def _labels(self, step: EditStep) -> set[str]:
        """Return the names of the destination of a row in findings, if it has one."""
        labels: set[str] = set()
        if step.table == "destination":
            labels |= self._by_key.get(step.key, set())
        for state in self._states if step.table else ():
            row = state.records.rows(step.table).get(step.key, {})
            said = row.get(f"{step.table}.destination")
            if said is not None and isinstance(said.value, str | int):
                labels |= self._by_ref.get(said.value, set())
        return labels

    def _about(self, setting: str) -> _OfSetting:
        start = self._start
        after = self._after
        verdict = next(v for v in start.before.verdicts if v.setting == setting)
        requirement = start.case.asked[setting]
        asks = f"'{requirement.rule}' asks {setting}: {requirement.text}"
        if verdict.verdict in ("meets", "unknown"):
            return _OfSetting(asks, True)
        findings = start.state.findings(requirement)
        by_name: dict[str, list[int]] = {}
        for n, f in enumerate(findings):
            for name in _names_in(f):
                by_name.setdefault(name, []).append(n)
        values: list[str] = []
        if after is not None:
            preferring = start.case.prefer(requirement)
            values = chosen(preferring, start.state.facts(setting), after.facts(setting))
        return _OfSetting(
            asks,
            False,
            verdict.why,
            findings,
            by_name,
            all(_names_in(f) & self._names for f in findings),
            values,
        )


class _OfSetting(Struct, frozen=True):
    """What there is to say of the lines that one setting asks for.

    `is_met`: it was as asked, or is not known: then the rule alone is reported; `by_name`: the
    numbers of the findings about each destination; `is_told_by_destination`: whether each finding
    is about one; `chosen`: where values come from that the policy leaves open.
    """

    asks: str
    is_met: bool
    wrong: str = ""
    findings: Sequence[Finding] = ()
    by_name: Mapping[str, Sequence[int]] = {}
    is_told_by_destination: bool = False
    chosen: Sequence[str] = ()


def _names_in(f: Finding) -> set[str]:
    """Return the names that a finding may use for a destination."""
    return {f.title, f.about, f.about.partition(" ")[0]}
