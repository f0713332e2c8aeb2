"""Voices: how a device speaks to each of its destinations, by what its configuration says.

The stand-ins speak so, and the day of the example is made so: a fault in a configuration shows in
the messages.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from datetime import UTC, datetime

from msgspec import Struct

from ivrel.core.fleet import Device
from ivrel.core.settings import SETTINGS, Scope
from ivrel.core.settings.scope import Destination
from ivrel.core.settings.sending import sendings
from ivrel.core.settings.source_path import in_use, knows_interfaces
from ivrel.core.syslog.message import RFC3164, RFC5424, Element, Message, Stamp
from ivrel.core.syslog.rfc5424 import write
from ivrel.core.syslog.stamps import MONTHS
from ivrel.core.vocabulary.addresses import family_of, is_address
from ivrel.core.vocabulary.severity import FACILITIES, Selection

Nearest = Callable[[Device], str]  # the address that is nearest to a collector, where none is said


class Emitter(Struct, frozen=True):
    """How a device speaks to one destination.

    `address`: an IP address, or the host name that the configuration has; `collector`: what the
    policy calls it, if it does; `takes`: the facilities and severities that leave; `names`: how the
    device names itself; `sender`: the address that it sends from; `silent_of`: tags that it does
    not speak of.
    """

    address: str
    port: int
    transport: str
    takes: Selection
    facility: int
    form: str
    stamp: Mapping[str, str]
    names: str
    sender: str
    numbered: bool
    silent_of: frozenset[str]
    collector: str = ""

    def lets(self, severity: int, tag: str) -> bool:
        """Whether a message of this severity and tag leaves."""
        if tag in self.silent_of:
            return False
        return bool(self.takes.bits >> (self.facility * 8 + severity) & 1)


class Event(Struct, frozen=True):
    """Something that happened on a device: how severe it is, its tag, and what is said of it."""

    severity: int
    tag: str
    text: str


def emitters(device: Device, scope: Scope, nearest: Nearest) -> Iterator[Emitter]:
    """Yield how a device speaks to each destination; nothing if its export is off."""
    names = ("facility", "stamp", "format", "origin", "numbering", "changes", "logins")
    said = {name: {(f.of, f.part): f for f in SETTINGS[name].facts(scope)} for name in names}
    channels = scope.records.dialect.channels
    tells = scope.records.dialect.tells

    def value(name: str, of: str, part: str = "", default: str = "") -> str:
        found = (said[name].get((at, part)) for at in (of, "", *channels))
        return next((fact.value for fact in found if fact is not None), default)

    if scope.records.get("export").value == "off":
        return
    for d in scope.destinations:
        address, port, transport = d.endpoint
        if address is None:
            continue
        takes = Selection(0)
        for sending in sendings(scope, d).values():
            takes |= Selection(sending.bits)
        facility = value("facility", d.label, default="daemon")
        parts = ("kind", "precision", "year", "zone")
        yield Emitter(
            address=str(address),
            port=int(str(port or 514)),
            transport=str(transport or "udp"),
            takes=takes,
            facility=FACILITIES.index(facility) if facility in FACILITIES else 3,
            form=value("format", d.label, default=RFC3164),
            stamp={part: value("stamp", d.label, part) for part in parts},
            names=value("origin", d.label, default="name"),
            sender=_sender(device, scope, d, nearest),
            numbered=value("numbering", d.label) == "on",
            silent_of=frozenset(t for t, of in tells.items() if value(of, d.label) == "off"),
            collector=d.collector if d.right and d.collector else "",
        )


def _sender(device: Device, scope: Scope, d: Destination, nearest: Nearest) -> str:
    """Return the address that a device sends from, by what its configuration says of the source."""
    near = nearest(device)
    if knows_interfaces(scope.records):
        rows = scope.records.rows("interface").values()
        own = [a for row in rows for a in in_use(row) if a != device.identity and ":" not in a]
        near = own[0] if own else near
    family = family_of(str(d.endpoint[0]))
    # What is said of the family comes before what is said of both.
    for fact in sorted(SETTINGS["source"].facts(scope), key=lambda fact: fact.of != family):
        if fact.of in ("", family, d.label, *scope.records.dialect.channels):
            found = [word for word in (fact.value, *fact.note.split(", ")) if is_address(word)]
            return found[0] if found else near
    # What cannot choose its source is given the identity by the network.
    return device.identity or near


def written(
    device: Device, emitter: Emitter, event: Event, clock: datetime, booted: datetime, number: int
) -> bytes:
    """Return a message as a device writes it; `clock`: what it believes the time to be; `number`:
    that of the message, where it numbers them.
    """
    host = {"name": device.name, "address": device.identity}.get(emitter.names)
    pri = emitter.facility * 8 + event.severity
    if emitter.form == RFC5424:
        data = (Element("meta", (("sequenceId", str(number)),)),) if emitter.numbered else ()
        digits = {"milliseconds": 3, "microseconds": 6}.get(emitter.stamp["precision"], 0)
        fraction = f"{clock.microsecond:06}"[:digits]
        stamp = Stamp(
            kind="calendar",
            text="",
            year=clock.year,
            month=clock.month,
            day=clock.day,
            hour=clock.hour,
            minute=clock.minute,
            second=clock.second,
            fraction=fraction,
            zone="+00:00",
        )
        return write(Message(RFC5424, pri, stamp, host, event.tag, None, event.text, None, data))
    front = f"{number}: " if emitter.numbered else ""
    kind = emitter.stamp["kind"]
    if kind == "none":
        return f"<{pri}>{front}{event.tag}: {event.text}".encode()
    if kind == "uptime":
        up = clock - booted
        when = f"{up.days}d{up.seconds // 3600:02}h:"
        return f"<{pri}>{front}{when} {event.tag}: {event.text}".encode()
    stamped = old_stamp(clock, emitter.stamp)
    named = f"{host} " if host else ""
    return f"<{pri}>{front}{stamped} {named}{event.tag}: {event.text}".encode()


def old_stamp(clock: datetime, stamp: Mapping[str, str]) -> str:
    """Return a stamp of RFC 3164 (section 4.1.2), with what a platform adds to it."""
    digits = {"milliseconds": 3, "microseconds": 6}.get(stamp.get("precision", ""), 0)
    fraction = f".{clock.microsecond:06}"[: digits + 1] if digits else ""
    year = f"{clock.year} " if stamp.get("year") == "shown" else ""
    zone = " +00:00" if stamp.get("zone") == "shown" else ""
    when = clock.astimezone(UTC)
    return f"{MONTHS[when.month - 1]} {when.day:2} {year}{when:%H:%M:%S}{fraction}{zone}"
