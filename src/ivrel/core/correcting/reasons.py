"""Why each line of a correction is there: the rules that ask for it, and what is wrong without."""

from __future__ import annotations

from collections.abc import Iterator, Set

from msgspec import Struct

from ivrel.core.correcting.answers import Answers
from ivrel.core.correcting.case import Start
from ivrel.core.correcting.plan import Plan
from ivrel.core.correcting.steps import Step
from ivrel.core.correcting.usual import chosen
from ivrel.core.settings import Finding
from ivrel.core.settings.scope import Destination
from ivrel.core.vocabulary.wording import plain


class Change(Struct, frozen=True):
    """One line of a correction: what it says, what it replaces, and why it is there."""

    line: str
    inside: str
    removes: bool
    replaces: str
    settings: tuple[str, ...]
    reason: str


def changes_of(start: Start, plan: Plan, after: Answers | None) -> Iterator[Change]:
    """Yield the lines of a plan with their reasons.

    `after`: the answers about the corrected configuration, which knows rows that are new.
    """
    shape = start.case.dialect.shape
    states = (start.state, *([] if after is None else [after]))
    known = [d for state in states for d in state.plain.destinations]
    every = frozenset(label for d in known for label in _names(d))
    for step in plan.steps:
        settings = plan.owners(step)
        labels = frozenset(label for state in states for label in _labels(state, step))
        remove = f"{shape.remove} " if step.edit.removes else ""
        yield Change(
            remove + shape.join(step.edit.words),
            " / ".join(shape.join(words) for words in step.edit.path),
            step.edit.removes,
            shape.join(step.replaces) if step.replaces else "",
            settings,
            "; ".join(_reason(start, after, name, labels, every) for name in settings),
        )


def _names(d: Destination) -> tuple[str, str, str]:
    """Return what a destination is called in findings."""
    return d.label, d.title, d.collector or d.label


def _labels(state: Answers, step: Step) -> Iterator[str]:
    """Yield what the destination of a row is called in findings, if it has one."""
    row = state.records.rows(step.table).get(step.key, {})
    said = row.get(f"{step.table}.destination") if step.table else None
    for d in state.plain.destinations:
        mine = step.table == "destination" and d.key == step.key
        if mine or (said is not None and said.value == d.ref):
            yield from _names(d)


def _reason(
    start: Start, after: Answers | None, name: str, labels: Set[str], every: Set[str]
) -> str:
    """Return the rule that asks for a setting, and what is wrong with it: of the destination of the
    row alone, where that is told destination by destination. And where a value comes from that the
    policy leaves open.

    `labels`: what that destination is called; `every`: what all of them are.
    """
    verdict = next(v for v in start.before.verdicts if v.setting == name)
    requirement = start.case.asked[name]
    said = f"'{requirement.rule}' asks {name}: {requirement.text}"
    if verdict.verdict in ("meets", "unknown"):
        return said
    findings = start.state.findings(requirement)
    own = [f for f in findings if _is_about(f, labels)]
    told = [verdict.why]
    if labels and (own or all(_is_about(f, every) for f in findings)):
        told = [plain(f.why) for f in own]
    if after is not None:
        preferring = start.case.prefer(requirement)
        told += chosen(preferring, start.state.facts(name), after.facts(name))
    return "; ".join([said, *dict.fromkeys(told)])


def _is_about(f: Finding, labels: Set[str]) -> bool:
    return f.title in labels or f.about in labels or f.about.partition(" ")[0] in labels
