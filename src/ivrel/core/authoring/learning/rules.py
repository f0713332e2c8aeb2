"""The words that identify slots: those that engineers put beside their values."""

from __future__ import annotations

import re
from collections.abc import Iterable

from msgspec import Struct


class SlotRule(Struct, frozen=True):
    """A slot, and the words beside its values that identify it."""

    slot: str
    words: str

    def hints(self, keys: Iterable[str]) -> bool:
        """Whether one of some words announces the slot."""
        return any(re.fullmatch(self.words, word.lower()) for word in keys)


_LEVEL = r"level|severity|least|threshold|through"
_SOURCE = r"source|from|leave-?from|leave|via|bind|origin-?address"
# Single values of the device. The words are those that stand with the value, the nearest first.
SINGLES = (
    SlotRule("export", r"export|active|enabled?|on"),
    SlotRule("facility", r"facility|facil"),
    SlotRule("source.interface", _SOURCE),
    SlotRule("source.address", _SOURCE),
    SlotRule("numbering", r"number|numbers|numbering|sequence|seq"),
    SlotRule("origin", r"tag|origin|hostname|identity"),
    SlotRule("changes", r"changes?|configuration"),
    SlotRule("logins", r"logins?"),
    SlotRule("console", r"console|screen"),
    SlotRule("sessions", r"seats?|sessions?|terminals?"),
    SlotRule("memory.level", r"memory|buffer|ring"),
    SlotRule("memory.size", r"memory|buffer|ring"),
    SlotRule("file.level", r"disk|file|flash"),
    SlotRule("file.size", r"disk|file|flash"),
    SlotRule("rate", r"rate|limit"),
    SlotRule("delivery.mode", r"pace|mode|delivery"),
    SlotRule("delivery.queue", r"queue|backlog"),
    SlotRule("format", r"format|shape|standard"),
    SlotRule("level", _LEVEL),
)
# What stays on the device, and the words beside its values that say no more than their kind.
LOCAL = ("console", "sessions", "memory.level", "memory.size", "file.level", "file.size")
GENERIC = (
    *(SlotRule(slot, _LEVEL) for slot in LOCAL if not slot.endswith("size")),
    *(SlotRule(slot, r"size|room|bytes") for slot in LOCAL if slot.endswith("size")),
)
STAMPS = (
    SlotRule("stamp.kind", r"kind|stamp|stamps|mark|time|type"),
    SlotRule("stamp.precision", r"grain|precision|fraction|resolution"),
    SlotRule("stamp.year", r"year"),
    SlotRule("stamp.zone", r"zone"),
)
DESTINATION = (
    SlotRule("destination.address", r"address|inet|inet6|ip|host|to"),
    SlotRule("destination.port", r"port"),
    SlotRule("destination.transport", r"transport|carry|protocol|over"),
    SlotRule("destination.facility", r"facility|facil"),
    SlotRule("destination.source-address", _SOURCE),
    SlotRule("destination.source-interface", _SOURCE),
    SlotRule("destination.level", _LEVEL),
    SlotRule("destination.format", r"format|form|shape|standard"),
    SlotRule("destination.verify", r"verify|verified|check"),
)
# What a way of messages has, which is a plane of the device.
FEED = (
    SlotRule("feed.level", _LEVEL),
    SlotRule("feed.facility", r"facility|facil"),
    SlotRule("feed.source-interface", _SOURCE),
    SlotRule("feed.source-address", _SOURCE),
    SlotRule("feed.format", r"format|form|shape|standard"),
)
GATE = (
    SlotRule("gate.action", r"act|action|verdict|decision|policy"),
    SlotRule("gate.tell", r"record|log|logs|logging|tell"),
    SlotRule("gate.feed", r"feed|via|by|profile"),
)
ABOUT_STAMPS = re.compile(r"(debug-?)?(time)?(stamps?|marks?)|time-?stamps?|debug")
CLOCK = re.compile(r"clock|time|ntp")
RESOLVER = re.compile(r"names|dns|resolver|lookup")
# Words that are never names of rows, for they tell what follows them.
NEVER_NAMES = re.compile(
    "|".join(rule.words for rule in (*SINGLES, *STAMPS, *DESTINATION))
    + r"|debug|tell|targets?|collectors?|rules?|peers?|servers?"
)
