"""Counts of messages by what they have in common, whatever their number."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from datetime import UTC, datetime
from typing import Self

from msgspec import Struct

from ivrel.core.attribution.arrival import Arrival
from ivrel.core.attribution.filtering import Wanted, kind_of, kind_of_text, kinds_of_texts
from ivrel.core.attribution.messages import AttributedMessage, MessageGroup
from ivrel.core.syslog.alike import AlikeLines
from ivrel.core.syslog.departures import told
from ivrel.core.syslog.parse import parse
from ivrel.core.syslog.record import Record

MOST_VALUES = 50_000  # that are counted one by one, the first in alphabetical order
OTHERS = "others"


def _departures(record: Record) -> tuple[str, ...]:
    names = (told(departure).partition(":")[0] for departure in record.message.departures)
    return tuple(dict.fromkeys(names))


# By what messages can be counted: the values under which one is counted.
COUNTED_BY: Mapping[str, Callable[[AttributedMessage], tuple[str, ...]]] = {
    "device": lambda one: (one.named,),
    "severity": lambda one: (one.severity,),
    "facility": lambda one: (one.facility,),
    "kind": lambda one: (kind_of(one.record),),
    "sender": lambda one: (one.record.sender or "",),
    "departure": lambda one: _departures(one.record),
}
# Those that lines of one signature have in common.
_SHARED = ("device", "severity", "facility", "sender")


def alike_kinds(first: Record, alike: AlikeLines) -> Iterator[str]:
    """Yield the kind of each of some lines that are alike."""
    texts = alike.texts()
    known = [text for text in texts if text is not None]
    kinds = kinds_of_texts(first.message.app, known)
    for data, text in zip(alike.messages(), texts, strict=True):
        if text is None:
            message = parse(data)
            yield kind_of_text(message.app, message.text)
        else:
            yield next(kinds)


class _Count(Struct):
    """One row, as far as it is counted; times are in seconds since 1970."""

    number: int
    devices: set[str]
    first: float | None
    last: float | None

    def merge(self, other: _Count) -> None:
        self.number += other.number
        self.devices |= other.devices
        firsts = [at for at in (self.first, other.first) if at is not None]
        lasts = [at for at in (self.last, other.last) if at is not None]
        self.first = min(firsts, default=None)
        self.last = max(lasts, default=None)


class Counting:
    """Counts the wanted messages; `by`: of COUNTED_BY. `total`: messages read, wanted or not."""

    def __init__(self, by: str, wanted: Wanted) -> None:
        self._by = by
        self._wanted = wanted
        self._counts: dict[str, _Count] = {}
        self.total = 0

    def add(self, arrival: Arrival) -> None:
        """Take a message."""
        self.total += 1
        if self._wanted.takes(arrival.record, arrival.found):
            at = None if arrival.when is None else arrival.when.timestamp()
            self._take(arrival, 1, at, at)

    def add_alike(self, arrival: Arrival, alike: AlikeLines) -> bool:
        """Take messages that show the same; False, and nothing is taken, if each must be read."""
        if self._by not in (*_SHARED, "kind") or self._wanted.depends_on_text:
            return False
        self.total += len(alike)
        if not self._wanted.takes(arrival.record, arrival.found):
            return True
        if self._by == "kind":
            self._take_kinds(arrival, alike)
        else:
            moments = alike.moments(arrival.when)
            first = min(moments, default=None)
            self._take(arrival, len(alike), first, max(moments, default=None))
        return True

    def _take_kinds(self, arrival: Arrival, alike: AlikeLines) -> None:
        """Take messages that differ in their text alone."""
        named = AttributedMessage(arrival.record, arrival.found, arrival.when).named
        moments = alike.moments(arrival.when)
        places: dict[str, list[int]] = {}
        for n, kind in enumerate(alike_kinds(arrival.record, alike)):
            places.setdefault(kind, []).append(n)
        for kind, some in places.items():
            times = [moments[n] for n in some] if moments else []
            first = min(times, default=None)
            self._add(kind, _Count(len(some), {named} - {""}, first, max(times, default=None)))
        self._bound()

    def _take(self, arrival: Arrival, number: int, first: float | None, last: float | None) -> None:
        one = AttributedMessage(arrival.record, arrival.found, arrival.when)
        devices = {one.named} - {""}
        for value in COUNTED_BY[self._by](one):
            self._add(value, _Count(number, set(devices), first, last))
        self._bound()

    def settle(self) -> None:
        """Do nothing: the order of messages makes no difference."""

    def merge(self, other: Self) -> None:
        """Take in what another took."""
        self.total += other.total
        for value, count in other._counts.items():
            self._add(value, count)
        self._bound()

    def _add(self, value: str, count: _Count) -> None:
        old = self._counts.get(value)
        if old is None:
            self._counts[value] = count
        else:
            old.merge(count)

    def _bound(self, slack: int = 2) -> None:
        """Count what is beyond the first values together; that is what any other order leaves."""
        if len(self._counts) <= slack * MOST_VALUES:
            return
        values = sorted(value for value in self._counts if value != OTHERS)
        for value in values[MOST_VALUES:]:
            self._add(OTHERS, self._counts.pop(value))

    @property
    def groups(self) -> tuple[MessageGroup, ...]:
        """The counts, the most frequent first."""
        self._bound(slack=1)
        rows = [
            MessageGroup(value, c.number, len(c.devices), _moment(c.first), _moment(c.last))
            for value, c in self._counts.items()
        ]
        return tuple(sorted(rows, key=lambda row: (-row.number, row.what)))


def _moment(seconds: float | None) -> datetime | None:
    return None if seconds is None else datetime.fromtimestamp(seconds, UTC)
