"""What is gathered of many messages, device by device, to be measured."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from datetime import UTC, datetime
from typing import Generic, Protocol, Self, TypeVar

from ivrel.core.attribution.arrival import Arrival
from ivrel.core.measuring.numbers import Numbers
from ivrel.core.measuring.pairs import Pairs
from ivrel.core.measuring.sizes import Sizes
from ivrel.core.measuring.times import Times
from ivrel.core.syslog.alike import AlikeLines


class Accumulator(Protocol):
    """Takes messages of one device; it is of a bounded size and merges in any order to the same."""

    def add(self, arrival: Arrival) -> None:
        """Take a message."""

    def add_alike(self, arrival: Arrival, alike: AlikeLines) -> None:
        """Take messages that show the same; `arrival`: the first of them."""

    def settle(self) -> None:
        """Put what was taken in its order."""

    def merge(self, other: Self) -> None:
        """Take in what another accumulator took."""


A = TypeVar("A", bound=Accumulator)


class Measured(Generic[A]):
    """What was gathered of each device, by an accumulator of one kind.

    `number`: messages; `unsure`: those of them that name a device, and are not surely its;
    `first`, `last`: when the first and the last came, of all devices.
    """

    def __init__(self, kind: type[A]) -> None:
        self._kind = kind
        self.devices: dict[str, A] = {}
        self.number = 0
        self.unsure: Counter[str] = Counter()
        self.first: datetime | None = None
        self.last: datetime | None = None

    def add(self, arrival: Arrival) -> None:
        """Take a message; one that is not surely a device's is only counted."""
        self.number += 1
        if arrival.when is not None:
            self._widen(arrival.when, arrival.when)
        if arrival.found.is_sure:
            self.devices.setdefault(arrival.found.device, self._kind()).add(arrival)
        else:
            self._note_unsure(arrival, 1)

    def add_alike(self, arrival: Arrival, alike: AlikeLines) -> bool:
        """Take messages that show the same; `arrival`: the first of them. Return True."""
        self.number += len(alike)
        moments = alike.moments(arrival.when)
        if moments:
            first, last = (datetime.fromtimestamp(at, UTC) for at in (min(moments), max(moments)))
            self._widen(first, last)
        if arrival.found.is_sure:
            one = self.devices.setdefault(arrival.found.device, self._kind())
            one.add_alike(arrival, alike)
        else:
            self._note_unsure(arrival, len(alike))
        return True

    def _note_unsure(self, arrival: Arrival, number: int) -> None:
        # Of a message whose address and name disagree, it is the name that is missed.
        name = arrival.found.conflict or arrival.found.device
        if name:
            self.unsure[name] += number

    def settle(self) -> None:
        """Put what was taken of each device in its order."""
        for one in self.devices.values():
            one.settle()

    def merge(self, other: Self) -> None:
        """Take in what was gathered elsewhere."""
        self.number += other.number
        self.unsure += other.unsure
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
