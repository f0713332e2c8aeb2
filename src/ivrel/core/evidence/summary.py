"""Summaries: what many messages come to, in a fixed size, whatever their number.

Summaries merge in any order to the same: of what can have any number of values, the first in
alphabetical order are kept, and the rest is counted.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from datetime import datetime

from msgspec import Struct

from ivrel.core.attribution.arrival import Arrival
from ivrel.core.attribution.senders import Attribution
from ivrel.core.measuring.pairs import Pairs
from ivrel.core.syslog.record import Record
from ivrel.core.vocabulary.addresses import is_address
from ivrel.core.vocabulary.severity import FACILITIES, SEVERITIES
from ivrel.core.vocabulary.wording import shorten

PAIRS = 100  # messages by which a clock is told
MOST = 64  # values of one kind that are kept
_BEGINNING = 500  # bytes of a message that are kept to be shown


class ExampleMessage(Struct, frozen=True, order=True):
    """The message that shows something: the place of its record, its time, its first words.

    Of several, the one that is first in its file.
    """

    file: str
    line: int
    when: datetime | None
    data: bytes

    @property
    def text(self) -> str:
        """How the message begins, as it may be shown."""
        return shorten(self.data.decode("utf-8", "replace"), 120)


class Tally(Struct, frozen=True):
    """How often something was seen, and the first message that shows it."""

    number: int
    first: ExampleMessage

    def plus(self, other: Tally) -> Tally:
        """Return both together."""
        return Tally(self.number + other.number, min(self.first, other.first))


Values = dict[str, Tally]
Tells = Mapping[str, Mapping[str, str]]


class Summary:
    """What the messages of one originator have in common: of each thing that is observed, its
    values, how often each was seen, and a message that shows it.
    """

    def __init__(self) -> None:
        self.number = 0
        self.pairs = Pairs(
            PAIRS
        )  # by which the clock is told; of lines that were counted together, one
        self.values: dict[str, Values] = {}
        self.more: dict[str, int] = {}  # messages whose values are not kept

    def add(
        self, observed: Iterable[tuple[str, str]], example: ExampleMessage, number: int = 1
    ) -> None:
        """Count a message, with what is observed in it; `number`: of messages that show the same;
        the example is the first.
        """
        self.number += number
        for what, value in observed:
            values = self.values.setdefault(what, {})
            old = values.get(value)
            if old is None:
                values[value] = Tally(number, example)
                self._bound(what)
            else:
                # Messages mostly come in order, so that the first stays the first.
                first = old.first if old.first <= example else example
                values[value] = Tally(old.number + number, first)

    def merge(self, other: Summary) -> None:
        """Take in another summary of the same originator."""
        self.number += other.number
        self.pairs.merge(other.pairs)
        for what, tallies in other.values.items():
            values = self.values.setdefault(what, {})
            for value, tally in tallies.items():
                values[value] = values[value].plus(tally) if value in values else tally
            self._bound(what)
        for what, number in other.more.items():
            self.more[what] = self.more.get(what, 0) + number

    def _bound(self, what: str) -> None:
        """Keep the first values; what is dropped here would be dropped in any other order."""
        values = self.values[what]
        while len(values) > MOST:
            last = max(values)
            self.more[what] = self.more.get(what, 0) + values.pop(last).number

    def of(self, what: str) -> Mapping[str, Tally]:
        """Return the values of one thing that is observed."""
        return self.values.get(what, {})


class Evidence:
    """What was heard: a summary a device, and one a stranger; what senders called themselves.

    `tells`: by device, the setting that a tag or MSGID reports; `zone`: that of stamps which say
    none.
    """

    by_signature = True

    def __init__(self, tells: Tells | None = None) -> None:
        self._tells = tells or {}
        self.devices: dict[str, Summary] = {}
        self.strangers = Summary()  # of all of them, by what they are called
        self.senders = Summary()  # by the address, what was heard from it

    @property
    def number(self) -> int:
        """How many messages were heard."""
        return sum(s.number for s in self.devices.values()) + self.strangers.number

    def add(self, arrival: Arrival, number: int = 1) -> None:
        """Count a message; `number`: of messages that show the same; this is the first; 0: it was
        counted, and its time is another.
        """
        record = arrival.record
        found = arrival.found
        if not number:
            if found.device in self.devices:
                self.devices[found.device].pairs.add(arrival)
            return
        example = ExampleMessage(record.file, record.line, arrival.when, record.data[:_BEGINNING])
        if record.sender and record.message.host and not found.relay:
            self.senders.add([("names", f"{record.sender} {record.message.host}")], example, number)
        if not found.device:
            name = record.sender or record.message.host or "-"
            via = f" by {found.relay}" if found.relay else ""
            self.strangers.add([("called", f"{name}{via}")], example, number)
            return
        summary = self.devices.setdefault(found.device, Summary())
        tells = self._tells.get(found.device, {})
        summary.add(observed(record, found, arrival.collector, tells), example, number)
        summary.pairs.add(arrival)

    def merge(self, other: Evidence) -> None:
        """Take in what was heard elsewhere."""
        for name, summary in other.devices.items():
            self.devices.setdefault(name, Summary()).merge(summary)
        self.strangers.merge(other.strangers)
        self.senders.merge(other.senders)


def observed(
    record: Record, found: Attribution, collector: str, tells: Mapping[str, str]
) -> Iterator[tuple[str, str]]:
    """Yield what a message of a device shows: what is observed, and its value.

    `tells`: the setting that a tag or MSGID reports.

    A message without PRI was written by a collector, and one that came through a relay may have
    been written again by it: neither shows the form that the device gave it.
    """
    message = record.message
    if message.pri is not None:
        yield "facility", FACILITIES[message.pri >> 3]
        yield "severity", SEVERITIES[message.pri & 7]
    if message.pri is not None and not found.relay:
        yield "origin", _origin(record, found)
        yield "format", message.form
        yield "numbering", "off" if message.sequence is None else "on"
        yield "stamp kind", message.stamp.kind
        if message.stamp.kind == "calendar":
            yield "stamp precision", message.stamp.precision
            yield "stamp year", "hidden" if message.stamp.year is None else "shown"
            yield "stamp zone", "shown" if message.stamp.zone else "hidden"
    if record.sender and not found.relay:
        yield "source", record.sender
    for word in (message.app or "", message.message_id or ""):
        if word in tells:
            yield "tells", tells[word]
    if message.stamp.synchronised is not None and not found.relay:
        yield "synchronised", "yes" if message.stamp.synchronised else "no"
    if found.relay:
        yield "relay", found.relay
    if found.conflict:
        yield "conflict", found.conflict
    if collector:
        way = f" {record.transport} {record.port}" if record.transport and record.port else ""
        yield "arrival", f"{collector}{way}"


def _origin(record: Record, found: Attribution) -> str:
    """Return how a message names its device: 'none', 'address', 'name', or the name of another."""
    host = record.message.host
    if not host:
        return "none"
    if is_address(host):
        return "address"
    return "name" if host.lower().partition(".")[0] == found.device.lower() else host
