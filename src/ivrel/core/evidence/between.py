"""Messages counted between the moments at which devices showed their counters."""

from __future__ import annotations

import re
from bisect import bisect_left
from collections.abc import Mapping, Sequence
from itertools import pairwise
from typing import Self

from msgspec import Struct

from ivrel.core.attribution.arrival import Arrival
from ivrel.core.syslog.alike import AlikeLines
from ivrel.core.vocabulary.wording import span

SLACK = 5.0  # seconds between a count at a device and the arrival at a collector, at the most
# A time in which nothing came to a collector at all, and so long that its records may be lacking.
_GAPS = 30  # times the mean of the other gaps: by chance, one of e^30 is as long
_LEAST_GAP = 300.0  # seconds
_ROTATED = re.compile(r"(.*)-[0-9]{3,}\.jsonl(?:\.gz)?")
NOT_COVERED = "no records cover that time"


class Number(Struct, frozen=True):
    """How many messages came between two moments: at least, and at most, for nobody knows on which
    side of a moment those near to it were counted.
    """

    least: int = 0
    most: int = 0


class _Records:
    """Which time the records of one collector cover.

    `sessions`: from when to when each recording goes on, over all its files; `minutes`: those in
    which anything came, since 1970; `has_partial`: whether some were written by a collector, which
    may file messages in several places.
    """

    def __init__(self) -> None:
        self.sessions: dict[str, tuple[float, float]] = {}
        self.minutes: set[int] = set()
        self.has_partial = False

    def add(self, arrival: Arrival, moments: Sequence[float]) -> None:
        found = _ROTATED.fullmatch(arrival.record.file)
        self.widen(found[1] if found else arrival.record.file, min(moments), max(moments))
        self.minutes.update(int(moment // 60) for moment in moments)
        self.has_partial |= arrival.record.message.pri is None

    def widen(self, session: str, first: float, last: float) -> None:
        known = self.sessions.get(session, (first, last))
        self.sessions[session] = min(first, known[0]), max(last, known[1])

    def merge(self, other: _Records) -> None:
        for session, (first, last) in other.sessions.items():
            self.widen(session, first, last)
        self.minutes |= other.minutes
        self.has_partial |= other.has_partial

    def lack(self, begun: float, ended: float) -> str:
        """Return what the records lack of a time, '' if nothing."""
        first = min(session[0] for session in self.sessions.values())
        last = max(session[1] for session in self.sessions.values())
        if first > begun + SLACK or last < ended - SLACK:
            return NOT_COVERED
        whole = (
            session
            for session in self.sessions.values()
            if session[0] <= begun + SLACK and session[1] >= ended - SLACK
        )
        if next(whole, None) is None:
            return "several recordings cover that time, and something may have come between them"
        if self.has_partial:
            return "these files may hold only a part of what came"
        return self._gap(begun, ended)

    def _gap(self, begun: float, ended: float) -> str:
        some = sorted(minute for minute in self.minutes if begun <= minute * 60 <= ended)
        every = [int(begun // 60), *some, int(ended // 60)]
        longest = max(after - before for before, after in pairwise(every)) * 60.0
        usual = (ended - begun - longest) / max(len(some), 1)
        if longest <= max(_LEAST_GAP, _GAPS * usual):
            return ""
        return f"for {span(longest)} of that time nothing came from anybody"


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
        self._timeless: dict[tuple[str, str], int] = {}
        self._records: dict[str, _Records] = {}

    def add(self, arrival: Arrival) -> None:
        """Count a message."""
        self._count(arrival, [] if arrival.when is None else [arrival.when.timestamp()], 1)

    def add_alike(self, arrival: Arrival, alike: AlikeLines) -> None:
        """Count messages that show the same; `arrival`: the first of them."""
        self._count(arrival, alike.moments(arrival.when), len(alike))

    def _count(self, arrival: Arrival, moments: Sequence[float], number: int) -> None:
        collector = arrival.collector
        if moments:
            self._records.setdefault(collector, _Records()).add(arrival, moments)
        found = arrival.found
        # What may be of several devices may be what is missing of each of them.
        for device in {found.device, found.conflict, *found.shared} & self._edges.keys():
            at = device, collector
            if not moments:
                self._timeless[at] = self._timeless.get(at, 0) + number
                continue
            some = self._sure if found.is_sure else self._unsure
            counts = some.setdefault(at, {})
            edges = self._edges[device]
            for moment in moments:
                place = bisect_left(edges, moment)
                counts[place] = counts.get(place, 0) + 1

    def merge(self, other: Self) -> None:
        """Take in what was counted elsewhere."""
        for mine, theirs in ((self._sure, other._sure), (self._unsure, other._unsure)):
            for at, counts in theirs.items():
                known = mine.setdefault(at, {})
                for place, number in counts.items():
                    known[place] = known.get(place, 0) + number
        for at, number in other._timeless.items():
            self._timeless[at] = self._timeless.get(at, 0) + number
        for collector, records in other._records.items():
            self._records.setdefault(collector, _Records()).merge(records)

    def lack(self, collector: str, begun: float, ended: float) -> str:
        """Return what the records of a collector lack of a time, '' if nothing.

        NOT_COVERED if they do not reach from its begin to its end.
        """
        records = self._records.get(collector)
        return NOT_COVERED if records is None else records.lack(begun, ended)

    def between(self, device: str, collector: str, begun: float, ended: float) -> Number:
        """Return how many messages of a device came to a collector between two of its moments.

        Those that are not surely of the device, or of an unknown time, count in `most` alone. Raise
        ValueError if one is none of its moments.
        """
        first = self._moments[device].index(begun)
        last = self._moments[device].index(ended)
        at = device, collector
        sure = self._sure.get(at, {})
        unsure = self._unsure.get(at, {})
        # Before edge 2n lies what came before moment n, with its slack; before 2n + 1 what is near.
        inside = range(2 * first + 2, 2 * last + 1)
        around = range(2 * first + 1, 2 * last + 2)
        least = sum(sure.get(place, 0) for place in inside)
        near = sum(sure.get(place, 0) + unsure.get(place, 0) for place in around)
        return Number(least, near + self._timeless.get(at, 0))


def _edges(moments: Sequence[float]) -> list[float]:
    """Return where the time near to each moment begins and ends."""
    out = []
    for moment in moments:
        out += [moment - SLACK, moment + SLACK]
    return out
