"""Answers about one configuration in many states, from a cache where the dependencies are the same.

A correction is tried in many states: without each of its lines, after each of them, backed out.
Each differs from another in a few values, and so do the configurations of a fleet. While an answer
is computed, the values that it reads are noted; where these are the same, so is the answer.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import TypeVar

from ivrel.core.correcting.answer_cache import (
    CachedAnswer,
    CorrectionCache,
    OfDevice,
    seen_in_rows,
    seen_value,
)
from ivrel.core.correcting.difference import is_same_beyond_export, same_value
from ivrel.core.dialects.slots import LAZY
from ivrel.core.judging.judge import Known, strays_on
from ivrel.core.judging.verdict_cache import is_of_text
from ivrel.core.policy import Requirement
from ivrel.core.reading.records import EVERY_SLOT, Dependencies, Note, Records
from ivrel.core.reading.statements import Key
from ivrel.core.settings import SETTINGS, Fact, Finding, Scope
from ivrel.core.settings.scope import DEVICE
from ivrel.core.settings.unstated import judged
from ivrel.core.vocabulary.sourced import Row

T = TypeVar("T")

_UNREAD = Finding("unread", judged="unknown")

MOST_COMPARED = 20  # rows of a table that is looked up

_NOT_OF_TEXT = (DEVICE[0], "lazy")  # noted as tables are, and the same in all states


class _Seen(dict[Note, int]):
    """The numbers of the values that can be read in one state, each computed when it is needed."""

    def __init__(self, records: Records, memory: CorrectionCache, of_device: OfDevice) -> None:
        super().__init__()
        self._records = records
        self._memory = memory
        self._of_device = of_device

    def __missing__(self, note: Note) -> int:
        number = self[note] = self._look(*note)
        return number

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

    `memory`: the cache for all configurations; `of_device`: the cache for this one; `other`:
    another state of this configuration.
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
        self._seen = _Seen(scope.records, self._memory, self._of_device)
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
        answer = CachedAnswer(value, frozenset(self._notes.seen))
        known = self._memory.known if is_of_text(answer.looked) else self._of_device.known
        known.keep(name, self._seen, answer)
        self._found_here.add(name)
        return answer

    def findings(self, asked: Requirement) -> list[Finding]:
        """Return the findings about a requirement; an unparsed line may concern it, too."""
        found = self._findings.get(asked)
        if found is None:
            if self.records.unparsed and strays_on(self.records, asked.setting):
                found = [_UNREAD]
            else:
                found = [] if asked.problem else self.judged(asked)
            self._findings[asked] = found
        return found

    def amiss(self, asked: Requirement) -> frozenset[tuple[str, str, str]]:
        """Return the findings as triples: subject, verdict and reason."""
        found = self._amiss.get(asked)
        if found is None:
            every = self.findings(asked)
            found = self._amiss[asked] = frozenset((f.about, f.verdict, f.why) for f in every)
        return found

    def has_more_amiss_than(self, other: StateAnswers, asked: Requirement) -> bool:
        """Whether anything is amiss here that is not in another state of the configuration."""
        here = self
        there = other
        table = SETTINGS[asked.setting].by_row if other is self._other else ""
        differing = differing_rows(other.records, self.records, table) if table else None
        if differing:
            # Rows that are the same in both need not be judged.
            here = self.on(self.records.only(table, differing))
            there = other.on(other.records.only(table, differing))
        return not here.amiss(asked) <= there.amiss(asked)

    def judged(self, asked: Requirement) -> list[Finding]:
        """Return the findings about a requirement, unparsed lines aside."""
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
        """Return the findings with the lines of this text, and note their dependencies; None if
        they must be computed again.
        """
        if asked.problem:
            return None
        answer = self._judged(asked)
        notes.seen |= answer.looked
        # Lines are those of the text in which something was found. Nothing has no lines.
        here = not answer.value or ("findings", asked) in self._found_here
        return Known(answer.value) if here else None

    def foreseen(self, asked: Requirement, notes: Dependencies) -> Known | None:
        """Return the findings about a setting, as `found` does, for a text that is no file yet.

        What depends on the device is not looked up again there: all that is lost is its lines.
        """
        known = self.found(asked, notes)
        if known is None or known.findings or is_of_text(self._judged(asked).looked):
            return known
        if self._other is not None:
            self._other.facts(asked.setting)
        return Known(known.findings, self.facts(asked.setting))

    def facts(self, name: str) -> list[Fact]:
        """Return the facts of a setting; their lines may be those of another text."""
        return self.ask(("facts", name), lambda scope: SETTINGS[name].facts(scope))


def differing_rows(before: Records, after: Records, table: str) -> list[Key] | None:
    """Return which rows of a table differ between two states of a configuration.

    Return None if anything else may differ, too.
    """
    others = ("", *(name for name in before.dialect.keys if name != table))
    if not all(_is_same(before, after, name) for name in others):
        return None
    old = before.rows(table)
    new = after.rows(table)
    return [key for key in {**old, **new} if old.get(key) is not new.get(key)]


def _is_same(before: Records, after: Records, table: str) -> bool:
    """Whether a table is surely the same in two states of a configuration."""
    if table in _NOT_OF_TEXT or before.unchanged(table, after):
        return True
    if table == "interface":
        return is_same_beyond_export(before.dialect, before.text, after.text)
    old = before.rows(table)
    new = after.rows(table)
    if old is new:
        return True
    # To compare thousands of traffic rules is more work than to judge them.
    if tuple(old) != tuple(new) or (table in LAZY and len(old) > MOST_COMPARED):
        return False
    return all(_is_same_row(row, new[key]) for key, row in old.items())


def _is_same_row(old: Row, new: Row) -> bool:
    if old is new:
        return True
    return all(same_value(old.get(slot), new.get(slot)) for slot in {**old, **new})
