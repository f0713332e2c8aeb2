"""Judges a change that somebody wrote: the same proof as that of a correction of our own, on the
configuration of today.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from msgspec import Struct
from msgspec.structs import replace

from ivrel.core.correcting.case import Case, Start
from ivrel.core.correcting.changes import is_about_export
from ivrel.core.correcting.correction import Remaining, remaining
from ivrel.core.correcting.difference import is_same_beyond_export
from ivrel.core.correcting.plan import make_plan
from ivrel.core.correcting.prints import fingerprint, print_of_statements
from ivrel.core.correcting.proof import Property, prove
from ivrel.core.correcting.properties import NoLongerSent, OutageGap
from ivrel.core.reading.records import Records
from ivrel.core.shapes.shape import Edit
from ivrel.core.text.text import Text
from ivrel.core.vocabulary.errors import Refused

# What can be said of a change as a whole, worst first.
STATES = ("refused", "fails", "done", "holds")


class Written(Struct, frozen=True):
    """A change as it lies in a folder.

    `backout`: None if there is none; `made_for`: the fingerprint of the configuration that it was
    made for, and `made_from` that of its statements, '' if that is not known; `edited`: whether it
    is not as it was written.
    """

    change: str
    backout: str | None = None
    made_for: str = ""
    made_from: str = ""
    edited: bool = False


class Judged(Struct, frozen=True):
    """What is to be said of a change on the configuration of today.

    `problem`: why it is not taken at all, '' if it is; `is_done`: the configuration says already
    what it would bring; `lines`: how many it has; `foreign`: those of them that are not about
    export; `stale`: the configuration says something else of export than the one that it was made
    for.
    """

    device: str
    platform: str
    problem: str = ""
    proof: tuple[Property, ...] = ()
    is_done: bool = False
    lines: int = 0
    foreign: tuple[int, ...] = ()
    gaps: tuple[OutageGap, ...] = ()
    no_longer_sent: tuple[NoLongerSent, ...] = ()
    remains: tuple[Remaining, ...] = ()
    stale: bool = False
    edited: bool = False
    fingerprint: str = ""
    asks: str = ""
    corrected: bytes = b""

    @property
    def state(self) -> str:
        """What is to be said of it as a whole: a row of STATES."""
        if self.problem:
            return "refused"
        if self.is_done:
            return "done"
        return "holds" if all(p.holds for p in self.proof) else "fails"


def judge_change(start: Start, written: Written) -> Judged:
    """Return the judgement of a change."""
    case = start.case
    state = start.state
    data = state.records.text.data
    said = Judged(
        case.device.name,
        case.dialect.name,
        stale=_is_stale(state.records, written),
        edited=written.edited,
        fingerprint=fingerprint(data),
        asks=case.dialect.shape.ASKS,
    )
    if not written.change.strip():
        return replace(said, problem="the change is empty")
    # What cannot be done is found as for a correction of our own; what else that would do is not
    # the reason of this change.
    plan = replace(make_plan(state, case.asked, case.waived, case.whole, case.prefer), touched={})
    proof = prove(case, state, written.change, plan, written.backout)
    if proof.after is None:
        return replace(said, problem=proof.properties[0].why)
    foreign = tuple(_foreign(case, state.records.text, proof.edits))
    properties = proof.properties
    if foreign:
        why = f"line {foreign[0]} is not about export"
        properties = tuple(
            Property("narrow", False, why) if p.name == "narrow" else p for p in properties
        )
    return replace(
        said,
        proof=properties,
        is_done=proof.corrected.data == data and proof.holds("complete"),
        lines=len(proof.edits),
        foreign=foreign,
        gaps=proof.gaps,
        no_longer_sent=proof.no_longer_sent,
        remains=remaining(case, case.result(proof.after), plan),
        corrected=proof.corrected.data,
    )


def _is_stale(records: Records, written: Written) -> bool:
    """Whether a configuration says something else than the one that a change was made for."""
    if not written.made_for or written.made_for == fingerprint(records.text.data):
        return False
    return written.made_from != print_of_statements(records)


def _foreign(case: Case, text: Text, edits: Sequence[Edit]) -> Iterator[int]:
    """Yield the lines of a change that set or take away what is not about export."""
    dialect = case.dialect
    if dialect.shape.DERIVED:
        return
    for edit in edits:
        try:
            after = case.apply(text, [edit])
        except Refused:
            return  # what only all of them together do is not told line by line
        if edit.removes:
            if not is_same_beyond_export(dialect, text, after):
                yield edit.line
        elif not is_about_export(dialect, edit):
            yield edit.line
        text = after
