"""Proves a correction on the text at hand, by applying it as the platform would and reading the
outcome.
"""

from __future__ import annotations

from msgspec import Struct
from msgspec.structs import replace

from ivrel.core.correcting import properties as prop
from ivrel.core.correcting.answers import StateAnswers
from ivrel.core.correcting.case import Case
from ivrel.core.correcting.changes import named, read_change
from ivrel.core.correcting.plan import CorrectionPlan
from ivrel.core.correcting.properties import PROPERTIES, AppliedChange
from ivrel.core.correcting.trial import Trial
from ivrel.core.shapes.shape import Edit
from ivrel.core.text.text import Text
from ivrel.core.text.words import Path, Words
from ivrel.core.vocabulary.errors import InputError, Refused, Unreadable


class Property(Struct, frozen=True):
    """One property of the proof, whether it holds, and what shows that it does not.

    `by`: the program that showed it, with its version, if it was none of Ivrel's own.
    """

    name: str
    holds: bool
    why: str
    by: str = ""

    @property
    def title(self) -> str:
        """The name, and by whom it was shown."""
        return f"{self.name} by {self.by}" if self.by else self.name


class Proof(Struct, frozen=True):
    """A change applied: the corrected text, the back-out, the properties, and what could be left
    out.

    `after`: the answers about the corrected configuration; None if the change cannot be applied;
    `gaps`: of single collectors while it goes in; `no_longer_sent`: what left before and leaves no
    longer; `edits`: those of the change; `carried`: the statements beyond export settings that go
    with a row, and come back with it.
    """

    corrected: Text
    backout: str
    spare: tuple[Edit, ...]
    properties: tuple[Property, ...]
    after: StateAnswers | None = None
    gaps: tuple[prop.OutageGap, ...] = ()
    no_longer_sent: tuple[prop.NoLongerSent, ...] = ()
    edits: tuple[Edit, ...] = ()
    carried: tuple[tuple[Path, Words], ...] = ()

    def holds(self, name: str) -> bool:
        """Whether the property of that name holds."""
        return next(p.holds for p in self.properties if p.name == name)


def prove(
    case: Case, before: StateAnswers, change: str, plan: CorrectionPlan, backout: str | None = None
) -> Proof:
    """Apply the text of a change and prove it; one that cannot be applied has no property.

    `backout`: the text that is to bring everything back; None if it is to be written.
    """
    try:
        edits = read_change(case.dialect, change, "change")
        trial = Trial(case, before.records, edits)
    except (InputError, Refused, Unreadable) as problem:
        said = f"it cannot be applied: {problem}"
        none = tuple(Property(name, False, said) for name in PROPERTIES)
        return Proof(before.records.text, "", (), none)
    unsaid = case.dialect.shape.unsaid(edits)
    if unsaid:
        none = tuple(Property(name, False, unsaid) for name in PROPERTIES)
        return Proof(before.records.text, "", (), none)
    tried = AppliedChange(case, plan, trial, before, before.on(trial.after))
    spare = prop.spare(tried)
    if backout is None:
        backout, irreversible = prop.reversible(tried)
    else:
        irreversible = prop.brings_back(tried, backout)
    silent, gaps = prop.never_silent(tried)
    why = {
        "complete": prop.complete(tried),
        "no worse": prop.no_worse(tried),
        "settled": prop.settled(tried),
        "minimal": f"{named(case.dialect, spare[-1])} could be left out" if spare else "",
        "reversible": irreversible,
        "never silent": silent,
        "nothing lost": prop.nothing_lost(tried),
        "narrow": prop.narrow(tried),
    }
    properties = tuple(Property(name, not why[name], why[name]) for name in PROPERTIES)
    return Proof(
        corrected=trial.text,
        backout=backout,
        spare=tuple(spare),
        properties=properties,
        after=tried.after,
        gaps=gaps,
        no_longer_sent=prop.no_longer_sent(tried),
        edits=trial.edits,
        carried=tuple(prop.carried(tried)),
    )


def prune(case: Case, before: StateAnswers, plan: CorrectionPlan, proof: Proof) -> CorrectionPlan:
    """Return the plan without the steps that could be left out, where others made some of them
    idle.

    Of the steps that could be left out one by one, not all can be left out together: each is tried
    again.
    """
    if proof.after is None:
        return plan
    steps = list(plan.steps)
    spare = list(proof.spare)
    # Fewer steps must do no worse than all of them: the same or less that is not as asked, and no
    # less that leaves.
    whole = _standing(case, proof.after)
    kept = prop.left_for(before, right=False) & prop.left_for(proof.after, right=True)
    at_once = len(spare) > 1
    while spare:
        gone = {replace(edit, line=0) for edit in (spare if at_once else spare[-1:])}
        fewer = [s for s in steps if s.edit not in gone]
        if len(fewer) == len(steps):
            return plan
        try:
            trial = Trial(case, before.records, [s.edit for s in fewer])
        except (Refused, Unreadable):
            return plan
        after = before.on(trial.after)
        good = _standing(case, after) <= whole and kept <= prop.left_for(after, right=True)
        # Some of them can replace each other: from here on one by one, from the end.
        if at_once and not good:
            at_once = False
            continue
        steps = fewer
        at_once = False
        spare = prop.spare(AppliedChange(case, plan, trial, before, after))
    return replace(plan, steps=tuple(steps))


def _standing(case: Case, state: StateAnswers) -> set[tuple[str, str, str, str]]:
    """Return all that is not as asked, waived settings aside."""
    out: set[tuple[str, str, str, str]] = set()
    for name, r in case.asked.items():
        if name not in case.waived:
            out.update((name, *found) for found in state.amiss(r))
    return out
