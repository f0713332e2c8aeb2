"""How many messages and bytes a device sends: by collector, facility, severity and kind."""

from __future__ import annotations

from typing import TYPE_CHECKING, Self

from ivrel.core.attribution.counting import alike_kinds
from ivrel.core.attribution.filtering import kind_of
from ivrel.core.measuring.times import Times

if TYPE_CHECKING:
    from ivrel.core.attribution.arrival import Arrival
    from ivrel.core.syslog.alike import AlikeLines

MOST_KINDS = 500
UNKNOWN = -1  # the facility and severity of a message without PRI

# Bytes in front of a message on the wire: IPv4 (RFC 791) or IPv6 (RFC 8200), and UDP (RFC 768) or
# TCP (RFC 9293). A stream may carry several messages in a packet; one each is counted.
_IP = {False: 20, True: 40}
_TRANSPORT = {"udp": 8, "tcp": 20, "tls": 20 + 29}  # a record of TLS 1.2 with AES-GCM: RFC 5288


class Sizes:
    """Messages and their bytes on the wire.

    `cells`: by collector, facility and severity (numerical codes); `kinds`: by kind, the first in
    alphabetical order, with `more` for the rest; `bytes`: by when they came.
    """

    def __init__(self) -> None:
        self.cells: dict[tuple[str, int, int], tuple[int, int]] = {}
        self.kinds: dict[str, tuple[int, int]] = {}
        self.more = (0, 0)
        self.bytes = Times()

    def add(self, arrival: Arrival) -> None:
        """Take a message."""
        record = arrival.record
        size = len(record.data) + _around(record.sender, record.transport)
        cell = _cell(arrival)
        self.cells[cell] = _plus(self.cells.get(cell), (1, size))
        self._add_kind(kind_of(record), (1, size))
        if arrival.when is not None:
            seconds = arrival.when.timestamp()
            self.bytes.add_time(seconds, size)

    def add_alike(self, arrival: Arrival, alike: AlikeLines) -> None:
        """Take messages that show the same; `arrival`: the first of them."""
        record = arrival.record
        around = _around(record.sender, record.transport)
        sizes = [len(data) + around for data in alike.messages()]
        kinds: dict[str, tuple[int, int]] = {}
        for kind, size in zip(alike_kinds(record, alike), sizes, strict=True):
            number, together = kinds.get(kind, (0, 0))
            kinds[kind] = (number + 1, together + size)
        for kind, pair in kinds.items():
            self._add_kind(kind, pair)
        cell = _cell(arrival)
        self.cells[cell] = _plus(self.cells.get(cell), (len(sizes), sum(sizes)))
        moments = alike.moments(arrival.when)
        if moments:
            self.bytes.add_times(moments, sizes)

    def settle(self) -> None:
        """Do nothing: the order of messages makes no difference."""

    def _add_kind(self, kind: str, pair: tuple[int, int]) -> None:
        kind = kind[:200]
        self.kinds[kind] = _plus(self.kinds.get(kind), pair)
        self._bound()

    def merge(self, other: Self) -> None:
        """Take in what another took."""
        for cell, pair in other.cells.items():
            self.cells[cell] = _plus(self.cells.get(cell), pair)
        for kind, pair in other.kinds.items():
            self.kinds[kind] = _plus(self.kinds.get(kind), pair)
        self.more = _plus(self.more, other.more)
        self._bound()
        self.bytes.merge(other.bytes)

    def _bound(self) -> None:
        while len(self.kinds) > MOST_KINDS:
            self.more = _plus(self.more, self.kinds.pop(max(self.kinds)))


def _cell(arrival: Arrival) -> tuple[str, int, int]:
    message = arrival.record.message
    facility = UNKNOWN if message.facility is None else message.facility
    severity = UNKNOWN if message.severity is None else message.severity
    return (arrival.collector, facility, severity)


def _plus(one: tuple[int, int] | None, other: tuple[int, int]) -> tuple[int, int]:
    return other if one is None else (one[0] + other[0], one[1] + other[1])


def _around(sender: str | None, transport: str | None) -> int:
    """Return the bytes around a message; of what is not recorded, UDP over IPv4."""
    return _IP[":" in (sender or "")] + _TRANSPORT.get(transport or "udp", 8)
