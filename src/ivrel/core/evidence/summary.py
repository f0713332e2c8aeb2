"""Summaries: what many messages come to, in a fixed size, whatever their number.

Summaries merge in any order to the same: of what can have any number of values, the first in
alphabetical order are kept, and the rest is counted.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from datetime import UTC, datetime

from msgspec import Struct

from ivrel.core.attribution.arrival import Arrival
from ivrel.core.attribution.senders import DISPUTED, UNKNOWN_ADDRESS, Attribution
from ivrel.core.attribution.zones import UNKNOWN_ZONE
from ivrel.core.evidence.between import CountsBetween
from ivrel.core.measuring.pairs import Pairs
from ivrel.core.syslog.alike import AlikeLines
from ivrel.core.syslog.record import Record
from ivrel.core.vocabulary.addresses import is_address
from ivrel.core.vocabulary.severity import FACILITIES, SEVERITIES
from ivrel.core.vocabulary.wording import shorten

PAIRS = 100  # messages by which a clock is judged
ALIKE_PAIRS = 8  # of these, of lines that were counted together
MOST = 64  # values of one kind that are kept
MOST_RENAMED = 500  # names that addresses of devices were heard with, and nobody has
SHARED_ADDRESS = "shared address"
STRANGER = "stranger"
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
    """How often something was seen, and the first message that shows it.

    `begun`, `ended`: when the first and the last of them came, in seconds since 1970; None if that
    is not known.
    """

    number: int
    first: ExampleMessage
    begun: float | None = None
    ended: float | None = None

    def plus(self, other: Tally) -> Tally:
        """Return both together."""
        begun = _least(self.begun, other.begun)
        ended = other.ended if self.ended is None else max(self.ended, other.ended or self.ended)
        return Tally(self.number + other.number, min(self.first, other.first), begun, ended)


def _least(one: float | None, other: float | None) -> float | None:
    return min(one, other) if one is not None and other is not None else one or other


Values = dict[str, Tally]
Tells = Mapping[str, Mapping[str, str]]


class Summary:
    """What the messages of one originator have in common: of each thing that is observed, its
    values, how often each was seen, and a message that shows it.
    """

    def __init__(self) -> None:
        self.number = 0
        self.pairs = Pairs(PAIRS)  # by which the clock is judged
        self.zone = UNKNOWN_ZONE  # of stamps that show none
        self.values: dict[str, Values] = {}
        self.more: dict[str, int] = {}  # messages whose values are not kept

    def add(self, observed: Iterable[tuple[str, str]], tally: Tally) -> None:
        """Count messages that show the same, with what is observed in them."""
        self.number += tally.number
        for what, value in observed:
            values = self.values.setdefault(what, {})
            old = values.get(value)
            values[value] = tally if old is None else old.plus(tally)
            if old is None:
                self._bound(what)

    @property
    def begun(self) -> float | None:
        """When the first message came, in seconds since 1970; None if that is not known."""
        times = [t.begun for t in self._every() if t.begun is not None]
        return min(times, default=None)

    @property
    def ended(self) -> float | None:
        """When the last message came, in seconds since 1970; None if that is not known."""
        times = [t.ended for t in self._every() if t.ended is not None]
        return max(times, default=None)

    @property
    def first(self) -> ExampleMessage | None:
        """The message that is first in its file."""
        return min((tally.first for tally in self._every()), default=None)

    def _every(self) -> Iterator[Tally]:
        for tallies in self.values.values():
            yield from tallies.values()

    def merge(self, other: Summary) -> None:
        """Take in another summary of the same originator."""
        self.number += other.number
        self.zone = other.zone if other.zone.is_known else self.zone
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
    """What was heard: a summary of each device, of what is sure; and who else sent.

    `tells`: by device, the setting that a tag or MSGID reports; `moments`: by device, when it
    showed its counters, between which its messages are counted (`counts`).

    `devices`: by name; `renamed`: by device and the HOSTNAME that nobody in the fleet has, what
    came from its address under that name; `others`: by kind, what proves nothing of any device:
    'disputed', 'unknown address', 'shared address', 'stranger' (see `anomalies`); `senders`: the
    names that each address was heard with.
    """

    def __init__(
        self, tells: Tells | None = None, moments: Mapping[str, Sequence[float]] | None = None
    ) -> None:
        self._tells = tells or {}
        self.counts = CountsBetween(moments) if moments else None
        self.devices: dict[str, Summary] = {}
        self.renamed: dict[tuple[str, str], Summary] = {}
        self.others = Summary()
        self.senders = Summary()

    @property
    def number(self) -> int:
        """How many messages were heard."""
        some = (*self.devices.values(), *self.renamed.values(), self.others)
        return sum(summary.number for summary in some)

    def of(self, device: str) -> Summary:
        """Return the summary of what is surely a device's.

        What came from its address under one strange name is its own, if all did: then that is what
        the device calls itself. Otherwise it may be another's, which speaks through it.
        """
        own = self.devices.get(device)
        if own is not None:
            return own
        renamed = [summary for (name, _), summary in self.renamed.items() if name == device]
        return renamed[0] if len(renamed) == 1 else Summary()

    def add(self, arrival: Arrival) -> None:
        """Count a message."""
        self._count(arrival, 1, arrival.when)
        if self.counts is not None:
            self.counts.add(arrival)

    def add_alike(self, arrival: Arrival, alike: AlikeLines) -> bool:
        """Count messages that show the same; return True."""
        moments = alike.some(1).moments(arrival.when)
        when = datetime.fromtimestamp(moments[-1], UTC) if moments else arrival.when
        summary = self._count(arrival, len(alike), when)
        if summary is not None:
            summary.pairs.add_alike(arrival, alike.some(ALIKE_PAIRS))
        if self.counts is not None:
            self.counts.add_alike(arrival, alike)
        return True

    def settle(self) -> None:
        """Do nothing: the order of messages makes no difference."""

    def _count(self, arrival: Arrival, number: int, last: datetime | None) -> Summary | None:
        """Count messages that show the same, of which the first arrived so; return the summary that
        they were counted in, None if they prove nothing of a device.
        """
        record = arrival.record
        found = arrival.found
        tally = _tally(arrival, number, last)
        if record.sender and record.message.host and not found.relay:
            self.senders.add([("names", f"{record.sender} {record.message.host}")], tally)
        if not found.is_sure:
            self.others.add([_unproved(record, found)], tally)
            return None
        if found.called:
            at = found.device, found.called
            summary = self.renamed.setdefault(at, Summary())
            self._bound_renamed()
        else:
            summary = self.devices.setdefault(found.device, Summary())
        tells = self._tells.get(found.device, {})
        summary.add(observed(record, found, arrival.collector, tells), tally)
        summary.zone = arrival.zone
        if number == 1:
            summary.pairs.add(arrival)
        return summary

    def merge(self, other: Evidence) -> None:
        """Take in what was heard elsewhere."""
        if self.counts is not None and other.counts is not None:
            self.counts.merge(other.counts)
        for name, summary in other.devices.items():
            self.devices.setdefault(name, Summary()).merge(summary)
        for at, summary in other.renamed.items():
            self.renamed.setdefault(at, Summary()).merge(summary)
        self._bound_renamed()
        self.others.merge(other.others)
        self.senders.merge(other.senders)

    def _bound_renamed(self) -> None:
        """Keep the first names; what is dropped here would be dropped in any other order."""
        while len(self.renamed) > MOST_RENAMED:
            last = max(self.renamed)
            self.others.number += self.renamed.pop(last).number


def _tally(arrival: Arrival, number: int, last: datetime | None) -> Tally:
    """Return a count of messages, of which the first arrived so, and the last then."""
    record = arrival.record
    example = ExampleMessage(record.file, record.line, arrival.when, record.data[:_BEGINNING])
    if arrival.when is None:
        return Tally(number, example)
    first = arrival.when.timestamp()
    ended = first if last is None else last.timestamp()
    return Tally(number, example, min(first, ended), max(first, ended))


def _unproved(record: Record, found: Attribution) -> tuple[str, str]:
    """Return what a message is that proves nothing of any device: its kind, and who is named."""
    if found.grade == DISPUTED:
        return DISPUTED, "\0".join((found.device, found.conflict, record.sender or "-"))
    if found.grade == UNKNOWN_ADDRESS:
        return UNKNOWN_ADDRESS, f"{found.device}\0{record.sender}"
    if found.shared:
        return SHARED_ADDRESS, "\0".join((record.sender or "-", *found.shared))
    if found.relay:
        return STRANGER, f"{record.message.host or 'a message without a name'} by {found.relay}"
    return STRANGER, record.sender or record.message.host or "-"


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
    if record.is_cut:
        yield "cut", "yes"
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
