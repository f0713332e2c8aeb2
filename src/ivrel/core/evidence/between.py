"""Messages counted between the moments at which devices showed their counters."""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Mapping, Sequence
from typing import Self

from msgspec import Struct

from ivrel.core.attribution.arrival import Arrival
from ivrel.core.syslog.alike import AlikeLines

SLACK = 5.0  # seconds between a count at a device and the arrival at a collector, at the most


class Number(Struct, frozen=True):
    """How many messages came between two moments: at least, and at most, for nobody knows on which
    side of a moment those near to it were counted.
    """

    least: int = 0
    most: int = 0

    def plus(self, other: Number) -> Number:
        """Return both together."""
        return Number(self.least + other.least, self.most + other.most)


class CountsBetween:
    """Counts the messages of devices between moments, collector by collector.

    `moments`: when each device showed its counters, in seconds since 1970, in order, more than
    twice SLACK apart. Messages of other devices only tell which time the records of a collector
    cover.
    """

    def __init__(self, moments: Mapping[str, Sequence[float]]) -> None:
        self._moments = {device: list(times) for device, times in moments.items()}
        self._edges = {device: _edges(times) for device, times in moments.items()}
        self._sure: dict[tuple[str, str], dict[int, int]] = {}
        self._unsure: dict[tuple[str, str], dict[int, int]] = {}
        self._covered: dict[str, tuple[float, float]] = {}

    def add(self, arrival: Arrival) -> None:
        """Count a message."""
        if arrival.when is not None:
            self._count(arrival, (arrival.when.timestamp(),))

    def add_alike(self, arrival: Arrival, alike: AlikeLines) -> None:
        """Count messages that show the same; `arrival`: the first of them."""
        moments = alike.moments(arrival.when)
        if moments:
            self._count(arrival, moments)

    def _count(self, arrival: Arrival, moments: Sequence[float]) -> None:
        at = arrival.collector
        first = min(moments)
        last = max(moments)
        known = self._covered.get(at, (first, last))
        self._covered[at] = min(first, known[0]), max(last, known[1])
        found = arrival.found
        # What may be of several devices is missing from each of them.
        for device in {found.device, found.conflict, *found.shared} & self._edges.keys():
            some = self._sure if found.is_sure else self._unsure
            counts = some.setdefault((device, at), {})
            edges = self._edges[device]
            for moment in moments:
                place = bisect_left(edges, moment)
                counts[place] = counts.get(place, 0) + 1

    def merge(self, other: Self) -> None:
        """Take in what was counted elsewhere."""
        for at, counts in other._sure.items():
            _add(self._sure.setdefault(at, {}), counts)
        for at, counts in other._unsure.items():
            _add(self._unsure.setdefault(at, {}), counts)
        for collector, (first, last) in other._covered.items():
            known = self._covered.get(collector, (first, last))
            self._covered[collector] = min(first, known[0]), max(last, known[1])

    def covers(self, collector: str, begun: float, ended: float) -> bool:
        """Whether the records of a collector reach from one moment to another."""
        first, last = self._covered.get(collector, (ended, begun))
        return first <= begun + SLACK and last >= ended - SLACK and first < last

    def between(self, device: str, collector: str, begun: float, ended: float) -> Number:
        """Return how many messages of a device came to a collector between two of its moments.

        Those that are not surely of the device count in `most` alone. Raise ValueError if one is
        none of its moments.
        """
        first = self._moments[device].index(begun)
        last = self._moments[device].index(ended)
        sure = self._sure.get((device, collector), {})
        unsure = self._unsure.get((device, collector), {})
        # Before edge 2n lies what came before moment n, with its slack; before 2n + 1 what is near.
        inside = range(2 * first + 2, 2 * last + 1)
        around = range(2 * first + 1, 2 * last + 2)
        least = sum(sure.get(place, 0) for place in inside)
        most = sum(sure.get(place, 0) + unsure.get(place, 0) for place in around)
        return Number(least, most)


def _edges(moments: Sequence[float]) -> list[float]:
    """Return where the time near to each moment begins and ends."""
    out = []
    for moment in moments:
        out += [moment - SLACK, moment + SLACK]
    return out


def _add(counts: dict[int, int], more: Mapping[int, int]) -> None:
    for place, number in more.items():
        counts[place] = counts.get(place, 0) + number
