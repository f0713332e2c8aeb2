"""Reads one message: which standard it follows, and what it says. It never fails."""

from __future__ import annotations

import re

from msgspec.structs import replace

from ivrel.core.syslog import rfc3164, rfc5424
from ivrel.core.syslog.message import Departure, Message

_PRI = re.compile(r"<([0-9]{1,3})>")
_ENDS = "\r\n\0"


def parse(data: bytes) -> Message:
    """Return the message that some bytes are, with each departure from its standard named.

    RFC 5424, if a version and a stamp follow the PRI; else RFC 3164, which takes anything (section
    4.3.3). What cannot be read is text.
    """
    noted: list[Departure] = []
    text = _decoded(data, noted)
    stripped = text.rstrip(_ENDS)
    if stripped != text:
        noted.append(Departure("ending"))
    if not stripped:
        noted.append(Departure("empty"))
    pri, at = _pri(stripped, noted)
    reads = rfc5424.read if rfc5424.begins(stripped, at) else rfc3164.read
    message = reads(stripped, at, pri, noted)
    if not message.text.isprintable() and any(ord(c) < 32 or ord(c) == 127 for c in message.text):
        message = replace(message, departures=(*message.departures, Departure("control")))
    return message


def _decoded(data: bytes, noted: list[Departure]) -> str:
    """Return bytes as text; each byte that is no UTF-8 is replaced, and noted once."""
    try:
        return data.decode("utf-8")
    except UnicodeDecodeError:
        bom = data.find(b"\xef\xbb\xbf")
        noted.append(Departure("bom-bytes" if bom >= 0 else "not-utf-8"))
        return data.decode("utf-8", "replace")


def _pri(text: str, noted: list[Departure]) -> tuple[int | None, int]:
    """Return the PRI and where the rest begins; None if it is not there, or above 191."""
    found = _PRI.match(text)
    if found is None:
        noted.append(Departure("no-pri"))
        return None, 0
    if len(found[1]) > 1 and found[1].startswith("0"):
        noted.append(Departure("pri-zeros", found[1]))
    if int(found[1]) > 191:
        noted.append(Departure("pri-range", found[1]))
        return None, found.end()
    return int(found[1]), found.end()
