"""The slots of the pattern language: every value that a statement can carry, its type, and what it
bears on.

A slot `table.field` is a field of a row; a slot without a table of its own is a single value of the
device.

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

from collections.abc import Mapping
from difflib import get_close_matches

from msgspec import Struct

from ivrel.core.vocabulary.values import (
    ACTION,
    ADDRESS,
    COMPARE,
    FACILITY,
    FACILITY_OR_ALL,
    FORMAT,
    HOST,
    INET,
    MODE,
    NUMBER,
    ORIGIN,
    OUTPUT,
    PORT,
    PRECISION,
    RATE,
    SELECTION,
    SEVERITY,
    SHOWN,
    STAMP,
    STATE,
    SWITCH,
    TELL,
    THRESHOLD,
    TRANSPORT,
    VERDICT,
    WORD,
    ValueType,
)
from ivrel.core.vocabulary.wording import listed


class Slot(Struct, frozen=True):
    """One slot and its type.

    `many`: a row may say several values of it; `idle`: no setting is about it; `displayed`: only a
    display of a device's present state holds it (`state:` in a dialect).
    """

    name: str
    type: ValueType
    many: bool = False
    idle: bool = False
    displayed: bool = False

    @property
    def table(self) -> str:
        """The table that the slot is a field of; '' for a single value."""
        return table_of(self.name)

    @property
    def field(self) -> str:
        """The name of the slot in each place: `level` of the device, a destination, a feed."""
        return self.name.partition(".")[2] if self.table else self.name.replace(".", "-")


TABLES = (
    "destination",
    "pick",
    "feed",
    "take",
    "give",
    "show",
    "server",
    "resolver",
    "mute",
    "gate",
    "interface",
)


# Tables that are looked up only when a check asks for them: they are long and seldom needed.
LAZY = ("interface", "gate")


def table_of(slot: str) -> str:
    """Return the table in a slot's name; '' for a single value."""
    head = slot.partition(".")[0]
    return head if head in TABLES else ""


SLOTS: Mapping[str, Slot] = {
    slot.name: slot
    for slot in (
        Slot("export", SWITCH),
        Slot("facility", FACILITY),
        Slot("level", THRESHOLD),
        Slot("format", FORMAT),
        Slot("source.interface", WORD),
        Slot("source.address", ADDRESS),
        Slot("source.inet-interface", WORD),
        Slot("source.inet-address", ADDRESS),
        Slot("source.inet6-interface", WORD),
        Slot("source.inet6-address", ADDRESS),
        Slot("stamp.kind", STAMP),
        Slot("stamp.precision", PRECISION),
        Slot("stamp.year", SHOWN),
        Slot("stamp.zone", SHOWN),
        Slot("destination.name", WORD),
        Slot("destination.address", HOST),
        Slot("destination.port", PORT),
        Slot("destination.transport", TRANSPORT),
        Slot("destination.verify", SWITCH),
        Slot("destination.peer", WORD),
        Slot("destination.delivery-queue", NUMBER),
        Slot("destination.level", THRESHOLD),
        Slot("destination.facility", FACILITY),
        Slot("destination.selection", SELECTION),
        Slot("destination.lacks", WORD),
        Slot("destination.surely", SELECTION),
        Slot("destination.format", FORMAT),
        Slot("destination.stamp-kind", STAMP),
        Slot("destination.stamp-precision", PRECISION),
        Slot("destination.stamp-year", SHOWN),
        Slot("destination.stamp-zone", SHOWN),
        Slot("destination.source-address", ADDRESS),
        Slot("destination.source-interface", WORD),
        Slot("pick.id", WORD),
        Slot("pick.severity", SEVERITY),
        Slot("pick.level", THRESHOLD),
        Slot("pick.facility", FACILITY_OR_ALL),
        Slot("pick.compare", COMPARE),
        Slot("pick.action", ACTION),
        Slot("pick.destination", WORD),
        Slot("feed.name", WORD),
        Slot("feed.level", THRESHOLD),
        Slot("feed.facility", FACILITY),
        Slot("feed.format", FORMAT),
        Slot("feed.source-interface", WORD),
        Slot("feed.source-address", ADDRESS),
        Slot("take.feed", WORD),
        Slot("take.category", WORD),
        Slot("take.level", THRESHOLD),
        Slot("give.feed", WORD),
        Slot("give.destination", WORD),
        Slot("show.output", OUTPUT),
        Slot("show.name", WORD),
        Slot("show.facility", FACILITY_OR_ALL),
        Slot("show.level", THRESHOLD),
        Slot("show.compare", COMPARE),
        Slot("show.action", ACTION),
        Slot("interface.name", WORD),
        Slot("interface.address", INET, many=True),
        Slot("interface.state", STATE),
        Slot("interface.inet-state", STATE, many=True),
        Slot("interface.inet6-state", STATE, many=True),
        Slot("interface.part-state", STATE, many=True),
        Slot("interface.plane", WORD),
        Slot("authority", WORD),
        Slot("unit.name", WORD),
        Slot("unit.text", WORD, idle=True),
        Slot("file.name", WORD),
        Slot("origin", ORIGIN),
        Slot("numbering", SWITCH),
        Slot("changes", SWITCH),
        Slot("logins", SWITCH),
        Slot("console", THRESHOLD),
        Slot("sessions", THRESHOLD),
        Slot("memory.level", THRESHOLD),
        Slot("memory.size", NUMBER),
        Slot("file.level", THRESHOLD),
        Slot("file.size", NUMBER),
        Slot("debug-stamp.kind", STAMP),
        Slot("debug-stamp.precision", PRECISION),
        Slot("rate", RATE),
        Slot("delivery.mode", MODE),
        Slot("delivery.queue", NUMBER),
        Slot("clock.zone", WORD),
        Slot("clock.follows", SWITCH),
        Slot("server.id", WORD),
        Slot("server.address", HOST),
        Slot("resolver.id", WORD),
        Slot("resolver.address", ADDRESS),
        Slot("mute.id", WORD),
        Slot("mute.text", WORD),
        Slot("gate.id", WORD),
        Slot("gate.action", VERDICT),
        Slot("gate.tell", TELL),
        Slot("gate.feed", WORD),
        Slot("destination.state", STATE, idle=True, displayed=True),
        Slot("destination.sent", NUMBER, idle=True, displayed=True),
        Slot("destination.dropped", NUMBER, idle=True, displayed=True),
        Slot("destination.waiting", NUMBER, idle=True, displayed=True),
        Slot("destination.error", WORD, idle=True, displayed=True),
        Slot("counted.sent", NUMBER, idle=True, displayed=True),
        Slot("counted.dropped", NUMBER, idle=True, displayed=True),
        Slot("memory.held", NUMBER, idle=True, displayed=True),
    )
}

_FIELDS: Mapping[tuple[str, str], str] = {
    (slot.table, slot.field): slot.name for slot in SLOTS.values()
}


def slot_of(field: str, table: str) -> str | None:
    """Return the slot of a field that occurs once (table ''), or in each row of a table.

    None if there is none.
    """
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
    """Return the message for an unknown slot: '… is not known', with the likeliest one meant."""
    table, _, field = name.rpartition(".")
    meant = f"{table}.{_ALSO.get(field, '')}".lstrip(".")
    if meant in SLOTS:
        return f"'{name}' is not known; did you mean '{meant}'?"
    meant_slots = get_close_matches(name, SLOTS, 1)
    same = [slot for slot in SLOTS if table and table_of(slot) == table]
    if meant_slots:
        return f"'{name}' is not known; did you mean '{meant_slots[0]}'?"
    return (
        f"'{name}' is not known; expected {listed(same)}"
        if same
        else f"'{name}' is not known; see docs/write-a-dialect.md"
    )
