"""The words by which slots are known: those that engineers put beside their values."""

from __future__ import annotations

import re
from collections.abc import Iterable

from msgspec import Struct


class Rule(Struct, frozen=True):
    """A slot, and the words beside its values by which it is known."""

    slot: str
    words: str

    def hints(self, keys: Iterable[str]) -> bool:
        """Whether one of some words tells of the slot."""
        return any(re.fullmatch(self.words, word.lower()) for word in keys)


_LEVEL = r"level|severity|least|threshold|through"
_SOURCE = r"source|from|leave-?from|leave|via|bind|origin-?address"
# Single values of the device. The words are those that stand with the value, the nearest first.
SINGLES = (
    Rule("export", r"export|active|enabled?|on"),
    Rule("facility", r"facility|facil"),
    Rule("source.interface", _SOURCE),
    Rule("source.address", _SOURCE),
    Rule("numbering", r"number|numbers|numbering|sequence|seq"),
    Rule("origin", r"tag|origin|hostname|identity"),
    Rule("changes", r"changes?|configuration"),
    Rule("logins", r"logins?"),
    Rule("console", r"console|screen"),
    Rule("sessions", r"seats?|sessions?|terminals?"),
    Rule("memory.level", r"memory|buffer|ring"),
    Rule("memory.size", r"memory|buffer|ring"),
    Rule("file.level", r"disk|file|flash"),
    Rule("file.size", r"disk|file|flash"),
    Rule("rate", r"rate|limit"),
    Rule("delivery.mode", r"pace|mode|delivery"),
    Rule("delivery.queue", r"queue|backlog"),
    Rule("format", r"format|shape|standard"),
    Rule("level", _LEVEL),
)
# What stays on the device, and the words beside its values that say no more than their kind.
LOCAL = ("console", "sessions", "memory.level", "memory.size", "file.level", "file.size")
GENERIC = (
    *(Rule(slot, _LEVEL) for slot in LOCAL if not slot.endswith("size")),
    *(Rule(slot, r"size|room|bytes") for slot in LOCAL if slot.endswith("size")),
)
STAMPS = (
    Rule("stamp.kind", r"kind|stamp|stamps|mark|time|type"),
    Rule("stamp.precision", r"grain|precision|fraction|resolution"),
    Rule("stamp.year", r"year"),
    Rule("stamp.zone", r"zone"),
)
DESTINATION = (
    Rule("destination.address", r"address|inet|inet6|ip|host|to"),
    Rule("destination.port", r"port"),
    Rule("destination.transport", r"transport|carry|protocol|over"),
    Rule("destination.facility", r"facility|facil"),
    Rule("destination.source-address", _SOURCE),
    Rule("destination.source-interface", _SOURCE),
    Rule("destination.level", _LEVEL),
    Rule("destination.format", r"format|form|shape|standard"),
    Rule("destination.verify", r"verify|verified|check"),
)
# What a way of messages has, which is a plane of the device.
FEED = (
    Rule("feed.level", _LEVEL),
    Rule("feed.facility", r"facility|facil"),
    Rule("feed.source-interface", _SOURCE),
    Rule("feed.source-address", _SOURCE),
    Rule("feed.format", r"format|form|shape|standard"),
)
GATE = (
    Rule("gate.action", r"act|action|verdict|decision|policy"),
    Rule("gate.tell", r"record|log|logs|logging|tell"),
    Rule("gate.feed", r"feed|via|by|profile"),
)
ABOUT_STAMPS = re.compile(r"(debug-?)?(time)?(stamps?|marks?)|time-?stamps?|debug")
CLOCK = re.compile(r"clock|time|ntp")
RESOLVER = re.compile(r"names|dns|resolver|lookup")
# Words that are never names of rows, for they tell what stands behind them.
NEVER_NAMES = re.compile(
    "|".join(rule.words for rule in (*SINGLES, *STAMPS, *DESTINATION))
    + r"|debug|tell|targets?|collectors?|rules?|peers?|servers?"
)
