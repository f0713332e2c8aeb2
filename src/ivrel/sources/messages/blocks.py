"""The blocks of pcapng (draft-ietf-opsawg-pcapng): packets of several interfaces, each with a link
layer and a clock of its own.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator
from typing import Protocol

from msgspec import Struct

_SECTION = 0x0A0D0D0A
_INTERFACE = 1
_SIMPLE = 3
_PACKET = 6
_MAGIC = 0x1A2B3C4D
_RESOLUTION, _OFFSET = 9, 14  # options of an interface (section 4.2)
# The first bytes of captures: pcap with either byte order and resolution, and pcapng.
MAGICS = (
    b"\xa1\xb2\xc3\xd4",
    b"\xd4\xc3\xb2\xa1",
    b"\xa1\xb2\x3c\x4d",
    b"\x4d\x3c\xb2\xa1",
    b"\x0a\x0d\x0d\x0a",
)
LARGEST = 1024 * 1024  # bytes of a block


class Reads(Protocol):
    """Gives bytes; fewer than were asked for only at the end."""

    def read(self, size: int) -> bytes:
        """Return so many bytes."""


class _Interface(Struct, frozen=True):
    link: int
    ticks: float  # a second
    offset: int  # seconds


def packets(file: Reads) -> Iterator[tuple[float, bytes, int]]:
    """Yield when each packet was taken, in seconds since 1970, its bytes, and its link layer.

    ValueError if a block is none.
    """
    interfaces: list[_Interface] = []
    order = "<"
    while head := file.read(8):
        kind, size = struct.unpack(f"{order}II", head)
        if kind == _SECTION:  # a palindrome, as it tells the order of bytes only then
            magic = file.read(4)
            order = "<" if struct.unpack("<I", magic)[0] == _MAGIC else ">"
            size = struct.unpack(f"{order}I", head[4:])[0]
            file.read(_rest(size, 12))
            interfaces = []
            continue
        body = file.read(_rest(size, 8))[:-4]
        if kind == _INTERFACE:
            interfaces.append(_interface(body, order))
        elif kind == _PACKET:
            number, high, low, held = struct.unpack(f"{order}IIII", body[:16])
            if number >= len(interfaces):
                raise ValueError(f"a packet is of interface {number}, which is not described")
            one = interfaces[number]
            yield one.offset + (high << 32 | low) / one.ticks, body[20 : 20 + held], one.link
        elif kind == _SIMPLE and interfaces:  # which tells no time
            yield 0.0, body[4:], interfaces[0].link


def _rest(size: int, taken: int) -> int:
    """Return how many bytes of a block are still to come."""
    if size % 4 or not taken + 4 <= size <= LARGEST:
        raise ValueError(f"it tells of a block of {size} bytes")
    return size - taken


def _interface(body: bytes, order: str) -> _Interface:
    link = struct.unpack(f"{order}H", body[:2])[0]
    ticks = 1e6
    offset = 0
    at = 8
    while at + 4 <= len(body):
        code, length = struct.unpack(f"{order}HH", body[at : at + 4])
        value = body[at + 4 : at + 4 + length]
        if code == _RESOLUTION and value:
            power = value[0] & 0x7F
            ticks = float(2**power if value[0] & 0x80 else 10**power)
        elif code == _OFFSET and length == 8:
            offset = struct.unpack(f"{order}q", value)[0]
        at += 4 + length + -length % 4
    return _Interface(link, ticks, offset)
