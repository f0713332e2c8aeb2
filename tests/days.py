"""Days of messages with a known truth: what each device is asked, what it does, and what is wrong.

A day has devices that do as asked, and devices with one fault each (`FAULTS`). Of each device it is
known which settings are as asked at the end of the day (`right`) and which are not (`wrong`); of
the others nothing may be claimed. So each claim can be called true or false.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator, Mapping
from datetime import UTC, datetime, timedelta, timezone
from random import Random

from msgspec import Struct
from msgspec.structs import replace

from ivrel.core import Device, read_policy
from ivrel.core.attribution.arrival import arrived
from ivrel.core.attribution.senders import Directory
from ivrel.core.attribution.zones import CONFIGURATION, zone_named
from ivrel.core.evidence.claims import Claim, claims_of
from ivrel.core.evidence.clocks import common_offset
from ivrel.core.evidence.summary import Evidence
from ivrel.core.policy import Policy
from ivrel.core.syslog import parse
from ivrel.core.syslog.record import Record

BEGIN = datetime(2026, 11, 23, tzinfo=UTC).timestamp()
DAY = 86_400.0
NOON = BEGIN + DAY / 2
SETTINGS = ("level", "facility", "source", "clock")
POLICY = """policy: p
collectors:
  a: {address: 198.51.100.21}
  r: {address: 198.51.100.30, forwards: a}
rules:
  - rule: all
    require:
      level: informational
      facility: local4
      source: identity
      clock: {zone: CET}
"""
CET = timezone(timedelta(hours=1))
FACILITY = {"local0": 16, "local4": 20}
SEVERITIES = (3, 4, 4, 5, 5, 5, 6, 6, 6, 6, 6)


class Sent(Struct, frozen=True):
    """One message of a day: when it came, from which address, and its bytes."""

    came: float
    sender: str
    data: bytes


class Truth(Struct, frozen=True):
    """What is known of a device at the end of a day: the settings that are as asked, and those that
    are not; `fault`: its fault, '' if it has none.
    """

    right: frozenset[str]
    wrong: frozenset[str]
    fault: str


class Speaker(Struct):
    """How a device speaks; a fault changes it. Functions are given the time, in seconds since 1970.

    `delay`: seconds; `clock`: seconds that it is ahead; `dies`: when it falls silent.
    """

    name: str
    address: str
    facility: Callable[[float], str] = lambda at: "local4"
    debug: Callable[[float], bool] = lambda at: False
    clock: Callable[[float], float] = lambda at: 0.0
    delay: Callable[[float, Random], float] = lambda at, dice: dice.random() * 0.2
    sender: Callable[[float], str] | None = None
    named: Callable[[float, Random], str] | None = None
    marks: Callable[[float, Random], bool] = lambda at, dice: False
    zone: timezone = CET
    quiet: float = 600.0
    dies: float = math.inf


class Fault(Struct, frozen=True):
    """A fault: what it does to a device, and what is true of the device's settings then.

    `right` and `wrong`: settings, at the end of the day; of the others nothing may be claimed.
    """

    apply: Callable[[Speaker, Random], None]
    right: frozenset[str] = frozenset(SETTINGS) - {"clock"}
    wrong: frozenset[str] = frozenset()


def _set(**values: object) -> Callable[[Speaker, Random], None]:
    def apply(speaker: Speaker, dice: Random) -> None:
        for name, value in values.items():
            setattr(speaker, name, value)

    return apply


def _but(*names: str) -> frozenset[str]:
    return frozenset(SETTINGS) - {"clock", *names}


def _late_by_turns(at: float, dice: Random) -> float:
    return 61.0 if dice.random() < 0.08 else dice.random() * 0.2


FAULTS: Mapping[str, Fault] = {
    "": Fault(_set()),
    "wrong facility": Fault(_set(facility=lambda at: "local0"), _but("facility"), frozenset({"facility"})),
    "facility mended at noon": Fault(_set(facility=lambda at: "local0" if at < NOON else "local4")),
    "facility broken at noon": Fault(
        _set(facility=lambda at: "local4" if at < NOON else "local0"), _but("facility"),
        frozenset({"facility"}),
    ),
    "sends debug": Fault(_set(debug=lambda at: True), _but("level"), frozenset({"level"})),
    "debug until noon": Fault(_set(debug=lambda at: at < NOON)),
    "two facilities at once": Fault(
        _set(facility=lambda at: "local0" if int(at) % 3 else "local4"), _but("facility"),
        frozenset({"facility"}),
    ),
    "facility of one job at night": Fault(
        _set(facility=lambda at: "local0" if BEGIN + 7200 < at < BEGIN + 10_800 else "local4"), _but("facility"),
        frozenset({"facility"}),
    ),
    # One that had not spoken since would be known by its old messages alone.
    "facility mended an hour ago": Fault(
        _set(facility=lambda at: "local0" if at < BEGIN + DAY - 3600 else "local4", quiet=120.0),
    ),
    "without a name": Fault(_set(named=lambda at, dice: "-")),
    "another address of its own": Fault(_set(sender=lambda at: "own"), _but("source"), frozenset({"source"})),
    "clock 10 min ahead": Fault(_set(clock=lambda at: 600.0), wrong=frozenset({"clock"})),
    "clock of another zone": Fault(_set(clock=lambda at: 2 * 3600.0), wrong=frozenset({"clock"})),
    "clock never set": Fault(_set(clock=lambda at: -90 * DAY), wrong=frozenset({"clock"})),
    "clock set at noon": Fault(_set(clock=lambda at: 700.0 if at < NOON else 0.0)),
    "unset until it booted": Fault(_set(clock=lambda at: -56 * 365 * DAY if at < BEGIN + 600 else 0.0)),
    "drifts": Fault(_set(clock=lambda at: (at - BEGIN) * 40e-6)),
    "delay of 90 s": Fault(_set(delay=lambda at, dice: 90 + dice.random() * 0.2)),
    "one in twelve a minute late": Fault(_set(delay=_late_by_turns)),
    "out of coverage": Fault(
        _set(delay=lambda at, dice: max(0.0, BEGIN + 43_200 - at) + dice.random() if 30_000 < at - BEGIN < 43_200 else dice.random())
    ),
    "unsynchronised at boot": Fault(_set(marks=lambda at, dice: at < BEGIN + 900)),
    "never synchronised": Fault(_set(marks=lambda at, dice: True), wrong=frozenset({"clock"})),
    "forged from elsewhere": Fault(_set(dies=0.0), right=frozenset()),
    "through an undeclared relay": Fault(_set(sender=lambda at: "other"), right=frozenset()),
    "through the declared relay": Fault(_set(sender=lambda at: "198.51.100.30"), _but("source")),
    "relays for a stranger": Fault(_set(named=lambda at, dice: "printer" if dice.random() < 0.3 else "")),
    "shares its address": Fault(_set(sender=lambda at: "shared"), right=frozenset()),
}  # fmt: skip


class Day(Struct, frozen=True):
    """One day: the devices, what is true of each, and all messages in order of arrival."""

    devices: tuple[Device, ...]
    truth: Mapping[str, Truth]
    sent: tuple[Sent, ...]
    own: Mapping[str, str]  # a second address of each device, which its configuration shows


def day(seed: int, number: int = 60) -> Day:
    """Return a day of devices of which every third or so has a fault."""
    dice = Random(f"day {seed}")
    devices = []
    truth = {}
    sent: list[Sent] = []
    own = {}
    for n in range(number):
        name = f"dev-{n}"
        address = f"192.0.2.{n + 1}"
        fault = dice.choice(list(FAULTS)) if n % 3 == 0 else ""
        speaker = Speaker(name, address, quiet=dice.choice((120.0, 600.0, 1800.0)))
        FAULTS[fault].apply(speaker, dice)
        own[name] = f"203.0.113.{n + 1}"
        devices.append(Device(name, "router", "s", "quern", (), address))
        truth[name] = Truth(FAULTS[fault].right, FAULTS[fault].wrong, fault)
        sent += _spoken(speaker, dice, own[name], number)
        if fault == "forged from elsewhere":
            sent += _forged(name, dice)
    wrong = _collector(seed)
    sent = sorted((replace(one, came=one.came + wrong(one.came)) for one in sent), key=_came)
    return Day(tuple(devices), truth, tuple(sent), own)


def _came(one: Sent) -> float:
    return one.came


def _collector(seed: int) -> Callable[[float], float]:
    """Return how far the collector's clock is ahead: on most days, it is right."""
    if seed % 5 == 3:
        return lambda at: -300.0 if at > NOON else 0.0
    return (lambda at: -400.0) if seed % 5 == 4 else (lambda at: 0.0)


def _forged(name: str, dice: Random) -> Iterator[Sent]:
    for _ in range(2):
        at = BEGIN + dice.random() * DAY
        yield Sent(at, "203.0.113.250", _message(at, FACILITY["local4"] * 8 + 6, "", name))


def _spoken(speaker: Speaker, dice: Random, own: str, number: int) -> Iterator[Sent]:
    other = f"192.0.2.{dice.randrange(1, number + 1)}"
    while other == speaker.address:
        other = f"192.0.2.{dice.randrange(1, number + 1)}"
    at = BEGIN + dice.random() * 60
    while at < min(BEGIN + DAY, speaker.dies):
        severity = 7 if speaker.debug(at) and dice.random() < 0.3 else dice.choice(SEVERITIES)
        pri = FACILITY[speaker.facility(at)] * 8 + severity
        said = speaker.sender(at) if speaker.sender else speaker.address
        sender = {"own": own, "other": other, "shared": "203.0.113.251"}.get(said, said)
        host = (speaker.named(at, dice) if speaker.named else "") or speaker.name
        host = "" if said == "shared" or host == "-" else f"{host} "
        mark = "*" if speaker.marks(at, dice) else ""
        shown = at + speaker.clock(at)
        yield Sent(at + speaker.delay(at, dice), sender, _message(shown, pri, mark, host.strip()))
        at += dice.expovariate(1 / speaker.quiet) if dice.random() < 0.4 else dice.random() * 4


def _message(shown: float, pri: int, mark: str, host: str) -> bytes:
    when = datetime.fromtimestamp(shown, UTC).astimezone(CET)
    named = f" {host}" if host else ":"
    return f"<{pri}>{mark}{when:%b} {when.day:2} {when.year} {when:%H:%M:%S}{named} su: x".encode()


def claims(one: Day, policy: Policy | None = None) -> dict[str, tuple[Claim, ...]]:
    """Return the claims about each device of a day."""
    asked = policy or read_policy(POLICY, "policy.yaml")
    sharing = {d.name for d in one.devices if one.truth[d.name].fault == "shares its address"}
    sharing |= {one.devices[1].name} if sharing else set()

    def interfaces(device: Device) -> list[str]:
        return [one.own[device.name], *(["203.0.113.251"] if device.name in sharing else [])]

    directory = Directory(
        one.devices,
        asked.collectors.values(),
        interfaces,
        lambda d: zone_named("CET", CONFIGURATION),
    )
    heard = Evidence()
    for n, message in enumerate(one.sent, 1):
        when = datetime.fromtimestamp(message.came, UTC)
        record = Record(parse(message.data), message.data, "f", n, when, message.sender, 514, "udp")
        heard.add(arrived(record, directory, when, UTC, "a"))
    common = common_offset(heard, heard.devices)
    return {d.name: claims_of(d, asked, heard, common_offset=common) for d in one.devices}


class Outcome(Struct, frozen=True):
    """A claim beside the truth: `is_false`: it says what is not so; `is_missed`: what is wrong, or
    right, is not seen.
    """

    device: str
    fault: str
    claim: Claim
    is_false: bool
    is_missed: bool


def outcomes(one: Day) -> Iterator[Outcome]:
    """Yield each claim of a day beside the truth."""
    for name, some in claims(one).items():
        truth = one.truth[name]
        for claim in some:
            at = claim.setting
            is_false = (claim.claim == "proved" and at not in truth.right) or (
                claim.claim == "contradicted" and at not in truth.wrong
            )
            missed = claim.claim == "not seen" and at in truth.wrong
            yield Outcome(name, truth.fault, claim, is_false, missed)
