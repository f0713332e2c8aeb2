"""A day of messages of the example fleet, made from the readings of its configurations.

What a configuration says is what its device sends, so that a fault in it shows in the messages.
Some things also go wrong that no configuration shows: see TROUBLES.
"""

from __future__ import annotations

import io
import re
import socket
from collections.abc import Iterator, Mapping
from datetime import UTC, datetime, timedelta
from pathlib import Path
from random import Random

import dpkt
from msgspec import Struct
from msgspec.structs import replace

from ivrel.core import Device, Policy, read_fleet, read_policy
from ivrel.core.evidence.emitters import Emitter, Event, emitters, old_stamp, written
from ivrel.core.reading.records import read_records
from ivrel.core.settings import Scope
from ivrel.core.syslog import parse
from ivrel.core.syslog.record import kept_line
from ivrel.core.text.bundle import pack
from ivrel.core.vocabulary.severity import FACILITIES
from ivrel.demo.workspace import configurations, fleet_text, policy_text
from ivrel.sources.dialects import Dialects
from ivrel.sources.files import write_bytes

DAY = datetime(2026, 11, 23, tzinfo=UTC)
QUIET = 900  # seconds between bursts of events, in the mean
BUSY = {"mv-gannet-lx1": 15, "tarsk-fw2": 200}  # by device, where it is something else
NEAREST = "192.0.2.{}"  # what is nearest to a collector, where no configuration says it

# What goes wrong although no configuration says so, by device.
TROUBLES: Mapping[str, str] = {
    "holmsay-gw1": "its configuration is right, and it still speaks as local1",
    "kelby-gw1": "its configuration is right, and its stamps show no zone",
    "orrin-gw3": "its clock is an hour ahead",
    "tarsk-sw3": "its clock was never set",
    "tarsk-fw2": "one message in ten is lost on the way",
    "brannay-gw2": "its clock gains 40 seconds in a million",
    "mv-gannet-lx1": "it is out of coverage for three hours, and catches up",
    "orrin-fw1": "from noon on it sends from a second address",
}
OWN, OWN_ADDRESS, MEMORY = "tarsk-fw2", "192.0.2.34", 80  # whose memory is saved; its lines
STRANGER = "203.0.113.200"
SECOND = "192.0.2.249"

# Severity, tag, text: the more urgent, the rarer.
_SAID = (
    *[(6, "link", "port {port} up, {rate} Mbit/s")] * 8,
    *[(6, "login", "session of {user} from 192.0.2.{host} opened")] * 6,
    *[(5, "link", "port {port} flapped {count} times in {rate} s")] * 4,
    *[(5, "change", "configuration saved by {user}, revision {count}")] * 2,
    *[(7, "poll", "{count} counters read in {rate} ms")] * 8,
    *[(4, "env", "fan {port} at {rate} rpm, expected more")] * 3,
    *[(3, "route", "neighbour 192.0.2.{host} lost after {rate} s")] * 2,
    (2, "power", "supply {port} failed"),
)  # fmt: skip


class DemoMessage(Struct, frozen=True):
    """One message on its way: when it arrives where, from whom, and its bytes; `is_lost`: it does
    not arrive; `device`: the one that sent it, '' for a stranger.
    """

    when: datetime
    sender: str
    collector: str
    port: int
    transport: str
    data: bytes
    is_lost: bool = False
    device: str = ""


def day() -> list[DemoMessage]:
    """Return the messages of a day, in order of arrival."""
    return [one for one in sent_in_a_day() if not one.is_lost]


def sent_in_a_day() -> list[DemoMessage]:
    """Return all that devices send in the day, in order of arrival, also what is lost."""
    policy = read_policy(policy_text(), "policy.yaml")
    dialects = Dialects()
    texts = configurations()
    sent = list[DemoMessage]()
    for device in read_fleet(fleet_text(), "fleet.yaml").devices:
        scope = scope_of(device, texts[device.name], dialects, policy)
        sent += _of_device(device, [v for v in emitters(device, scope, _nearest) if v.collector])
    dice = Random("stranger")
    for n in range(12):
        when = DAY + timedelta(seconds=dice.randrange(86_400))
        data = f"<13>{old_stamp(when, {})} printer spool: page {n} done".encode()
        sent.append(DemoMessage(when, STRANGER, "beacon-a", 514, "udp", data))
    return sorted(sent, key=lambda one: (one.when, one.sender, one.collector))


def scope_of(device: Device, texts: Mapping[str, str], dialects: Dialects, policy: Policy) -> Scope:
    """Return what the configuration of a device says."""
    files = {name: text.encode() for name, text in texts.items()}
    data = files[""] if set(files) == {""} else pack(files)
    return Scope(device, read_records(dialects[device.platform], data), policy.collectors)


def _nearest(device: Device) -> str:
    return NEAREST.format(200 + sum(map(ord, device.name)) % 40)


def _of_device(device: Device, speaks: list[Emitter]) -> Iterator[DemoMessage]:
    """Yield what a device sends in a day."""
    dice = Random(f"day of {device.name}")
    trouble = TROUBLES.get(device.name, "")
    numbers = dict.fromkeys(range(len(speaks)), dice.randrange(1000))
    booted = DAY - timedelta(days=dice.randrange(2, 90))
    arrived = dict.fromkeys(range(len(speaks)), DAY)
    for when in _moments(dice, BUSY.get(device.name, QUIET)):
        severity, tag, text = dice.choice(_SAID)
        values = {
            "port": dice.randrange(1, 49), "rate": dice.randrange(10, 9000),
            "count": dice.randrange(2, 400), "host": dice.randrange(10, 250),
            "user": dice.choice(("anouk", "brede", "sefa")),
        }  # fmt: skip
        for n, emitter in enumerate(speaks):
            if not emitter.lets(severity, tag):
                continue
            numbers[n] += 1
            is_lost = "lost" in trouble and dice.random() < 0.1
            arrives = when + timedelta(seconds=dice.random() * 0.2)
            if "coverage" in trouble and 9 <= when.hour < 12:
                arrives = DAY + timedelta(hours=12, seconds=dice.random() * 60)
            # On one way, no message overtakes another.
            arrives = arrived[n] = max(arrives, arrived[n] + timedelta(milliseconds=1))
            clock = when
            if "ahead" in trouble:
                clock = when + timedelta(hours=1)
            elif "gains" in trouble:
                clock = when + timedelta(seconds=0.2) + (when - DAY) * 40e-6
            elif "never set" in trouble:
                clock = datetime(1993, 3, 1, tzinfo=UTC) + (when - booted)
            spoken = _troubled(emitter, trouble)
            event = Event(severity, tag, text.format(**values))
            data = written(device, spoken, event, clock, booted, numbers[n])
            second = "second address" in trouble and when.hour >= 12
            sender = SECOND if second else emitter.sender
            if "coverage" in trouble and device.identity:
                sender = device.identity  # the satellite's side knows it by no other
            yield DemoMessage(
                when=arrives,
                sender=sender,
                collector=emitter.collector,
                port=emitter.port,
                transport=emitter.transport,
                data=data,
                is_lost=is_lost,
                device=device.name,
            )


def _troubled(emitter: Emitter, trouble: str) -> Emitter:
    if "local1" in trouble:
        return replace(emitter, facility=FACILITIES.index("local1"))
    if "no zone" in trouble:
        return replace(emitter, stamp={**emitter.stamp, "zone": "hidden"})
    return emitter


def _moments(dice: Random, quiet: float) -> Iterator[datetime]:
    """Yield when something happens in the day: now and then, and then several times in a row."""
    seconds = 0.0
    left = 0
    while True:
        if not left:
            seconds += dice.expovariate(1 / quiet)
            left = dice.choice((1, 1, 2, 5))
        seconds += dice.expovariate(1 / 4)
        left -= 1
        if seconds >= 86_400:
            return
        yield DAY + timedelta(seconds=seconds)


def write_day(folder: Path) -> None:
    """Write the day: a recording of each collector, a file as a collector writes it, a capture, and
    what a device kept in its memory.
    """
    every = sent_in_a_day()
    sent = [one for one in every if not one.is_lost]
    write_bytes(folder / f"{OWN}.txt", b"".join(_remembered(every)))
    for name in dict.fromkeys(one.collector for one in sent):
        lines = [
            kept_line(s.data, s.when.timestamp(), s.sender, s.port, s.transport, _framing(s))
            for s in sent
            if s.collector == name
        ]
        write_bytes(folder / f"{name}.jsonl", b"".join(lines))
    write_bytes(
        folder / "beacon-a.log", b"".join(_filed(s) for s in sent if s.collector == "beacon-a")
    )
    write_bytes(folder / "beacon-a.pcap", _captured([s for s in sent if s.collector == "beacon-a"]))


def _remembered(sent: list[DemoMessage]) -> Iterator[bytes]:
    """Yield the lines that a device kept in its memory, as it shows them: with neither PRI nor
    number.
    """
    lines = [one.data for one in sent if one.sender == OWN_ADDRESS and one.collector == "beacon-a"]
    for data in lines[-MEMORY:]:
        yield re.sub(rb"^<[0-9]+>(?:[0-9]+: )?", b"", data) + b"\n"


def _framing(sent: DemoMessage) -> str:
    return "datagram" if sent.transport == "udp" else "octet counting"


def _filed(sent: DemoMessage) -> bytes:
    """Return a message as a collector files it: with the time of receipt, without PRI."""
    message = parse(sent.data)
    when = sent.when.isoformat(timespec="microseconds")
    host = message.host or sent.sender
    tag = f"{message.app}: " if message.app else ""
    return f"{when} {host} {tag}{message.text}\n".encode()


def _captured(sent: list[DemoMessage]) -> bytes:
    """Return datagrams as a capture with Ethernet."""
    out = io.BytesIO()
    writer = dpkt.pcap.Writer(out)
    collectors = read_policy(policy_text(), "policy.yaml").collectors
    for one in sent:
        datagram = dpkt.udp.UDP(sport=30000, dport=one.port, ulen=8 + len(one.data), data=one.data)
        source = socket.inet_aton(one.sender)
        target = socket.inet_aton(collectors[one.collector].address)
        packet = dpkt.ip.IP(src=source, dst=target, p=17, ttl=60, data=datagram)
        packet.len = len(bytes(packet))
        frame = bytes(12) + b"\x08\x00" + bytes(packet)
        writer.writepkt(frame, ts=one.when.timestamp())
    return out.getvalue()
