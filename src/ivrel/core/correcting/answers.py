"""Answers: what is asked of many states of many configurations, worked out anew only where they
differ.

A correction is tried in many states: without each of its lines, after each of them, backed out.
Each differs from another in a few values, and so do the configurations of a fleet. An answer notes
what it looked at; where the same is seen there again, the answer is the same.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Set
from operator import itemgetter
from typing import Any, TypeVar

from msgspec import Struct

from ivrel.core.correcting.difference import is_same_beyond_export, same_value
from ivrel.core.judging.judge import Known, strays_on
from ivrel.core.judging.recall import is_of_text
from ivrel.core.policy import Requirement
from ivrel.core.reading.records import EVERY_SLOT, Note, Notes, Records
from ivrel.core.reading.statements import LAZY, Key
from ivrel.core.settings import SETTINGS, Fact, Finding, Scope
from ivrel.core.settings.scope import DEVICE
from ivrel.core.text.text import Text
from ivrel.core.vocabulary.said import Row, Said

T = TypeVar("T")

_UNREAD = Finding("unread", judged="unknown")

_NOT_OF_TEXT = (DEVICE[0], "lazy")  # noted as tables are, and the same in all states

Sights = Mapping[Note, int]  # where one looks, and the number of what is seen there


class _Answer(Struct, frozen=True):
    """An answer, and all that was looked at for it: as a whole, and by table."""

    value: Any
    looked: frozenset[Note]
    by_table: tuple[tuple[str, frozenset[str]], ...]


def _answer(value: object, looked: Set[Note]) -> _Answer:
    by_table: dict[str, set[str]] = {}
    for table, slot in looked:
        by_table.setdefault(table, set()).add(slot)
    told = tuple((table, frozenset(slots)) for table, slots in by_table.items())
    return _Answer(value, frozenset(looked), told)


class _Given(Struct, frozen=True):
    """Answers that looked at the same; `at` gives what they hang on from what is seen."""

    looked: frozenset[Note]
    at: Callable[[Sights], object]
    answers: dict[object, _Answer]


class _Known:
    """The answers that are known, by question."""

    def __init__(self) -> None:
        self.count = 0
        self._given: dict[object, list[_Given]] = {}

    def find(self, name: object, seen: Sights) -> _Answer | None:
        """Return the answer to a question where this is seen; None if none is known."""
        for given in self._given.get(name, ()):
            found = given.answers.get(given.at(seen))
            if found is not None:
                return found
        return None

    def keep(self, name: object, seen: Sights, answer: _Answer) -> None:
        """Keep the answer to a question, which was given where this is seen."""
        looked = answer.looked
        some = self._given.setdefault(name, [])
        given = next((one for one in some if one.looked == looked), None)
        if given is None:
            # One number stands for itself, more are a tuple; what looked at nothing holds always.
            at = itemgetter(*looked) if looked else lambda seen: None
            given = _Given(looked, at, {})
            some.append(given)
        given.answers[given.at(seen)] = answer
        self.count += 1


class _Numbers:
    """Numbers for what is seen: the same for the same."""

    def __init__(self) -> None:
        self._numbers: dict[object, int] = {}

    def __len__(self) -> int:
        return len(self._numbers)

    def number(self, seen: object) -> int:
        """Return the number of what was seen."""
        return self._numbers.setdefault(seen, len(self._numbers))


class Memory:
    """What one run knows of configurations in one dialect, held against the same collectors.

    Answers that hang on the device itself, or on tables that are looked up, are no part of it.
    """

    def __init__(self) -> None:
        self.known, self.numbers = _Known(), _Numbers()
        self._made: dict[object, Any] = {}

    def once(self, name: object, make: Callable[[], T]) -> T:
        """Return what `make` gives, which must hang on the name alone: the same object each
        time.
        """
        if name not in self._made:
            self._made[name] = make()
        return self._made[name]  # type: ignore[no-any-return]

    def __len__(self) -> int:
        return self.known.count + len(self.numbers) + len(self._made)


class OfDevice:
    """What is known of one device alone; `text`: its text as it is."""

    def __init__(self, text: Text) -> None:
        self.known, self.text = _Known(), text
        self._numbers = _Numbers()
        self._kept: dict[int, object] = {}  # what is told apart by its identity lives as long
        self._by_identity: dict[tuple[int, str], int] = {}

    def beyond_export(self, records: Records) -> int:
        """Return the number of what a text says beyond export: 0 is that of the text as it is."""
        if is_same_beyond_export(records.dialect, self.text, records.text):
            return 0
        return self._identity(records.text)

    def number(self, rows: Mapping[Key, Row], slot: str) -> int:
        """Return the number of what some rows say in a slot; of the same object it is known."""
        at = self._identity(rows), slot
        number = self._by_identity.get(at)
        if number is None:
            number = self._by_identity[at] = self._numbers.number(_values(rows, slot))
        return number

    def _identity(self, thing: object) -> int:
        self._kept[id(thing)] = thing
        return id(thing)


class _Seen(dict[Note, int]):
    """What is seen in one state, wherever somebody looks.

    `other`: what is seen in another state of the same configuration; what both have in common is
    taken from there.
    """

    def __init__(
        self, records: Records, memory: Memory, of_device: OfDevice, other: _Seen | None = None
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

    def as_other(self, answer: _Answer) -> bool:
        """Whether all that an answer looked at is surely the same in the other state."""
        other = self._other
        for table, slots in answer.by_table:
            if other is None or not self._is_as(other, table, slots):
                return False
        return other is not None

    def _is_as(self, other: _Seen, table: str, slots: Iterable[str]) -> bool:
        """Whether some slots of a table are surely the same in the other state."""
        try:
            apart = self._apart[table]
        except KeyError:
            apart = self._apart[table] = _differing(other._records, self._records, table)
        return apart is not None and (not apart or apart.isdisjoint(slots))

    def _look(self, table: str, slot: str) -> int:
        if table in _NOT_OF_TEXT:
            return 0  # the same in all states
        # Of interfaces it is told only whether all statements beyond export are the same.
        if table == "interface":
            return self._of_device.beyond_export(self._records)
        # There can be thousands of traffic rules, and most states have those of the text.
        if table in LAZY:
            return self._of_device.number(self._records.rows(table), slot)
        if table == "" and slot not in ("", EVERY_SLOT):
            return self._memory.numbers.number(_value(self._records.get(slot)))
        return self._memory.numbers.number(_values(self._records.rows(table), slot))


class Answers:
    """Answers about one state of a configuration.

    `memory`: what is known of others; `of_device`: what is known of other states of this one;
    `other`: one of these, whose answers hold here where both say the same.
    """

    def __init__(
        self,
        scope: Scope,
        memory: Memory | None = None,
        of_device: OfDevice | None = None,
        other: Answers | None = None,
    ) -> None:
        self.plain = scope
        self._memory = Memory() if memory is None else memory
        self._of_device = OfDevice(scope.records.text) if of_device is None else of_device
        self._notes = Notes()
        self._scope = scope.on(scope.records.noting(self._notes))
        of_other = None if other is None else other._seen
        self._seen: _Seen = _Seen(scope.records, self._memory, self._of_device, of_other)
        self._answers: dict[object, _Answer] = {}
        self._other = other
        self._of_asked: dict[Requirement, _Answer] = {}
        self._findings: dict[Requirement, list[Finding]] = {}
        self._found_here: set[object] = set()  # the questions that no other state answered

    @property
    def records(self) -> Records:
        """The records of this state."""
        return self.plain.records

    def on(self, records: Records) -> Answers:
        """Return the answers about another state of the same configuration."""
        return Answers(self.plain.on(records), self._memory, self._of_device, self)

    def ask(self, name: object, question: Callable[[Scope], T]) -> T:
        """Return the answer to a question, which must hang on the scope and the name alone."""
        return self._ask(name, question).value  # type: ignore[no-any-return]

    def _ask(self, name: object, question: Callable[[Scope], object]) -> _Answer:
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

    def _anew(self, name: object, question: Callable[[Scope], object]) -> _Answer:
        self._notes.seen = set()
        value = question(self._scope)
        answer = _answer(value, self._notes.seen)
        known = self._memory.known if is_of_text(answer.looked) else self._of_device.known
        known.keep(name, self._seen, answer)
        self._found_here.add(name)
        return answer

    def findings(self, asked: Requirement) -> list[Finding]:
        """Return what is not as asked; a line that is not understood may be about it."""
        found = self._findings.get(asked)
        if found is None:
            if self.records.strays and strays_on(self.records, asked.setting):
                found = [_UNREAD]
            else:
                found = [] if asked.problem else self.judged(asked)
            self._findings[asked] = found
        return found

    def judged(self, asked: Requirement) -> list[Finding]:
        """Return what is not as asked, strange statements aside."""
        return self._judged(asked).value  # type: ignore[no-any-return]

    def _judged(self, asked: Requirement) -> _Answer:
        answer = self._of_asked.get(asked)
        if answer is None:
            judge = SETTINGS[asked.setting].judge
            answer = self._ask(("findings", asked), lambda scope: judge(scope, asked.needs))
            self._of_asked[asked] = answer
        return answer

    def found(self, asked: Requirement, notes: Notes) -> Known | None:
        """Return what is not as asked, with the lines of this text, and note what was looked at for
        it; None if it is to be found anew.
        """
        if asked.problem:
            return None
        answer = self._judged(asked)
        notes.seen |= answer.looked
        # Lines are those of the text in which something was found. Nothing has no lines.
        here = not answer.value or ("findings", asked) in self._found_here
        return Known(answer.value) if here else None

    def foreseen(self, asked: Requirement, notes: Notes) -> Known | None:
        """Return what is known of a setting, as `found` does, of a text that is no file yet.

        What hangs on the device is not looked up again there: all that is lost is its lines.
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
    # To compare thousands of traffic rules is more work than to look at them again.
    if table in LAZY or tuple(old_rows) != tuple(new_rows):
        return None
    out: set[str] = set()
    for old, new in zip(old_rows.values(), new_rows.values(), strict=True):
        if old is not new:
            out.update(s for s in {**old, **new} if not same_value(old.get(s), new.get(s)))
    return frozenset((*out, "", EVERY_SLOT)) if out else frozenset()


def _value(said: Said | None) -> object:
    return None if said is None else (said.value, said.default)


def _values(rows: Mapping[Key, Row], slot: str) -> object:
    """Return which rows there are, or what they say: in one slot, or all of it."""
    if slot == "":
        return tuple(rows)
    if slot == EVERY_SLOT:
        every = (row.items() for row in rows.values())
        return tuple([tuple([(name, _value(said)) for name, said in row]) for row in every])
    return tuple([_value(row.get(slot)) for row in rows.values()])
