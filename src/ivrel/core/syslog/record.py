"""Records: messages with how they came, and Ivrel's own form of keeping them.

A recording has a line for each message, a JSON object:

{"received":"2026-11-23T10:00:00.123456Z","sender":"192.0.2.11","port":514,
"transport":"udp","framing":"datagram","text":"<34>Oct 11 22:14:15 ..."}

`base64` is in the place of `text` where the bytes are no UTF-8. `cut` is true where not the whole
message was kept: it is too long, or its stream ended within it.
"""

from __future__ import annotations

from base64 import b64encode
from datetime import UTC, datetime, tzinfo

import msgspec
from msgspec import Struct

from ivrel.core.syslog.message import Message
from ivrel.core.syslog.stamps import moment


class Record(Struct, frozen=True):
    """One message, and how it arrived, according to its record.

    `data`: its bytes; `file`, `line`: the place of the record; `received`: when it came, with a
    zone; `sender`: the address it came from; `port`: the one it came to; `transport`: 'udp', 'tcp'
    or 'tls'; `framing`: how it was framed; `to`: the address it was sent to. What a record does not
    tell is None. `is_cut`: whether the end of the message is missing.
    """

    message: Message
    data: bytes
    file: str
    line: int
    received: datetime | None = None
    sender: str | None = None
    port: int | None = None
    transport: str | None = None
    framing: str | None = None
    to: str | None = None
    is_cut: bool = False

    def when(self, near: datetime, zone: tzinfo = UTC) -> datetime | None:
        """Return when it came, or else the time that it bears; None if neither is known.

        `near`, `zone`: what a stamp without year and zone is near to, and its zone.
        """
        return self.received or moment(self.message.stamp, near, zone)


def kept(record: Record) -> bytes:
    """Return a record as a line of a recording, with its line end."""
    received = record.received.timestamp() if record.received is not None else None
    return kept_line(
        record.data,
        received,
        record.sender,
        record.port,
        record.transport,
        record.framing,
        is_cut=record.is_cut,
    )


def kept_line(
    data: bytes,
    received: float | None,
    sender: str | None,
    port: int | None,
    transport: str | None,
    framing: str | None,
    *,
    is_cut: bool = False,
) -> bytes:
    """Return a message as a line of a recording; `received`: in seconds since 1970."""
    way = (sender, port, transport, framing)
    return RecordingLines().line(data, received, way, is_cut=is_cut)


Way = tuple[str | None, int | None, str | None, str | None]


class RecordingLines:
    """Makes lines of a recording, many of them fast: what senders have in common is made once."""

    MOST_WAYS = 20_000  # that are remembered

    def __init__(self) -> None:
        self._ways: dict[Way, bytes] = {}
        self._second = -1
        self._begin = b""  # of lines of that second

    def line(self, data: bytes, received: float | None, way: Way, *, is_cut: bool = False) -> bytes:
        """Return the line of a message, with its end.

        `received`: in seconds since 1970; `way`: the sender, the port, the transport, the framing.
        """
        middle = self._ways.get(way)
        if middle is None:
            middle = _encoded(way)
            if len(self._ways) < self.MOST_WAYS:
                self._ways[way] = middle
        try:
            text = b'"text":' + msgspec.json.encode(data.decode("utf-8"))
        except UnicodeDecodeError:
            text = b'"base64":"' + b64encode(data) + b'"'
        cut = b'"cut":true,' if is_cut else b""
        return b"{" + self._received(received) + middle + cut + text + b"}\n"

    def _received(self, received: float | None) -> bytes:
        if received is None:
            return b""
        micros = round(received * 1e6)
        second, micro = divmod(micros, 1_000_000)
        if second != self._second:
            self._second = second
            when = datetime.fromtimestamp(second, UTC).isoformat()[:19]
            self._begin = f'"received":"{when}.'.encode()
        return b'%s%06dZ",' % (self._begin, micro)


def _encoded(way: Way) -> bytes:
    names = ("sender", "port", "transport", "framing")
    said = {name: value for name, value in zip(names, way, strict=True) if value is not None}
    return msgspec.json.encode(said)[1:-1] + b"," if said else b""
