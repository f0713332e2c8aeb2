"""Packet captures, pcap and pcapng: the messages in datagrams, and in streams put together again.

Link layers: Ethernet and Linux cooked (both versions) with VLANs, raw IP, loopback. What is held of
fragments and streams is bounded, whatever a capture holds. What cannot be put together is counted
and reported, and nothing is made of its pieces.
"""

from __future__ import annotations

import re
import struct
from collections import OrderedDict
from collections.abc import Callable, Iterator, Mapping
from datetime import UTC, datetime
from ipaddress import ip_address
from typing import Any, BinaryIO

import dpkt

from ivrel.core.syslog import COUNTED, DATAGRAM, LINE, Frame, Frames, parse
from ivrel.core.syslog.record import Record
from ivrel.core.vocabulary.errors import Unreadable
from ivrel.sources.messages.blocks import LARGEST, MAGICS, packets

_PCAPNG = MAGICS[-1]
MOST_STREAMS = 10_000
MOST_HELD = 64
MOST_FRAGMENTS = 1000
_PORTS = (514, 601, 6514)
# What a message, or a counted one, begins with; on other ports nothing else is taken for one.
_BEGINS = re.compile(rb"(?:[1-9][0-9]{0,5} )?<[0-9]{1,3}>")
_TLS = re.compile(rb"\x16\x03[\x00-\x04]")
_COUNTED = re.compile(rb"([1-9][0-9]{0,5}) <[0-9]{1,3}>")
_VLANS = (0x8100, 0x88A8, 0x9100)

_KNOWN = "Ethernet, Linux cooked, raw IP or loopback"
_LINKS: Mapping[int, Callable[[bytes], Any]] = {
    0: dpkt.loopback.Loopback,
    1: dpkt.ethernet.Ethernet,
    108: dpkt.loopback.Loopback,
    113: lambda data: _Cooked(dpkt.sll.SLL(data)),
    276: lambda data: _Cooked(dpkt.sll2.SLL2(data)),
    **dict.fromkeys((12, 14, 101, 228, 229), lambda data: _Raw(data)),
}


class _Raw:
    """A packet without a link layer."""

    def __init__(self, data: bytes) -> None:
        self.data = dpkt.ip6.IP6(data) if data[:1] >= b"\x60" else dpkt.ip.IP(data)


class _Cooked:
    """A packet of Linux cooked, without the VLANs around it."""

    def __init__(self, link: Any) -> None:
        kind = link.ethtype
        self.data = link.data
        while kind in _VLANS and len(self.data) >= 4:
            kind = int.from_bytes(self.data[2:4], "big")
            inner = self.data[4:]
            self.data = _Raw(inner).data if kind in (0x0800, 0x86DD) else inner


class Capture:
    """The messages of one capture; `shown`: what it is called.

    `remarks`: what was passed over, once it has been gone through.
    """

    def __init__(self, file: BinaryIO, shown: str) -> None:
        self.shown = shown
        self._file = file
        self._streams: OrderedDict[tuple[bytes, int, bytes, int], _Stream] = OrderedDict()
        self._fragments: OrderedDict[object, dict[int, bytes]] = OrderedDict()
        self._unknown: dict[int, int] = {}  # packets, by a link layer that is not known
        self._damaged = self._encrypted = self._gaps = self._partial = self._open = 0

    def __iter__(self) -> Iterator[Record]:
        """Yield the messages in the order of the packets that make them whole."""
        number = 0
        try:
            when = datetime.fromtimestamp(0, UTC)
            for seconds, data, kind in self._packets():
                number += 1
                when = datetime.fromtimestamp(seconds, UTC)
                link = _LINKS.get(kind)
                if link is not None:
                    yield from self._packet(link, data, number, when)
                else:
                    self._unknown[kind] = self._unknown.get(kind, 0) + 1
        except (
            struct.error,
            dpkt.UnpackError,
            ValueError,
            OverflowError,
            OSError,
            EOFError,
        ) as problem:
            self._end()
            said = str(problem).strip() or type(problem).__name__
            raise Unreadable(f"{self.shown}: damaged behind packet {number}: {said}") from None
        for key, stream in self._streams.items():
            yield from self._framed(stream, key, self._ended(stream), number, when)
        self._partial += len(self._fragments)
        self._fragments.clear()

    def _packets(self) -> Iterator[tuple[float, bytes, int]]:
        """Yield when each packet was taken, its bytes, and its link layer."""
        file = _Bounded(self._file)
        if self._file.peek(4)[:4] == _PCAPNG:  # type: ignore[attr-defined]
            yield from packets(file)
            return
        reader = dpkt.pcap.Reader(file)
        for seconds, data in reader:
            yield float(seconds), data, reader.datalink()

    def _end(self) -> None:
        self._streams.clear()

    @property
    def remarks(self) -> Iterator[str]:
        """What was passed over, in words."""
        for kind, number in sorted(self._unknown.items()):
            of = "1 packet" if number == 1 else f"{number:,} packets"
            said = f"the link layer of {of}, type {kind}, is not known; expected {_KNOWN}"
            yield f"{self.shown}: {said}"
        for number, said in (
            (self._damaged, "packets are damaged, or cut by the capture"),
            (self._encrypted, "streams are encrypted"),
            (self._gaps, "streams have gaps, where messages may be lost"),
            (self._open, "streams end within a message, which is left out"),
            (self._partial, "fragmented packets are not whole"),
        ):
            if number:
                yield f"{self.shown}: {number} {said}"

    def _packet(
        self, link: Callable[[bytes], Any], data: bytes, number: int, when: datetime
    ) -> Iterator[Record]:
        try:
            found = self._unfragmented(link(data).data)
        except (dpkt.UnpackError, IndexError, ValueError):
            self._damaged += 1
            return
        if found is None:
            return
        packet, payload = found
        if isinstance(payload, dpkt.udp.UDP):
            if len(payload.data) + 8 < payload.ulen:
                self._damaged += 1
            elif payload.dport in _PORTS or _BEGINS.match(payload.data):
                body = bytes(payload.data)
                yield self._record(body, packet, payload, "udp", DATAGRAM, number, when)
        elif isinstance(payload, dpkt.tcp.TCP):
            yield from self._segment(packet, payload, number, when)

    def _unfragmented(self, packet: Any) -> tuple[Any, Any] | None:
        """Return an IP packet and what it holds; None as long as it is not whole."""
        if isinstance(packet, dpkt.ip.IP):
            part = (packet.offset * 8, bool(packet.mf), packet.id, packet.p)
        elif isinstance(packet, dpkt.ip6.IP6):
            header = packet.extension_hdrs.get(dpkt.ip.IP_PROTO_FRAGMENT)
            if header is None:
                return packet, packet.data
            part = (header.frag_off * 8, bool(header.m_flag), header.id, header.nxt)
        else:
            return None
        offset, more, name, protocol = part
        if not offset and not more:
            return packet, packet.data
        key = (packet.src, packet.dst, name, protocol)
        pieces = self._fragments.setdefault(key, {})
        pieces[offset] = bytes(packet.data)
        if not more:
            pieces[-1] = b""  # the last one is there
        whole = b""
        for at in sorted(at for at in pieces if at >= 0):
            if at != len(whole):
                break
            whole += pieces[at]
        if -1 not in pieces or len(whole) != sum(map(len, pieces.values())):
            while len(self._fragments) > MOST_FRAGMENTS:
                self._fragments.popitem(last=False)
                self._partial += 1
            return None
        del self._fragments[key]
        known = {dpkt.ip.IP_PROTO_UDP: dpkt.udp.UDP, dpkt.ip.IP_PROTO_TCP: dpkt.tcp.TCP}
        return (packet, known[protocol](whole)) if protocol in known else None

    def _segment(self, packet: Any, part: Any, number: int, when: datetime) -> Iterator[Record]:
        """Take a segment of a stream; yield the messages that it makes whole."""
        key = (packet.src, part.sport, packet.dst, part.dport)
        begins = bool(part.flags & dpkt.tcp.TH_SYN)
        if _is_cut(packet, part):
            self._damaged += 1
        stream = self._streams.get(key)
        if stream is not None and begins and not stream.is_begun_at(part.seq + 1):
            # The ports are used again: another connection, whether or not the end was seen.
            yield from self._framed(stream, key, self._ended(stream), number, when)
            del self._streams[key]
            stream = None
        if stream is None:
            if not begins and not part.data:
                return
            stream = self._streams[key] = _Stream((part.seq + begins) & 0xFFFFFFFF, begins)
            while len(self._streams) > MOST_STREAMS:
                self._streams.popitem(last=False)
        frames = self._taken(stream, stream.taken(part.seq, bytes(part.data)), part.dport)
        if part.flags & (dpkt.tcp.TH_FIN | dpkt.tcp.TH_RST):
            end = part.seq + len(part.data)
            frames += self._ended(stream, None if part.flags & dpkt.tcp.TH_RST else end)
            del self._streams[key]
        yield from self._framed(stream, key, frames, number, when)

    def _taken(self, stream: _Stream, pieces: list[_Piece], port: int) -> list[Frame]:
        """Return the frames that pieces of a stream make whole; behind a gap, from the first place
        on where a message surely begins.
        """
        frames: list[Frame] = []
        for data, is_behind_gap in pieces:
            if stream.is_one is None:
                # Its first bytes show whether a stream carries messages.
                stream.is_one = port in _PORTS or _BEGINS.match(data) is not None
                if _TLS.match(data):
                    stream.is_one = False
                    self._encrypted += port in _PORTS
            if is_behind_gap:
                self._gaps += not stream.has_gaps
                stream.has_gaps = True
                stream.lose_place()
            if stream.is_one:
                frames += stream.framed(data)
        return frames

    def _ended(self, stream: _Stream, end: int | None = None) -> list[Frame]:
        """Return the last frames of a stream; `end`: the number behind its last byte, if it is
        known.
        """
        frames = self._taken(stream, stream.rest(), 0)
        if stream.is_one and not stream.is_complete(end):
            self._gaps += not stream.has_gaps
            return frames
        rest = stream.frames.close() if stream.is_one else []
        if rest and end is None:
            # Nothing shows that its last message is whole.
            self._open += 1
            return frames
        return [*frames, *rest]

    def _framed(
        self, stream: _Stream, key: Any, frames: Any, number: int, when: datetime
    ) -> Iterator[Record]:
        source, _, target, port = key
        for frame in frames if stream.is_one else ():
            yield Record(
                parse(frame.data), frame.data, self.shown, number, when,
                str(ip_address(source)), port, "tcp", frame.framing, str(ip_address(target)),
            )  # fmt: skip

    def _record(
        self, data: bytes, packet: Any, part: Any, transport: str, framing: str, number: int,
        when: datetime,
    ) -> Record:  # fmt: skip
        return Record(
            parse(data), data, self.shown, number, when, str(ip_address(packet.src)),
            part.dport, transport, framing, str(ip_address(packet.dst)),
        )  # fmt: skip


_Piece = tuple[bytes, bool]  # bytes of a stream, and whether some are missing before them


def _is_cut(packet: Any, part: Any) -> bool:
    """Whether the capture holds only the beginning of a segment."""
    if not isinstance(packet, dpkt.ip.IP) or not packet.len or packet.mf or packet.offset:
        return False
    return bool(len(part.data) < packet.len - packet.hl * 4 - part.off * 4)


class _Stream:
    """One direction of a TCP connection, put together again (RFC 9293 section 3.4).

    `begin`: the number of its first byte; `is_whole`: whether its beginning was seen.
    """

    def __init__(self, begin: int, is_whole: bool) -> None:
        self.frames = Frames()
        self.is_one: bool | None = None  # whether it carries messages; None as long as that is open
        self.has_gaps = False
        self._has_place = is_whole  # whether it is known where messages begin
        self._framing = ""  # of the last message
        self._begin = self._next = begin
        self._held: dict[int, bytes] = {}

    def is_begun_at(self, begin: int) -> bool:
        """Whether the stream began with the byte of this number."""
        return self._begin == begin & 0xFFFFFFFF

    def is_complete(self, end: int | None) -> bool:
        """Whether nothing is missing before the byte of this number; None: as far as is known."""
        return not self._held and (end is None or (end & 0xFFFFFFFF) == self._next)

    def taken(self, seq: int, data: bytes) -> list[_Piece]:
        """Take a segment; return what now follows on."""
        ahead = (seq - self._next) & 0xFFFFFFFF
        if ahead >= 1 << 31:  # it begins with what was there already
            data = data[(1 << 32) - ahead :]
            ahead = 0
        if data:
            at = (self._next + ahead) & 0xFFFFFFFF
            if len(data) > len(self._held.get(at, b"")):
                self._held[at] = data
        # What is missing will not come any more: the stream goes on behind the gap.
        is_behind_gap = len(self._held) > MOST_HELD
        return self._following(is_behind_gap)

    def rest(self) -> list[_Piece]:
        """Return what is held behind gaps: nothing more will come."""
        out: list[_Piece] = []
        while self._held:
            out += self._following(is_behind_gap=self._next not in self._held)
        return out

    def _following(self, is_behind_gap: bool) -> list[_Piece]:
        if is_behind_gap:
            self._next = min(self._held, key=lambda at: (at - self._next) & 0xFFFFFFFF)
        out = bytearray()
        while self._next in self._held:
            piece = self._held.pop(self._next)
            out += piece
            self._next = (self._next + len(piece)) & 0xFFFFFFFF
        return [(bytes(out), is_behind_gap)] if out else []

    def lose_place(self) -> None:
        """Forget the message that was on its way: a part of it is missing."""
        self.frames = Frames()
        self._has_place = False

    def framed(self, data: bytes) -> list[Frame]:
        """Return the frames that bytes make whole."""
        if not self._has_place:
            at = self._place(data)
            if at is None:
                return []
            data = data[at:]
            self._has_place = True
        frames = self.frames.feed(data)
        self._framing = frames[-1].framing if frames else self._framing
        return frames

    def _place(self, data: bytes) -> int | None:
        """Return where a message begins in bytes from the middle of a stream; None if that is not
        sure.
        """
        if _BEGINS.match(data):
            return 0  # senders write whole messages, so that most segments begin with one
        if self._framing != LINE:
            for found in _COUNTED.finditer(data):
                end = found.start(1) + len(found[1]) + 1 + int(found[1])
                if end == len(data) or _COUNTED.match(data, end):
                    return found.start()
        end = data.find(b"\n")
        return end + 1 if self._framing != COUNTED and end >= 0 else None


class _Bounded:
    """A file that never reads very much at once, whatever a damaged length says."""

    def __init__(self, file: BinaryIO) -> None:
        self._file = file

    def read(self, size: int) -> bytes:
        if not 0 <= size <= LARGEST:
            raise ValueError(f"it tells of a packet of {size} bytes")
        data = self._file.read(size)
        # The library does not tell a packet that ends too early from one that is short.
        if 0 < len(data) < size:
            raise EOFError("it ends too early")
        return data
