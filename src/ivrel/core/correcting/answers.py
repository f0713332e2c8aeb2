"""Answers: what is asked of many states of one configuration, worked out anew only where they
differ.

A correction is tried in many states: without each of its lines, after each of them, backed out.
Each differs from another in a few values. An answer notes what it looked at; where none of that
differs, it is the same.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import Any, TypeVar

from ivrel.core.correcting.difference import changed_values
from ivrel.core.judging.judge import judge_one, strays_on
from ivrel.core.policy import Requirement
from ivrel.core.reading.records import EVERY_SLOT, Note, Notes, Records
from ivrel.core.settings import SETTINGS, Finding, Scope
from ivrel.core.settings.scope import DEVICE
from ivrel.core.vocabulary.verdict import Verdict

T = TypeVar("T")

_UNREAD = Finding("unread", judged="unknown")


class Answers:
    """Answers about one state; `like`: those about another state that may hold here, too."""

    def __init__(self, scope: Scope, like: Answers | None = None) -> None:
        self.plain = scope
        self._notes = Notes()
        self._scope = scope.on(scope.records.noting(self._notes))
        self._like = like
        self._differs: dict[str, frozenset[str]] = {}
        self._same: set[Note] = set()  # notes that were found to be the same here
        self._known: dict[object, tuple[Any, frozenset[Note]]] = {}

    @property
    def records(self) -> Records:
        """The records of this state."""
        return self.plain.records

    def on(self, records: Records) -> Answers:
        """Return the answers about another state of the same configuration."""
        return Answers(self.plain.on(records), self)

    def ask(self, name: object, question: Callable[[Scope], T]) -> T:
        """Return the answer to a question, which must hang on the scope and the name alone."""
        return self._ask(name, question)[0]  # type: ignore[no-any-return]

    def _ask(self, name: object, question: Callable[[Scope], Any]) -> tuple[Any, frozenset[Note]]:
        found = self._known.get(name)
        if found is None:
            found = self._known[name] = self._from_the_other(name) or self._anew(question)
        return found

    def _anew(self, question: Callable[[Scope], Any]) -> tuple[Any, frozenset[Note]]:
        self._notes.seen = set()
        value = question(self._scope)
        return value, frozenset(self._notes.seen)

    def _from_the_other(self, name: object) -> tuple[Any, frozenset[Note]] | None:
        """Return the answer about the other state, if it is known and nothing it saw differs."""
        if self._like is None:
            return None
        like = self._like
        found = like._known.get(name)
        if found is None:
            # Through as many states as it takes: each was made from the one before it.
            found = like._from_the_other(name)
            if found is None:
                return None
            like._known[name] = found
        # Most questions look at what others have looked at: only the rest is compared.
        if not found[1] <= self._same:
            if any(map(self._differ, found[1] - self._same)):
                return None
            self._same |= found[1]
        return found

    def _differ(self, note: Note) -> bool:
        """Whether what was looked at differs between this state and the other."""
        table, slot = note
        if note == DEVICE or table == "lazy":
            return False
        if table not in self._differs and self._like is not None:
            self._differs[table] = changed_values(self._like.records, self.records, table)
        differs = self._differs[table]
        return slot in differs or (slot == EVERY_SLOT and bool(differs))

    def findings(self, asked: Requirement) -> list[Finding]:
        """Return what is not as asked; a line that is not understood may be about it."""
        if strays_on(self.records, asked.setting):
            return [_UNREAD]
        if asked.problem:
            return []
        return self.judged(asked)

    def judged(self, asked: Requirement) -> list[Finding]:
        """Return what is not as asked, strange statements aside."""
        setting = SETTINGS[asked.setting]
        return self.ask(("findings", asked), lambda scope: setting.judge(scope, asked.needs))

    def verdicts(self, asked: Iterable[Requirement], file: str) -> tuple[Verdict, ...]:
        """Return the verdicts of a state; `file`: what its text is called."""
        places = self.records.place(file)
        return tuple(judge_one(self.plain, r, places, self._found(r)) for r in asked)

    def _found(self, asked: Requirement) -> list[Finding] | None:
        """Return the findings of this text; None if they are to be found anew."""
        if asked.problem:
            return None
        found = self.judged(asked)
        # Of another state's findings the lines are those of its text. None at all has no lines.
        return None if found and self._like is not None else found
