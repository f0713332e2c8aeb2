"""A dialect: how one platform writes its settings, as data. Patterns that read and write."""

from __future__ import annotations

from collections.abc import Mapping

from msgspec import Struct

from ivrel.core.dialects.pattern import Pattern
from ivrel.core.dialects.session import Session
from ivrel.core.dialects.slots import SLOTS
from ivrel.core.shapes import Shape
from ivrel.core.text.words import Path, Words
from ivrel.core.vocabulary.memo import Remembering
from ivrel.core.vocabulary.sourced import SourcedValue
from ivrel.core.vocabulary.values import Value


class Example(Struct, frozen=True):
    """A text, and the settings that it means, as `setting` or `setting key` to text."""

    text: str
    means: Mapping[str, str]
    line: int
    lines: Mapping[str, int] = {}  # where the file says what is meant


class Dialect(Remembering, frozen=True, eq=False):
    """One platform's way of writing, as read from its file."""

    name: str
    about: str
    shape_name: str
    shape: Shape
    patterns: tuple[Pattern, ...]
    aside: tuple[Pattern, ...]
    channels: tuple[str, ...]
    categories: Mapping[str, tuple[str, ...]]
    keys: Mapping[str, tuple[str, ...]]
    removal: Mapping[str, Pattern]
    defaults: Mapping[str, Value]
    limits: Mapping[str, int]
    only: Mapping[str, tuple[str, tuple[str, ...]]]
    open: tuple[str, ...]
    only_read: tuple[str, ...]
    examples: tuple[Example, ...]
    file: str
    slots: frozenset[str]
    row_lines: Mapping[str, int]
    says: tuple[str, ...]  # the text of each pattern, for people
    groups: tuple[
        int, ...
    ]  # of each pattern, the first one that writes the same statement in another way
    said_defaults: Mapping[str, SourcedValue]
    never: tuple[str, ...]  # tables of which this platform has no rows
    # Defaults that depend on another value of the row.
    conditional: Mapping[str, tuple[str, Mapping[Value, SourcedValue]]]
    unset: tuple[str, ...] = ()  # slots that may be left out, so that nothing holds
    has_no: tuple[str, ...] = ()  # forms of text that the platform's configurations do not hold
    tells: Mapping[str, str] = {}  # the setting that a tag or MSGID tells of
    session: Session | None = None  # how one talks to a device
    display: Display | None = None  # how a device shows its present state

    @property
    def statements(self) -> int:
        """How many statements the file describes."""
        return sum(not pattern.is_negation for pattern in self.patterns)

    @property
    def stays(self) -> frozenset[str]:
        """The slots that cannot be left to the platform once they are said: to remove such a
        statement negates it, and its negation means a value.
        """
        if not self.shape.removes_as_texts_negate:
            return frozenset()
        negations = (p for p in self.patterns if p.is_negation)
        return self.once("stays", lambda: frozenset(s for p in negations for s in p.own_slots))

    def has(self, slot: str) -> bool:
        """Whether a statement of this platform can carry the slot."""
        return slot in self.slots

    def sets_aside(self, path: Path, words: Words) -> bool:
        """Whether a statement is one that the dialect passes over."""
        return any(pattern.begins(path, words) for pattern in self.aside)

    def can_write(self, slot: str, value: Value) -> bool:
        """Whether this platform can say that a slot has this value."""
        if self.defaults.get(slot) == value:
            return True
        if slot in self.only_read:
            return False
        carrying = self.once(
            ("carrying", slot), lambda: [p for p in self.patterns if slot in p.slots]
        )
        return any(p.can_write(slot, value) for p in carrying)

    def choices(self, slot: str) -> tuple[str, ...]:
        """Return the values that a slot can take on this platform, least first.

        Empty if any will do.
        """
        known = SLOTS[slot].type.choices
        if not known:
            spelled = (v.spelled for p in self.patterns if (v := p.variable(slot)) and v.spelled)
            known = tuple(next(spelled, ()))
        return tuple(c for c in known if self.can_write(slot, c))


class Display(Struct, frozen=True, eq=False):
    """How devices of a platform show their present state: where they send, and what they count.

    `show`: what is typed to see it, '' where it is had in another way; `dialect`: how it is read.
    It has no defaults: what a display does not show, nobody knows.
    """

    show: str
    dialect: Dialect
