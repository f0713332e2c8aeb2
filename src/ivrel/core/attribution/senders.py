"""Attribution: which device a message is from, and whether that is sure enough to judge by.

The sender's address decides, unless it is a relay's: then what the message calls itself does. Only
a message whose address and name agree, as far as both are known, proves or contradicts anything:
a message that names another device may have come through a relay that nobody declared, and one from
an unknown address may be anybody's.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from datetime import tzinfo

from msgspec import Struct

from ivrel.core.attribution.zones import StampZone
from ivrel.core.fleet import Device
from ivrel.core.policy import Collector
from ivrel.core.syslog.record import Record
from ivrel.core.vocabulary.addresses import address, is_address

# How a device is found, the surest first.
BY: Mapping[str, str] = {
    "identity": "the sender's address is its identity",
    "interface": "the sender's address is on one of its interfaces",
    "origin": "the `origin` element bears its address (RFC 5424 section 7.2)",
    "host": "HOSTNAME names it",
    "tag": "the tag names it",
}


# What is said of a candidate that was dropped for one that was found so.
_WEIGHS: Mapping[str, str] = {
    "identity": "the sender's address weighs more",
    "interface": "the sender's address weighs more",
    "origin": "the `origin` element weighs more",
    "host": "HOSTNAME weighs more",
    "tag": "the tag weighs more",
}


# How sure an attribution is. Only messages of the first grade prove or contradict anything.
SURE = "sure"
DISPUTED = "disputed"
UNKNOWN_ADDRESS = "unknown address"
NOBODY = ""

GRADES: Mapping[str, str] = {
    SURE: "address and name agree, as far as both are known",
    DISPUTED: "its address is of one device and it names another, so that it proves nothing of "
    "either",
    UNKNOWN_ADDRESS: "it names a device, and comes from an address that is not known to be its, so "
    "that it proves nothing",
    NOBODY: "it is no device's of the fleet",
}


class SenderCandidate(Struct, frozen=True):
    """A device that a message may be from, and why; `why_not`: why it was dropped, '' if not."""

    device: str
    by: str
    value: str
    why_not: str = ""


class Attribution(Struct, frozen=True):
    """The device that a message is from, '' if none is known.

    `relay`: the relay that it came through; `conflict`: the other device that the message names;
    `candidates`: all that were looked at, the one that was taken first; `grade`: see GRADES;
    `called`: the HOSTNAME of a message from a device's own address that names nobody in the fleet;
    `shared`: the devices that share the sender's address, if several do.
    """

    device: str = ""
    relay: str = ""
    conflict: str = ""
    candidates: tuple[SenderCandidate, ...] = ()
    grade: str = NOBODY
    called: str = ""
    shared: tuple[str, ...] = ()

    @property
    def is_sure(self) -> bool:
        """Whether the message may prove or contradict something of its device."""
        return self.grade == SURE


class Directory:
    """Finds devices by addresses and names.

    `interfaces`: gives the addresses on the interfaces of a device; it is asked only when a sender
    is no device's identity, and once for each device. `zone`: gives the zone of a device's clock,
    None if nothing says it; it is asked once for each device whose stamps show none.
    """

    def __init__(
        self,
        devices: Iterable[Device],
        collectors: Iterable[Collector] = (),
        interfaces: Callable[[Device], Iterable[str]] = lambda device: (),
        zone: Callable[[Device], StampZone | None] = lambda device: None,
    ) -> None:
        self._devices = tuple(devices)
        self._interfaces = interfaces
        self._zone = zone
        self._zones: dict[str, StampZone | None] = {}
        self._by_name = {d.name.lower(): d.name for d in self._devices}
        self._by_identity: dict[str, list[str]] = {}
        for d in self._devices:
            if d.identity:
                self._by_identity.setdefault(d.identity, []).append(d.name)
        self._by_interface: dict[str, list[str]] | None = None
        self._known: dict[object, Attribution] = {}
        self._relays = {c.address: c.name for c in collectors if c.forwards}

    MOST_KNOWN = 50_000  # attributions that are remembered

    def once(self, at: object, attributed: Callable[[], Attribution]) -> Attribution:
        """Return what was found before for what a message says of its sender."""
        found = self._known.get(at)
        if found is None:
            found = attributed()
            if len(self._known) < self.MOST_KNOWN:
                self._known[at] = found
        return found

    def relay(self, sender: str) -> str:
        """Return the relay that has an address; '' if none has."""
        return self._relays.get(sender, "")

    def with_address(self, wanted: str) -> list[tuple[str, str]]:
        """Return the devices that an address is of, and whether by 'identity' or 'interface'."""
        found = [(name, "identity") for name in self._by_identity.get(wanted, ())]
        if found:
            return found
        if self._by_interface is None:
            self._by_interface = {}
            for d in self._devices:
                for one in self._interfaces(d):
                    self._by_interface.setdefault(one, []).append(d.name)
        return [(name, "interface") for name in self._by_interface.get(wanted, ())]

    def zone_of(self, name: str, otherwise: tzinfo) -> StampZone:
        """Return the zone of a device's stamps that show none; `otherwise`: if nothing says it."""
        if name and name not in self._zones:
            device = next((d for d in self._devices if d.name == name), None)
            self._zones[name] = None if device is None else self._zone(device)
        return self._zones.get(name) or StampZone(otherwise)

    def named(self, word: str) -> str:
        """Return the device that a host name names, in any case, with a domain or without; '' if
        none.
        """
        word = word.lower()
        return self._by_name.get(word) or self._by_name.get(word.partition(".")[0]) or ""


def attribute(record: Record, directory: Directory) -> Attribution:
    """Return the device that a message is from, with all that were looked at."""
    message = record.message
    origin = message.element("origin")
    # Nothing else of a message is looked at, and a device says the same of itself each time.
    at = record.sender, message.host, message.app, origin
    return directory.once(at, lambda: _attributed(record, directory))


def _attributed(record: Record, directory: Directory) -> Attribution:
    relay = directory.relay(record.sender) if record.sender else ""
    by_sender: list[SenderCandidate] = []
    if record.sender and not relay:
        found = directory.with_address(record.sender)
        by_sender = [SenderCandidate(name, by, record.sender) for name, by in found]
    says = list(_self_named(record, directory))
    if len(by_sender) > 1:
        # Of several devices with one address, the message itself may tell which it is.
        named = {c.device for c in says}
        by_sender.sort(key=lambda c: c.device not in named)
    shared = tuple(c.device for c in by_sender) if len(by_sender) > 1 else ()
    ranked = [*by_sender, *says]
    if not ranked:
        return Attribution(relay=relay)
    taken = ranked[0]
    if shared and taken.device not in {c.device for c in says}:
        # Nothing tells which of them it is, and to guess would blame one for the other.
        dropped = [_without(c, f"{' and '.join(shared)} share the address") for c in by_sender]
        return Attribution(relay=relay, candidates=(*dropped, *says), shared=shared)
    others = [c if c.device == taken.device else _without(c, _WEIGHS[taken.by]) for c in ranked[1:]]
    conflict = next((c.device for c in says if c.device != taken.device), "")
    grade = SURE
    if conflict:
        grade = DISPUTED
    elif record.sender and not relay and not by_sender:
        grade = UNKNOWN_ADDRESS
    # Of a message without a tag, the first word may be one of its text.
    host = record.message.host if record.message.app else None
    called = host if host and by_sender and not any(c.by == "host" for c in says) else ""
    return Attribution(
        taken.device, relay, conflict, (taken, *others), grade=grade, called=called, shared=shared
    )


def _without(candidate: SenderCandidate, why: str) -> SenderCandidate:
    return SenderCandidate(candidate.device, candidate.by, candidate.value, why)


def _self_named(record: Record, directory: Directory) -> Iterable[SenderCandidate]:
    """Yield the devices that a message calls itself."""
    message = record.message
    origin = message.element("origin")
    said = origin.get("ip") if origin is not None else None
    if said and is_address(said):
        for name, _ in directory.with_address(address(said)):
            yield SenderCandidate(name, "origin", said)
    if message.host:
        if is_address(message.host):
            for name, _ in directory.with_address(address(message.host)):
                yield SenderCandidate(name, "host", message.host)
        elif name := directory.named(message.host):
            yield SenderCandidate(name, "host", message.host)
    if message.app and (name := directory.named(message.app)):
        yield SenderCandidate(name, "tag", message.app)
