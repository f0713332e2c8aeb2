"""Answers: what is asked of many states of many configurations, worked out again only where they
differ.

A correction is tried in many states: without each of its lines, after each of them, backed out.
Each differs from another in a few values, and so do the configurations of a fleet. An answer notes
what it looked at; where the same is seen there again, the answer is the same.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import TypeVar

from ivrel.core.correcting.difference import is_same_beyond_export, same_value
from ivrel.core.correcting.memory import (
    CachedAnswer,
    CorrectionCache,
    OfDevice,
    answer_of,
    seen_in_rows,
    seen_value,
)
from ivrel.core.judging.judge import Known, strays_on
from ivrel.core.judging.verdict_cache import is_of_text
from ivrel.core.policy import Requirement
from ivrel.core.reading.records import EVERY_SLOT, Dependencies, Note, Records
from ivrel.core.reading.statements import LAZY, Key
from ivrel.core.settings import SETTINGS, Fact, Finding, Scope
from ivrel.core.settings.scope import DEVICE
from ivrel.core.settings.unstated import judged

T = TypeVar("T")

_UNREAD = Finding("unread", judged="unknown")

MOST_COMPARED = 20  # rows of a table that is looked up

_NOT_OF_TEXT = (DEVICE[0], "lazy")  # noted as tables are, and the same in all states


class _Seen(dict[Note, int]):
    """What is seen in one state, wherever somebody looks.

    `other`: what is seen in another state of the same configuration; what both have in common is
    taken from there.
    """

    def __init__(
        self,
        records: Records,
        memory: CorrectionCache,
        of_device: OfDevice,
        other: _Seen | None = None,
    ) -> None:
        super().__init__()
        self._records, self._memory, self._of_device = records, memory, of_device
        self._other = other
        self._apart: dict[str, frozenset[str] | None] = {}

    def __missing__(self, note: Note) -> int:
        other = self._other
        if other is not None and self._is_as(other, note[0], note[1:]):
            number = other[note]
        else:
            number = self._look(*note)
        self[note] = number
        return number

    def as_other(self, answer: CachedAnswer) -> bool:
        """Whether all that an answer looked at is surely the same in the other state."""
        other = self._other
        for table, slots in answer.by_table:
            if other is None or not self._is_as(other, table, slots):
                return False
        return other is not None

    def _is_as(self, other: _Seen, table: str, slots: Iterable[str]) -> bool:
        """Whether some slots of a table are surely the same in the other state."""
        apart = self._apart_in(other, table)
        return apart is not None and (not apart or apart.isdisjoint(slots))

    def _apart_in(self, other: _Seen, table: str) -> frozenset[str] | None:
        try:
            return self._apart[table]
        except KeyError:
            apart = self._apart[table] = _differing(other._records, self._records, table)
            return apart

    def rows_apart(self, table: str) -> list[Key] | None:
        """Return which rows of a table are other ones in the other state; None if anything else may
        be, too.
        """
        other, records = self._other, self._records
        if other is None:
            return None
        others = ("", *(name for name in records.dialect.keys if name != table))
        if any(self._apart_in(other, name) != frozenset() for name in others):
            return None
        old, new = other._records.rows(table), records.rows(table)
        return [key for key in {**old, **new} if old.get(key) is not new.get(key)]

    def _look(self, table: str, slot: str) -> int:
        if table in _NOT_OF_TEXT:
            return 0  # the same in all states
        # Of interfaces it is reported only whether all statements beyond export are the same.
        if table == "interface":
            return self._of_device.beyond_export(self._records)
        # There can be thousands of traffic rules, and most states have those of the text.
        if table in LAZY:
            return self._of_device.number(self._records.rows(table), slot)
        if table == "" and slot not in ("", EVERY_SLOT):
            return self._memory.numbers.number(seen_value(self._records.get(slot)))
        return self._memory.numbers.number(seen_in_rows(self._records.rows(table), slot))


class StateAnswers:
    """Answers about one state of a configuration.

    `memory`: what is known of others; `of_device`: what is known of other states of this one;
    `other`: one of these, whose answers hold here where both say the same.
    """

    def __init__(
        self,
        scope: Scope,
        memory: CorrectionCache | None = None,
        of_device: OfDevice | None = None,
        other: StateAnswers | None = None,
    ) -> None:
        self.plain = scope
        self._memory = CorrectionCache() if memory is None else memory
        self._of_device = OfDevice(scope.records.text) if of_device is None else of_device
        self._notes = Dependencies()
        self._scope = scope.on(scope.records.noting(self._notes))
        of_other = None if other is None else other._seen
        self._seen: _Seen = _Seen(scope.records, self._memory, self._of_device, of_other)
        self._answers: dict[object, CachedAnswer] = {}
        self._other = other
        self._of_asked: dict[Requirement, CachedAnswer] = {}
        self._findings: dict[Requirement, list[Finding]] = {}
        self._amiss: dict[Requirement, frozenset[tuple[str, str, str]]] = {}
        self._found_here: set[object] = set()  # the questions that no other state answered

    @property
    def records(self) -> Records:
        """The records of this state."""
        return self.plain.records

    def on(self, records: Records) -> StateAnswers:
        """Return the answers about another state of the same configuration."""
        return StateAnswers(self.plain.on(records), self._memory, self._of_device, self)

    def ask(self, name: object, question: Callable[[Scope], T]) -> T:
        """Return the answer to a question, which must depend on the scope and the name alone."""
        return self._ask(name, question).value  # type: ignore[no-any-return]

    def _ask(self, name: object, question: Callable[[Scope], object]) -> CachedAnswer:
        answer = self._answers.get(name)
        if answer is None:
            answer = None if self._other is None else self._other._answers.get(name)
            if answer is not None and not self._seen.as_other(answer):
                answer = None
            if answer is None:
                answer = self._memory.known.find(name, self._seen)
            if answer is None:
                answer = self._of_device.known.find(name, self._seen)
            if answer is None:
                answer = self._anew(name, question)
            self._answers[name] = answer
        return answer

    def _anew(self, name: object, question: Callable[[Scope], object]) -> CachedAnswer:
        self._notes.seen = set()
        value = question(self._scope)
        answer = answer_of(value, self._notes.seen)
        known = self._memory.known if is_of_text(answer.looked) else self._of_device.known
        known.keep(name, self._seen, answer)
        self._found_here.add(name)
        return answer

    def findings(self, asked: Requirement) -> list[Finding]:
        """Return what is not as asked; a line that is not understood may be about it."""
        found = self._findings.get(asked)
        if found is None:
            if self.records.unparsed and strays_on(self.records, asked.setting):
                found = [_UNREAD]
            else:
                found = [] if asked.problem else self.judged(asked)
            self._findings[asked] = found
        return found

    def amiss(self, asked: Requirement) -> frozenset[tuple[str, str, str]]:
        """Return what is not as asked: what it is about, its verdict, and why."""
        found = self._amiss.get(asked)
        if found is None:
            every = self.findings(asked)
            found = self._amiss[asked] = frozenset((f.about, f.verdict, f.why) for f in every)
        return found

    def has_more_amiss_than(self, other: StateAnswers, asked: Requirement) -> bool:
        """Whether anything is amiss here that is not in another state of the configuration."""
        here, there = self, other
        table = SETTINGS[asked.setting].by_row if other is self._other else ""
        apart = self._seen.rows_apart(table) if table else None
        if apart:
            # Rows that are the same in both need not be judged.
            here, there = (state.on(state.records.only(table, apart)) for state in (here, there))
        return not here.amiss(asked) <= there.amiss(asked)

    def judged(self, asked: Requirement) -> list[Finding]:
        """Return what is not as asked, strange statements aside."""
        return self._judged(asked).value  # type: ignore[no-any-return]

    def _judged(self, asked: Requirement) -> CachedAnswer:
        answer = self._of_asked.get(asked)
        if answer is None:
            setting = SETTINGS[asked.setting]
            answer = self._ask(
                ("findings", asked), lambda scope: judged(setting, scope, asked.needs)
            )
            self._of_asked[asked] = answer
        return answer

    def found(self, asked: Requirement, notes: Dependencies) -> Known | None:
        """Return what is not as asked, with the lines of this text, and note what was looked at for
        it; None if it is to be found again.
        """
        if asked.problem:
            return None
        answer = self._judged(asked)
        notes.seen |= answer.looked
        # Lines are those of the text in which something was found. Nothing has no lines.
        here = not answer.value or ("findings", asked) in self._found_here
        return Known(answer.value) if here else None

    def foreseen(self, asked: Requirement, notes: Dependencies) -> Known | None:
        """Return what is known of a setting, as `found` does, of a text that is no file yet.

        What depends on the device is not looked up again there: all that is lost is its lines.
        """
        known = self.found(asked, notes)
        if known is None or known.findings or is_of_text(self._judged(asked).looked):
            return known
        if self._other is not None:
            self._other.facts(asked.setting)
        return Known(known.findings, self.facts(asked.setting))

    def facts(self, name: str) -> list[Fact]:
        """Return what the configuration says of a setting; its lines may be another text's."""
        return self.ask(("facts", name), lambda scope: SETTINGS[name].facts(scope))


def _differing(before: Records, after: Records, table: str) -> frozenset[str] | None:
    """Return the slots of a table that differ in any row between two states of a configuration,
    and what stands for all of them; None if any may.
    """
    if table in _NOT_OF_TEXT or before.unchanged(table, after):
        return frozenset()
    if table == "interface":
        same = is_same_beyond_export(before.dialect, before.text, after.text)
        return frozenset() if same else None
    old_rows, new_rows = before.rows(table), after.rows(table)
    if old_rows is new_rows:
        return frozenset()
    if tuple(old_rows) != tuple(new_rows):
        return None
    pairs = zip(old_rows.values(), new_rows.values(), strict=True)
    apart = [(old, new) for old, new in pairs if old is not new]
    # To compare thousands of traffic rules is more work than to look at them again.
    if table in LAZY and len(apart) > MOST_COMPARED:
        return None
    out: set[str] = set()
    for old, new in apart:
        out.update(s for s in {**old, **new} if not same_value(old.get(s), new.get(s)))
    return frozenset((*out, "", EVERY_SLOT)) if out else frozenset()
