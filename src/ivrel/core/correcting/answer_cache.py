"""What one run knows of configurations, and what is known of one of them: answers, by what was
looked at for them.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from operator import itemgetter
from typing import Any, TypeVar

from msgspec import Struct

from ivrel.core.correcting.difference import is_same_beyond_export
from ivrel.core.reading.records import EVERY_SLOT, Note, Records
from ivrel.core.reading.statements import Key
from ivrel.core.text.text import Text
from ivrel.core.vocabulary.sourced import Row, SourcedValue

T = TypeVar("T")

Sights = Mapping[Note, int]  # where one looks, and the number of what is seen there


class CachedAnswer(Struct, frozen=True):
    """An answer, and all values that were read for it."""

    value: Any
    looked: frozenset[Note]


class _Given(Struct, frozen=True):
    """Answers that looked at the same; `at` gives what they depend on from what is seen."""

    looked: frozenset[Note]
    at: Callable[[Sights], object]
    answers: dict[object, CachedAnswer]


class AnswerCache:
    """The answers that are known, by question."""

    def __init__(self) -> None:
        self.count = 0
        self._given: dict[object, list[_Given]] = {}

    def find(self, name: object, seen: Sights) -> CachedAnswer | None:
        """Return the answer to a question where this is seen; None if none is known."""
        for given in self._given.get(name, ()):
            found = given.answers.get(given.at(seen))
            if found is not None:
                return found
        return None

    def keep(self, name: object, seen: Sights, answer: CachedAnswer) -> None:
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


class CorrectionCache:
    """What one run knows of configurations in one dialect, held against the same collectors.

    Answers that depend on the device itself, or on tables that are looked up, are no part of it.
    """

    def __init__(self) -> None:
        self.known = AnswerCache()
        self.numbers = _Numbers()
        self._made: dict[object, Any] = {}

    def once(self, name: object, make: Callable[[], T]) -> T:
        """Return the result of `make`, which may depend on the name only, and keep it."""
        if name not in self._made:
            self._made[name] = make()
        return self._made[name]  # type: ignore[no-any-return]

    def __len__(self) -> int:
        return self.known.count + len(self.numbers) + len(self._made)


class OfDevice:
    """What is known of one device alone; `text`: its text as it is."""

    def __init__(self, text: Text) -> None:
        self.known = AnswerCache()
        self.text = text
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
            number = self._by_identity[at] = self._numbers.number(seen_in_rows(rows, slot))
        return number

    def _identity(self, thing: object) -> int:
        self._kept[id(thing)] = thing
        return id(thing)


def seen_value(said: SourcedValue | None) -> object:
    """Return a value without its place, for comparison."""
    return None if said is None else (said.value, said.default)


def seen_in_rows(rows: Mapping[Key, Row], slot: str) -> object:
    """Return which rows there are, or what they say: in one slot, or all of it."""
    if slot == "":
        return tuple(rows)
    if slot == EVERY_SLOT:
        every = (row.items() for row in rows.values())
        return tuple([tuple([(name, seen_value(said)) for name, said in row]) for row in every])
    return tuple([seen_value(row.get(slot)) for row in rows.values()])
