"""When messages came and what time they bore: a sample of a bounded size."""

from __future__ import annotations

from datetime import datetime
from heapq import heappush, heappushpop
from typing import TYPE_CHECKING, Self
from zlib import crc32

from msgspec import Struct

from ivrel.core.syslog.stamps import moment, zone_of

if TYPE_CHECKING:
    from ivrel.core.attribution.arrival import Arrival
    from ivrel.core.syslog.alike import AlikeLines

MOST = 500
BEGINNING = 200  # bytes of a message that are kept to be shown


class Pair(Struct, frozen=True, order=True):
    """When a message came, and the time that it bore, in seconds since 1970.

    `digits`: of its fraction; `has_year`, `has_zone`: whether the stamp shows them; without a zone,
    it was taken for UTC, or for the zone that is said of all. `file`, `line`: where it is;
    `data`: how it begins.
    """

    came: float
    bore: float
    digits: int
    has_year: bool
    has_zone: bool
    by_relay: bool
    file: str
    line: int
    data: bytes = b""

    @property
    def offset(self) -> float:
        """How far the stamp is ahead, in seconds."""
        return self.bore - self.came


def _mark(file: str, line: int) -> int:
    """Return what decides whether a message is in the sample: its place."""
    return -crc32(f"{file}:{line}".encode())


class Pairs:
    """A sample of the messages of a device that tell both times.

    The place of a message decides whether it is in the sample, so that their order makes no
    difference. `number`: of how many it is a sample; `others`: messages that do not tell both;
    `most`: messages in the sample.
    """

    def __init__(self, most: int = MOST) -> None:
        self._most = most
        self.number = self.others = 0
        self._held: list[tuple[int, Pair]] = []  # a heap, the highest mark first

    def add(self, arrival: Arrival) -> None:
        """Take a message."""
        record = arrival.record
        stamp = arrival.record.message.stamp
        bore = self._borne(arrival)
        if record.received is None or bore is None:
            self.others += 1
            return
        pair = Pair(
            record.received.timestamp(), bore.timestamp(), len(stamp.fraction),
            stamp.year is not None, bool(stamp.zone), bool(arrival.found.relay), record.file,
            record.line, record.data[:BEGINNING],
        )  # fmt: skip
        self.add_pair(pair)

    def add_alike(self, arrival: Arrival, alike: AlikeLines) -> None:
        """Take messages that show the same; `arrival`: the first of them."""
        record = arrival.record
        stamp = record.message.stamp
        first = self._borne(arrival)
        if record.received is None or first is None:
            self.others += len(alike)
            return
        received = alike.received()
        borne = alike.stamped(first)
        for came, bore, line, data in zip(
            received, borne, alike.numbers, alike.messages(), strict=True
        ):
            self.number += 1
            mark = _mark(record.file, line)
            if len(self._held) >= self._most and mark <= self._held[0][0]:
                continue
            pair = Pair(
                came, bore, len(stamp.fraction), stamp.year is not None, bool(stamp.zone),
                bool(arrival.found.relay), record.file, line, data[:BEGINNING],
            )  # fmt: skip
            self._hold((mark, pair))

    def settle(self) -> None:
        """Do nothing: the order of messages makes no difference."""

    def _borne(self, arrival: Arrival) -> datetime | None:
        """Return the time that a message bears, beside the one at which it came."""
        record = arrival.record
        stamp = record.message.stamp
        # The name of a zone that stands for several tells no time.
        names_several = bool(stamp.zone) and zone_of(stamp) is None
        if record.received is None or names_several:
            return None
        return moment(stamp, record.received, arrival.zone.zone)

    def add_pair(self, pair: Pair) -> None:
        """Take a message by its times."""
        self.number += 1
        self._hold((_mark(pair.file, pair.line), pair))

    def merge(self, other: Self) -> None:
        """Take in the sample of another."""
        self.number += other.number
        self.others += other.others
        for one in other._held:
            self._hold(one)

    def _hold(self, one: tuple[int, Pair]) -> None:
        if len(self._held) < self._most:
            heappush(self._held, one)
        else:
            heappushpop(self._held, one)

    @property
    def sample(self) -> list[Pair]:
        """The sample, in order of arrival."""
        return sorted(pair for _, pair in self._held)
