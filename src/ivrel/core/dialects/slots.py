"""The slots of the pattern language: every value that a statement can carry, its type, and what it bears on.

A slot `table.field` is a field of a row; a slot without a table of its own is a single value of the device.

| table | a row is |
|---|---|
| destination | a collector as the device knows it |
| pick | facilities and severities that go to a destination |
| feed | a way that messages take: a plane of the device, or what collects them for destinations |
| take, give | a category that a feed takes; a destination that a feed gives to |
| show | facilities and severities that an output on the device itself shows |
| server, resolver | a time server; a resolver of host names |
| mute | a statement that drops messages before they leave |
| gate | a traffic rule, and whether it records |
| interface | an interface with its addresses |
"""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from difflib import get_close_matches
from functools import lru_cache
from ipaddress import ip_interface

from msgspec import Struct

from ivrel.core.fleet import address
from ivrel.core.mistakes import listed
from ivrel.core.severity import FACILITIES, SEVERITIES, selection_of

Value = str | int


class ValueType(Struct, frozen=True):
    """How the words of one type are read; `parse` raises ValueError. `choices`: all values, least first."""

    name: str
    parse: Callable[[str], Value]
    choices: tuple[str, ...] = ()


def _one_of(name: str, choices: tuple[str, ...]) -> ValueType:
    def parse(word: str) -> str:
        if word not in choices:
            raise ValueError(word)
        return word

    return ValueType(name, parse, choices)


def _port(word: str) -> int:
    if not re.fullmatch(r"[0-9]{1,5}", word) or not 0 < int(word) < 65536:
        raise ValueError(f"'{word[:20]}' is not a port; expected 1 to 65535")
    return int(word)


_HOST = re.compile(r"(?=.{1,253}$)[a-z0-9]([a-z0-9-]*[a-z0-9])?(\.[a-z0-9]([a-z0-9-]*[a-z0-9])?)*")


def _host(word: str) -> str:
    try:
        return address(word)
    except ValueError:
        if _HOST.fullmatch(word.lower()) and not word.replace(".", "").isdigit():
            return word.lower()
        raise


@lru_cache(maxsize=4096)
def _inet(word: str) -> str:
    where, slash, length = word.partition("/")
    found = address(where)
    if slash and not (length.isdecimal() and int(length[:4]) <= (128 if ":" in found else 32)):
        # A mask in the place of a length is for the library to judge.
        return str(ip_interface(word).ip)
    return found


def _number(word: str) -> int:
    if not re.fullmatch(r"[0-9]{1,12}", word):
        raise ValueError(f"'{word[:20]}' is not a whole number")
    return int(word)


def _rate(word: str) -> Value:
    return word if word == "none" else _number(word)


def _selection(word: str) -> str:
    return selection_of(word).word


WORD = ValueType("word", str)
SWITCH = _one_of("switch", ("off", "on"))
HOST = ValueType("host", _host)
INET = ValueType("inet", _inet)
ADDRESS = ValueType("address", address)
PORT = ValueType("port", _port)
# What a policy may ask for; RELP can only be read.
TRANSPORTS = ("udp", "tcp", "tls")
TRANSPORT = _one_of("transport", (*TRANSPORTS, "relp"))
SEVERITY = _one_of("severity", SEVERITIES)
THRESHOLD = _one_of("threshold", ("none", *SEVERITIES))
FACILITY = _one_of("facility", FACILITIES)
FACILITY_OR_ALL = _one_of("facility-or-all", ("all", *FACILITIES))
COMPARE = _one_of("compare", ("at-least", "exactly"))
OUTPUT = _one_of("output", ("console", "file"))
ACTION = _one_of("action", ("send", "drop"))
STAMP = _one_of("stamp-kind", ("none", "uptime", "calendar"))
PRECISION = _one_of("precision", ("seconds", "milliseconds", "microseconds"))
SHOWN = _one_of("shown", ("hidden", "shown"))
STATE = _one_of("state", ("down", "up"))
NUMBER = ValueType("number", _number)
RATE = ValueType("rate", _rate)
ORIGIN = _one_of("origin", ("none", "address", "name"))
MODE = _one_of("mode", ("batch", "immediate"))
TELL = _one_of("tell", ("none", "open", "close", "both"))
VERDICT = _one_of("gate-action", ("pass", "stop"))
FORMAT = _one_of("format", ("rfc3164", "rfc5424"))
SELECTION = ValueType("selection", _selection)


class Slot(Struct, frozen=True):
    """One slot: its type, and the settings whose verdicts hang on it."""

    name: str
    type: ValueType
    bears_on: tuple[str, ...]
    many: bool = False

    @property
    def table(self) -> str:
        """The table that the slot is a field of; '' for a single value."""
        return table_of(self.name)

    @property
    def field(self) -> str:
        """What the slot is called wherever it may stand: `level` of the device, of a destination, of a feed."""
        return self.name.partition(".")[2] if self.table else self.name.replace(".", "-")


TABLES = ("destination", "pick", "feed", "take", "give", "show", "server", "resolver", "mute", "gate", "interface")


def table_of(slot: str) -> str:
    """The table in a slot's name; '' for a single value."""
    head = slot.partition(".")[0]
    return head if head in TABLES else ""


_PER_DESTINATION = ("collectors", "level", "facility", "format", "source", "trust", "categories", "filters")

_CHAIN = ("level", "categories", "changes", "logins")

SLOTS: Mapping[str, Slot] = {
    slot.name: slot
    for slot in (
        Slot("export", SWITCH, ("export",)),
        Slot("facility", FACILITY, ("facility",)),
        Slot("level", THRESHOLD, ("level",)),
        Slot("format", FORMAT, ("format",)),
        Slot("source.interface", WORD, ("source",)),
        Slot("source.address", ADDRESS, ("source",)),
        Slot("stamp.kind", STAMP, ("stamp",)),
        Slot("stamp.precision", PRECISION, ("stamp",)),
        Slot("stamp.year", SHOWN, ("stamp",)),
        Slot("stamp.zone", SHOWN, ("stamp",)),
        Slot("destination.name", WORD, _PER_DESTINATION),
        Slot("destination.address", HOST, (*_PER_DESTINATION, "resolver")),
        Slot("destination.port", PORT, ("collectors",)),
        Slot("destination.transport", TRANSPORT, ("collectors", "trust")),
        Slot("destination.verify", SWITCH, ("trust",)),
        Slot("destination.peer", WORD, ("trust",)),
        Slot("destination.delivery-queue", NUMBER, ("delivery",)),
        Slot("destination.level", THRESHOLD, ("level",)),
        Slot("destination.facility", FACILITY, ("facility",)),
        Slot("destination.selection", SELECTION, ("level",)),
        Slot("destination.lacks", WORD, ("collectors",)),
        Slot("destination.surely", SELECTION, ("level",)),
        Slot("destination.format", FORMAT, ("format",)),
        Slot("destination.stamp-kind", STAMP, ("stamp",)),
        Slot("destination.stamp-precision", PRECISION, ("stamp",)),
        Slot("destination.stamp-year", SHOWN, ("stamp",)),
        Slot("destination.stamp-zone", SHOWN, ("stamp",)),
        Slot("destination.source-address", ADDRESS, ("source",)),
        Slot("destination.source-interface", WORD, ("source",)),
        Slot("pick.id", WORD, ("level",)),
        Slot("pick.severity", SEVERITY, ("level",)),
        Slot("pick.level", THRESHOLD, ("level",)),
        Slot("pick.facility", FACILITY_OR_ALL, ("level",)),
        Slot("pick.compare", COMPARE, ("level",)),
        Slot("pick.action", ACTION, ("level", "filters")),
        Slot("pick.destination", WORD, ("level",)),
        Slot("feed.name", WORD, _PER_DESTINATION),
        Slot("feed.level", THRESHOLD, ("level",)),
        Slot("feed.facility", FACILITY, ("facility",)),
        Slot("feed.format", FORMAT, ("format",)),
        Slot("feed.source-interface", WORD, ("source",)),
        Slot("feed.source-address", ADDRESS, ("source",)),
        Slot("take.feed", WORD, _CHAIN),
        Slot("take.category", WORD, _CHAIN),
        Slot("take.level", THRESHOLD, _CHAIN),
        Slot("give.feed", WORD, (*_CHAIN, "facility", "source")),
        Slot("give.destination", WORD, (*_CHAIN, "facility", "source")),
        Slot("show.output", OUTPUT, ("console", "file")),
        Slot("show.facility", FACILITY_OR_ALL, ("console", "file")),
        Slot("show.level", THRESHOLD, ("console", "file")),
        Slot("show.compare", COMPARE, ("console", "file")),
        Slot("show.action", ACTION, ("console", "file")),
        Slot("interface.name", WORD, ("source",)),
        Slot("interface.address", INET, ("source",), many=True),
        Slot("interface.state", STATE, ("source",)),
        Slot("interface.inet-state", STATE, ("source",), many=True),
        Slot("interface.inet6-state", STATE, ("source",), many=True),
        Slot("interface.part-state", STATE, ("source",), many=True),
        Slot("interface.plane", WORD, ("source",)),
        Slot("authority", WORD, ("trust",)),
        Slot("unit.name", WORD, ("origin",)),
        Slot("unit.text", WORD, ()),
        Slot("file.name", WORD, ("file",)),
        Slot("origin", ORIGIN, ("origin",)),
        Slot("numbering", SWITCH, ("numbering",)),
        Slot("changes", SWITCH, ("changes",)),
        Slot("logins", SWITCH, ("logins",)),
        Slot("console", THRESHOLD, ("console",)),
        Slot("sessions", THRESHOLD, ("sessions",)),
        Slot("memory.level", THRESHOLD, ("memory",)),
        Slot("memory.size", NUMBER, ("memory",)),
        Slot("file.level", THRESHOLD, ("file",)),
        Slot("file.size", NUMBER, ("file",)),
        Slot("debug-stamp.kind", STAMP, ("debug-stamp",)),
        Slot("debug-stamp.precision", PRECISION, ("debug-stamp",)),
        Slot("rate", RATE, ("rate",)),
        Slot("delivery.mode", MODE, ("delivery",)),
        Slot("delivery.queue", NUMBER, ("delivery",)),
        Slot("clock.zone", WORD, ("clock",)),
        Slot("clock.follows", SWITCH, ("clock",)),
        Slot("server.id", WORD, ("clock",)),
        Slot("server.address", HOST, ("clock",)),
        Slot("resolver.id", WORD, ("resolver",)),
        Slot("resolver.address", ADDRESS, ("resolver",)),
        Slot("mute.id", WORD, ("filters",)),
        Slot("mute.text", WORD, ("filters",)),
        Slot("gate.id", WORD, ("rules",)),
        Slot("gate.action", VERDICT, ("rules",)),
        Slot("gate.tell", TELL, ("rules",)),
        Slot("gate.feed", WORD, ("rules",)),
    )
}

_FIELDS: Mapping[tuple[str, str], str] = {(slot.table, slot.field): slot.name for slot in SLOTS.values()}


def slot_of(field: str, table: str) -> str | None:
    """The slot of a field that stands once (table ''), or in each row of a table; None if there is none."""
    return _FIELDS.get((table, field))


# What slots are also called: their other names, and what is meant.
_ALSO = {
    **dict.fromkeys(("host", "ip", "inet", "server", "hostname"), "address"),
    **dict.fromkeys(("severity", "threshold", "least"), "level"),
    **dict.fromkeys(("protocol", "proto", "carry"), "transport"),
    **dict.fromkeys(("interface", "source"), "source-interface"),
    **dict.fromkeys(("id", "label"), "name"),
}


def unknown_slot(name: str) -> str:
    """What to say of a name that is no slot's: '… is not known', with the likeliest meant."""
    table, _, field = name.rpartition(".")
    meant = f"{table}.{_ALSO.get(field, '')}".lstrip(".")
    if meant in SLOTS:
        return f"'{name}' is not known; did you mean '{meant}'?"
    near = get_close_matches(name, SLOTS, 1)
    same = [slot for slot in SLOTS if table and table_of(slot) == table]
    if near:
        return f"'{name}' is not known; did you mean '{near[0]}'?"
    return (
        f"'{name}' is not known; expected {listed(same)}"
        if same
        else f"'{name}' is not known; see docs/write-a-dialect.md"
    )
