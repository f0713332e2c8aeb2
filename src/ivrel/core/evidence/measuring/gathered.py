"""What is gathered of many messages, device by device, to be measured."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import UTC, datetime, tzinfo
from typing import Generic, Protocol, Self, TypeVar

from msgspec import Struct

from ivrel.core.evidence.attribution import Attribution
from ivrel.core.evidence.measuring.numbers import Numbers
from ivrel.core.evidence.measuring.pairs import Pairs
from ivrel.core.evidence.measuring.sizes import Sizes
from ivrel.core.evidence.measuring.times import Times
from ivrel.core.evidence.record import Record


class Heard(Struct, frozen=True):
    """A message as it is measured: `when` it came, as far as that is known; `collector`: the one
    that it arrived at, '' if that is not known; `zone`: that of stamps which say none.
    """

    record: Record
    found: Attribution
    when: datetime | None
    collector: str
    zone: tzinfo = UTC


class Accumulator(Protocol):
    """Takes messages of one device; it is of a bounded size and merges in any order to the same."""

    def add(self, heard: Heard) -> None:
        """Take a message."""

    def merge(self, other: Self) -> None:
        """Take in what another accumulator took."""


A = TypeVar("A", bound=Accumulator)


class Gathered(Generic[A]):
    """What was gathered of each device, by an accumulator of one kind; `zone`: that of stamps which
    say none.

    `number`: messages; `first`, `last`: when the first and the last came, of all devices.
    """

    by_front = False  # each message differs in what is measured

    def __init__(self, kind: type[A], zone: tzinfo = UTC) -> None:
        self._kind, self._zone = kind, zone
        self.devices: dict[str, A] = {}
        self.number = 0
        self.first: datetime | None = None
        self.last: datetime | None = None

    def add(
        self,
        record: Record,
        found: Attribution,
        when: datetime | None,
        collector: str = "",
        number: int = 1,
    ) -> None:
        """Take a message; those of strangers are only counted."""
        self.number += number
        if when is not None:
            self._widen(when, when)
        if found.device:
            heard = Heard(record, found, when, collector, self._zone)
            self.devices.setdefault(found.device, self._kind()).add(heard)

    def merge(self, other: Self) -> None:
        """Take in what was gathered elsewhere."""
        self.number += other.number
        if other.first is not None and other.last is not None:
            self._widen(other.first, other.last)
        for name, some in other.devices.items():
            self.devices.setdefault(name, self._kind()).merge(some)

    def _widen(self, first: datetime, last: datetime) -> None:
        self.first = first if self.first is None else min(first, self.first)
        self.last = last if self.last is None else max(last, self.last)


SUBJECTS: Mapping[str, type[Times | Pairs | Numbers | Sizes]] = {
    "silence": Times,
    "clocks": Pairs,
    "losses": Numbers,
    "volume": Sizes,
}
