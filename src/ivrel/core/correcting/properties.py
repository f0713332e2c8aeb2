"""The properties of a correction, one function each: '' if it holds, else what shows that it does
not.
"""

from __future__ import annotations

import functools
from collections.abc import Iterator, Mapping, Sequence

from msgspec import Struct
from msgspec.structs import replace

from ivrel.core.correcting.answers import StateAnswers
from ivrel.core.correcting.backout import gone_with_rows, in_order
from ivrel.core.correcting.case import Case
from ivrel.core.correcting.changes import named, read_change, write_change
from ivrel.core.correcting.difference import (
    is_same_beyond_export,
    lost_beyond_export,
    lost_statement,
    moved_statement,
)
from ivrel.core.correcting.plan import CorrectionPlan, make_plan, undo
from ivrel.core.correcting.trial import Trial
from ivrel.core.policy import Requirement
from ivrel.core.policy.need import Need, SetNeed
from ivrel.core.settings import SETTINGS, Scope
from ivrel.core.settings.contract import about_of, need_of
from ivrel.core.settings.sending import Sending, bounds, lacking, reached, sendings
from ivrel.core.shapes.shape import Edit
from ivrel.core.text.words import Path, Words
from ivrel.core.vocabulary.errors import InputError, Refused, Unreadable
from ivrel.core.vocabulary.severity import EVERYTHING, NOTHING, Selection

PROPERTIES: Mapping[str, str] = {
    "complete": "nothing breaks any more, but for what is listed",
    "no worse": "no setting that was as asked is not so any more",
    "settled": "correcting again gives nothing",
    "minimal": "leave any one line out and something breaks, or is not what the policy says to "
    "write",
    "reversible": "the back-out brings the old reading and its statements back",
    "never silent": "after every line, a device that could send to a right collector still can",
    "nothing lost": "what is asked to leave, and left before for anybody, still leaves for a "
    "collector that is asked for",
    "narrow": "nothing but export settings has changed",
}

# One more, where the platform's own program can be asked.
TAKEN = "taken"
# And another, where it can be run.
CARRIED = "carried out"
MEANS: Mapping[str, str] = {
    **PROPERTIES,
    CARRIED: "the platform's own program ran it, and sent a message of each facility and severity "
    "as was computed",
    TAKEN: "the platform's own program has nothing more against it than before, and nothing "
    "against what is to send",
}


class OutageGap(Struct, frozen=True):
    """A collector that is not reached for so many lines of a change, though it is before and
    after.
    """

    collector: str
    lines: int


class NoLongerSent(Struct, frozen=True):
    """Messages that left a device before, and may leave for nobody any more.

    `destination`: who got them; `messages`: which, in words; `certain`: whether they surely left:
    a filter on more than facility and severity may have held some of them back.
    """

    destination: str
    messages: str
    certain: bool = True

    @property
    def words(self) -> str:
        """Both in words."""
        perhaps = "" if self.certain else ", as far as a filter let them through"
        return f"{self.messages} (to {self.destination}{perhaps})"


class AppliedChange(Struct, frozen=True):
    """A change that has been applied: the trial, and what is known of it before and after."""

    case: Case
    plan: CorrectionPlan
    trial: Trial
    before: StateAnswers
    after: StateAnswers


def complete(tried: AppliedChange) -> str:
    """Return the requirements that still break although nothing reported prevents them."""
    for name, requirement in tried.case.asked.items():
        if name in tried.case.waived:
            continue
        known = {o.about for o in tried.plan.obstacles.get(name, ())}
        for finding in tried.after.findings(requirement):
            if finding.verdict == "breaks" and not known & {"", finding.about}:
                return f"{name} still breaks: {finding.why}"
    return ""


def no_worse(tried: AppliedChange) -> str:
    """Return a setting that was as asked and is not so any more, with the rules that ask for it."""
    case = tried.case
    changed = dict.fromkeys(name for names in tried.plan.touched.values() for name in names)
    followed = dict.fromkeys(f"'{case.asked[name].rule}' ({name})" for name in changed)
    for name, requirement in case.whole.items():
        if name in case.waived or tried.before.findings(requirement):
            continue
        for finding in tried.after.findings(requirement):
            told = f"'{requirement.rule}' asks {name}: {requirement.text}; {finding.why}"
            by = f"; the change follows {' and '.join(followed)}" if followed else ""
            return told + by
    return ""


def settled(tried: AppliedChange) -> str:
    """Return how many lines another correction would write."""
    case = tried.case
    again = make_plan(tried.after, case.asked, case.waived, case.whole, case.prefer).steps
    return f"{len(again)} more line{'s' * (len(again) > 1)}" if again else ""


def spare(tried: AppliedChange) -> list[Edit]:
    """Return the edits that can each be left out with the same outcome, in the order of the
    change.
    """
    case = tried.case
    after = tried.after
    asked = _as_written(tried)
    names = [name for name in asked if name not in case.waived]
    end = after.on(tried.trial.end)
    kept = left_for(tried.before, right=False) & left_for(after, right=True)
    order = {edit: n for n, edit in enumerate(tried.trial.fine)}
    owners = {step.edit: tried.plan.owners(step) for step in tried.plan.steps}
    out = []
    for edit, records in tried.trial.without_each():
        if records is None or len(records.unparsed) != len(after.records.unparsed):
            continue
        without = tried.before if records is tried.trial.before else end.on(records)
        # What the line was written for is most likely what is missing without it.
        first = owners.get(replace(edit, line=0), ())
        each = dict.fromkeys((*(name for name in first if name in names), *names))
        if not any(without.has_more_amiss_than(end, asked[name]) for name in each) and (
            kept <= left_for(without, right=True)
        ):
            out.append(edit)
    return sorted(out, key=order.__getitem__)


def left_for(state: StateAnswers, *, right: bool) -> Selection:
    """Return all that leaves, for right collectors or for anybody.

    What leaves by each channel has bits of its own.
    """
    return state.ask(("leaving", right), lambda scope: _left_for(scope, right))


def _left_for(scope: Scope, right: bool) -> Selection:
    if scope.records.get("export").value == "off":
        return NOTHING
    bits = 0
    for d in scope.destinations:
        is_right = d.right and d.collector not in scope.forbidden
        if is_right or (not right and d.endpoint[0] is not None):
            for n, sending in enumerate(sendings(scope, d).values()):
                bits |= sending.bits << n * EVERYTHING.bits.bit_length()
    return Selection(bits)


def nothing_lost(tried: AppliedChange) -> str:
    """Return what surely left before, has to leave, and does not surely leave any more for a
    collector that is asked for; '' if there is nothing.
    """
    case = tried.case
    level = case.asked.get("level")
    if level is None or level.problem or "level" in case.waived:
        return ""
    if tried.plan.obstacles.get("level") or tried.plan.obstacles.get("collectors"):
        return ""  # what the platform cannot do is listed
    before = tried.before.ask(("surely leaving", False), lambda scope: _surely_left(scope, None))
    after = tried.after.ask(
        ("surely leaving", True, level), lambda scope: _surely_left(scope, level)
    )
    lost = {
        channel: left & required - after.get(channel, (NOTHING, NOTHING))[0]
        for channel, (left, _) in before.items()
        if (required := after.get(channel, (NOTHING, NOTHING))[1])
    }
    for channel, selection in lost.items():
        if selection:
            of = f" of {channel}" if channel else ""
            return f"{selection.describe()}{of} left before, and may not leave any more"
    return ""


def no_longer_sent(tried: AppliedChange) -> tuple[NoLongerSent, ...]:
    """Return what left before, for anybody, and does not surely leave any more."""
    before = tried.before.ask(("sent",), _sent)
    after = tried.after.ask(("sent",), _sent)
    surely: dict[str, Selection] = {}
    for channels in after.values():
        for channel, sending in channels.items():
            surely[channel] = surely.get(channel, NOTHING) | sending.sure
    out = []
    for destination, channels in before.items():
        for channel, sending in channels.items():
            lost = sending - surely.get(channel, NOTHING)
            if lost and not _is_kept(destination, channel, before, after):
                of = f" of {channel}" if channel else ""
                was_sure = not lost - sending.sure
                out.append(NoLongerSent(destination, f"{lost.describe()}{of}", was_sure))
    return tuple(out)


_BySender = Mapping[str, Mapping[str, Sending]]  # by destination and channel


def _is_kept(destination: str, channel: str, before: _BySender, after: _BySender) -> bool:
    """Whether what leaves for a destination still does: for itself, or for one that took its place.

    Filters with the same bounds may be different ones, so that as many must have come as have gone.
    """
    was = before[destination][channel]

    def alike(states: _BySender) -> set[str]:
        found = ((name, channels.get(channel)) for name, channels in states.items())
        return {
            name
            for name, one in found
            if one is not None and (one.bits, one.surely) == (was.bits, was.surely)
        }

    old = alike(before)
    new = alike(after)
    return destination in new or (bool(new - old) and len(new - old) >= len(old - new))


def _sent(scope: Scope) -> dict[str, dict[str, Sending]]:
    """Return what leaves for each destination, by channel."""
    if scope.records.get("export").value == "off":
        return {}
    return {
        d.title: sendings(scope, d)
        for d in scope.destinations
        if d.endpoint[0] is not None and not lacking(scope, d)
    }


def _surely_left(scope: Scope, level: Requirement | None) -> dict[str, tuple[Selection, Selection]]:
    """Return what surely leaves by each channel, and what has to leave.

    `level`: what is asked; with it, only what leaves for collectors that are asked for counts.
    """
    out: dict[str, tuple[Selection, Selection]] = {}
    if scope.records.get("export").value == "off":
        return out
    wanted = {d.key for d in scope.judged}
    for d in scope.destinations:
        if d.endpoint[0] is None or (level is not None and d.key not in wanted):
            continue
        for channel, sending in sendings(scope, d).items():
            left, required = out.get(channel, (NOTHING, NOTHING))
            if level is not None:
                least, _ = bounds(need_of(level.needs, about_of(d.label, channel)))
                required |= least
            out[channel] = left | sending.sure, required
    return out


def _as_written(tried: AppliedChange) -> dict[str, Requirement]:
    """Return the requirements, narrowed to what the policy says to write where the correction wrote
    that.
    """
    asked = dict(tried.case.asked)
    for name, requirement in tried.case.asked.items():
        needs = requirement.needs
        if requirement.problem or not any(_says_what(need) for need in needs.values()):
            continue
        had = {fact.key for fact in tried.before.facts(name)}
        for key in dict.fromkeys(fact.key for fact in tried.after.facts(name)):
            need = needs.get(key, needs.get(""))
            if not isinstance(need, Need) or not need.write:
                continue
            alone, narrow = tried.case.memory.once(
                ("written", requirement, asked[name], key),
                functools.partial(_narrowed, requirement, asked[name], key, need),
            )
            if key in had and not tried.before.judged(alone):
                continue
            if not tried.after.judged(narrow):
                asked[name] = narrow
    return asked


def _narrowed(
    requirement: Requirement, asked: Requirement, key: str, need: Need
) -> tuple[Requirement, Requirement]:
    """Return the part of a requirement for one key alone, with the values that the policy prefers
    there.
    """
    alone = {key: need} if "" not in requirement.needs else {"": Need(order=need.order), key: need}
    narrow = {**asked.needs, key: need.only(str(need.write))}
    return replace(requirement, needs=alone), replace(requirement, needs=narrow)


def _says_what(need: object) -> bool:
    return isinstance(need, Need) and bool(need.write)


def reversible(tried: AppliedChange) -> tuple[str, str]:
    """Return the back-out, and why it does not bring everything back; '' if it does."""
    case = tried.case
    before = tried.before
    corrected = tried.trial.text
    if corrected.data == before.records.text.data:
        return "", ""
    try:
        edits = [step.edit for step in undo(tried.trial.after, before.records)]
        # What went with a row comes back with it.
        edits += [Edit(path, words) for path, words in carried(tried)]
        edits = in_order(before.records, tried.trial.after, edits)
        backout = write_change(case.dialect, corrected, edits)
    except Refused as problem:
        return "", f"the back-out cannot be applied: {problem}"
    why = brings_back(tried, backout)
    return ("" if why.startswith(_NOT_APPLIED) else backout), why


_NOT_APPLIED = "the back-out cannot be applied"


def brings_back(tried: AppliedChange, backout: str) -> str:
    """Return why a back-out does not bring everything back; '' if it does."""
    case = tried.case
    before = tried.before
    try:
        edits = read_change(case.dialect, backout, "back-out")
        if unsaid := case.dialect.shape.unsaid(edits):
            return unsaid
        text = case.apply(tried.trial.text, edits)
        if text.data == before.records.text.data:
            return ""  # to the letter, so there is nothing to compare
        back = before.on(case.read(text))
    except (InputError, Refused, Unreadable) as problem:
        return f"{_NOT_APPLIED}: {problem}"
    lost = lost_statement(before.records, back.records)
    lost = lost or moved_statement(before.records, back.records)
    if lost:
        return f"after the back-out {lost}"
    if not is_same_beyond_export(case.dialect, before.records.text, text):
        return "after the back-out other statements than export settings are not what they were"
    stay = case.dialect.stays
    for name, setting in SETTINGS.items():
        # What cannot be taken away says the default once it is back.
        by_whom = stay.isdisjoint(setting.slots)
        old, new = (_said(state, name, by_whom=by_whom) for state in (before, back))
        for what in {**old, **new}:
            if old.get(what) != new.get(what):
                now, was = (", ".join(said.get(what, ["gone"])) for said in (new, old))
                return f"after the back-out {what} is {now}, not {was}"
    return ""


def _said(state: StateAnswers, name: str, *, by_whom: bool) -> dict[str, list[str]]:
    """Return the facts of a setting in words; `by_whom`: also say which of them are defaults."""
    out: dict[str, list[str]] = {}
    for f in state.facts(name):
        said = f"{f.value}{' by default' if f.default and by_whom else ''}"
        out.setdefault(f"{f.setting} {f.key}".strip(), []).append(said)
    return {what: sorted(said) for what, said in out.items()}


def never_silent(tried: AppliedChange) -> tuple[str, tuple[OutageGap, ...]]:
    """Return the line after which nothing leaves for a right collector, although something did or
    should; empty if there is none. And the gaps of single collectors on the way.
    """
    case = tried.case
    trial = tried.trial
    if _silence_is_asked(case):
        return "", ()
    if left_for(tried.before, right=False) and not left_for(tried.after, right=False):
        return "nothing leaves any more when it is done", ()
    could = reached_by(tried.before)
    if case.dialect.shape.ATOMIC:
        # What is carried out as a whole has no moment in between.
        still = not could or reached_by(tried.after)
        return "" if still else "nothing leaves for a right collector when it is done", ()
    state = tried.before
    reached = [could]
    for edit, records in trial.after_each():
        state = tried.after if records is trial.after else state.on(records)
        can = reached_by(state)
        if could and not can:
            said = named(case.dialect, edit)
            return f"after {said} nothing leaves for a right collector", ()
        could = can
        reached.append(can)
    return "", tuple(_gaps(reached))


def _gaps(reached: Sequence[frozenset[str]]) -> Iterator[OutageGap]:
    """Yield the gaps of collectors that are reached at first and at last; `reached`: those that are
    before the first line and after each.
    """
    for collector in sorted(reached[0] & reached[-1]):
        gone = [n for n, now in enumerate(reached) if collector not in now]
        if gone:
            back = next(n for n in range(gone[-1], len(reached)) if collector in reached[n])
            yield OutageGap(collector, back - gone[0])


def _silence_is_asked(case: Case) -> bool:
    """Whether the policy asks that nothing leaves."""
    needs = {name: r.needs.get("") for name, r in case.whole.items() if not r.problem}
    export, collectors, level = (needs.get(name) for name in ("export", "collectors", "level"))
    if isinstance(export, Need) and not export.accepts("on"):
        return True
    if isinstance(collectors, SetNeed) and collectors.exactly == ():
        return True
    if not isinstance(level, Need) or not level.accepts("none"):
        return False
    return level.choose(lambda v: v != "none") is None


def reached_by(state: StateAnswers) -> frozenset[str]:
    """Return the right collectors that a device can send to."""
    return _reached_in(state.plain)


def _reached_in(scope: Scope) -> frozenset[str]:
    if scope.records.get("export").value == "off":
        return frozenset()
    right = (d for d in scope.judged if d.right and d.collector not in scope.forbidden)
    return frozenset(str(d.collector) for d in right if reached(scope, d))


def narrow(tried: AppliedChange) -> str:
    """Whether anything but export settings has changed."""
    before = tried.before.records.text
    after = tried.trial.text
    dialect = tried.case.dialect
    if is_same_beyond_export(dialect, before, after):
        return ""
    lost = lost_beyond_export(dialect, before, after)
    if lost and lost == carried(tried) and not lost_beyond_export(dialect, after, before):
        return ""
    return "other statements than export settings changed"


def carried(tried: AppliedChange) -> list[tuple[Path, Words]]:
    """Return the statements beyond export settings that go with a row, and come back with it."""
    return gone_with_rows(tried.before.records, tried.trial.text, tried.trial.fine)
