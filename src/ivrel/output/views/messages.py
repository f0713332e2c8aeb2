"""Messages: one by one in the order of time, counted, or one through every decision."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from datetime import UTC, datetime
from typing import Any

from ivrel.core.attribution.messages import AttributedMessage, MessageGroup
from ivrel.core.evidence.claims import Claim
from ivrel.core.syslog import Departure, section, told
from ivrel.output.views.view import RowsView, View, fields


def iso(when: datetime | None) -> str:
    """Return a time in UTC, as RFC 3339 has it; empty if there is none."""
    if when is None:
        return ""
    return when.astimezone(UTC).isoformat(timespec="milliseconds").replace("+00:00", "Z")


def message_row(seen: AttributedMessage) -> dict[str, Any]:
    """Return a message for machines."""
    record = seen.record
    message = seen.record.message
    return {
        "time": iso(seen.when),
        "device": seen.found.device,
        "sender": record.sender or "",
        "relay": seen.found.relay,
        "transport": record.transport or "",
        "port": record.port,
        "facility": seen.facility,
        "severity": seen.severity,
        "host": message.host or "",
        "app": message.app or "",
        "process": message.process or "",
        "text": message.text,
        "departures": [d.kind for d in message.departures],
        "file": record.file,
        "line": record.line,
    }


# The keys of a message, as `message_row` has them.
SEEN = tuple(
    "time device sender relay transport port facility severity host app process text departures "
    "file line".split()
)


class MessagesView(RowsView, frozen=True, kw_only=True):
    """Messages in one order; `most`: how many a terminal shows, 0 is all; `total`: how many were
    read.
    """

    messages: tuple[AttributedMessage, ...]
    total: int
    most: int = 0

    @property
    def columns(self) -> tuple[str, ...]:
        return SEEN

    def rows(self) -> Iterator[Mapping[str, Any]]:
        return (message_row(seen) for seen in self.messages)


class CountsView(RowsView, frozen=True, kw_only=True):
    """Messages counted by what they have in common, the most first."""

    by: str
    counts: tuple[MessageGroup, ...]
    total: int
    most: int = 0

    @property
    def columns(self) -> tuple[str, ...]:
        return (self.by, "messages", "devices", "first", "last")

    def rows(self) -> Iterator[Mapping[str, Any]]:
        for c in self.counts:
            yield {
                self.by: c.what,
                "messages": c.number,
                "devices": c.devices,
                "first": iso(c.first),
                "last": iso(c.last),
            }


class TraceView(View, frozen=True, kw_only=True):
    """One message through every decision.

    `claims`: the claims of this message alone; `collector`: the one that it went to, '' if that is
    not known.
    """

    seen: AttributedMessage
    claims: tuple[Claim, ...] = ()
    collector: str = ""

    @property
    def departures(self) -> tuple[Departure, ...]:
        """Where the message departs from its standard."""
        return self.seen.record.message.departures

    def machine(self) -> Any:
        record = self.seen.record
        message = self.seen.record.message
        found = self.seen.found
        return {
            **{k: v for k, v in message_row(self.seen).items() if k != "departures"},
            "bytes": len(record.data),
            "framing": record.framing or "",
            "form": message.form,
            "stamp": message.stamp.text,
            "message_id": message.message_id or "",
            "sequence": message.sequence,
            "data": {e.name: dict(e.params) for e in message.data},
            "departures": [
                {"kind": d.kind, "told": told(d), "section": section(d, message.form)}
                for d in self.departures
            ],
            "grade": found.grade,
            "conflict": found.conflict,
            "candidates": [fields(c, "device by value why_not") for c in found.candidates],
            "collector": self.collector,
            "counted": found.is_sure,
            "claims": [fields(c, "setting claim heard wanted rule why") for c in self.claims],
        }
