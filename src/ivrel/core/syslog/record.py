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
from typing import Any

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
    said: dict[str, Any] = {}
    if received is not None:
        when = datetime.fromtimestamp(received, UTC).isoformat(timespec="microseconds")
        said["received"] = f"{when[:-6]}Z"
    way = (("sender", sender), ("port", port), ("transport", transport), ("framing", framing))
    said |= {name: value for name, value in way if value is not None}
    if is_cut:
        said["cut"] = True
    try:
        said["text"] = data.decode("utf-8")
    except UnicodeDecodeError:
        said["base64"] = b64encode(data).decode()
    return msgspec.json.encode(said) + b"\n"
