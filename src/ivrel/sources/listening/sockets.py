"""Sockets that messages come in by: UDP, TCP, and TLS over TCP.

Nothing is ever answered. What a sender can make this program hold is bounded: a datagram at a time,
of each stream one message, and as many streams as leave room for the files of this program. When
there are too many, the sender that has most of them loses the one that is idle for longest; none
loses one to a sender that has as many.
"""

from __future__ import annotations

import asyncio
import contextlib
import os
import resource
import socket
import ssl
import struct
import time
from collections import Counter
from collections.abc import Callable, Sequence
from pathlib import Path

from msgspec import Struct

from ivrel.core.syslog.framing import DATAGRAM, Frame, Frames
from ivrel.core.vocabulary.errors import InputError
from ivrel.sources.files import reason

RECEIVE_BUFFER = 8 * 1024 * 1024  # bytes that the system is asked to hold of each UDP socket
_SO_RXQ_OVFL = 40  # socket(7): how many datagrams the system dropped; Linux only
_AT_ONCE = 512  # datagrams that are taken before other sockets have their turn
_READ = 64 * 1024
_HANDSHAKE = 20.0  # seconds
_RESERVE = 64  # descriptors for recordings, sockets, and connections that are refused
_IDLE = 1.0  # seconds without a byte, after which a stream may make room for another
# A peer that has gone without a word is found after about five minutes.
_KEEPALIVE = {"TCP_KEEPIDLE": 120, "TCP_KEEPINTVL": 30, "TCP_KEEPCNT": 6}


class ListenPort(Struct, frozen=True):
    """A transport and a port to listen on: 'udp', 'tcp' or 'tls'."""

    transport: str
    port: int


class ListenCounts:
    """What was counted while listening; `dropped`: datagrams that the system dropped before they
    were read, `shortened`: messages that were too long, `cut`: streams that ended within one,
    `refused`: connections beyond the most, `ended`: idle ones that made room for others, `failed`:
    handshakes of TLS.
    """

    def __init__(self) -> None:
        self.received = self.dropped = self.shortened = self.cut = 0
        self.refused = self.ended = self.failed = 0


class _Stream:
    """A stream that is open: from whom, when its last byte came, and how it is ended."""

    def __init__(self, sender: str, writer: asyncio.StreamWriter, now: float) -> None:
        self.sender = sender
        self.writer = writer
        self.spoke = now


# Takes a frame, the address of its sender, and the way that it came.
Take = Callable[[Frame, str, ListenPort], None]


class Sockets:
    """The sockets of one call of `listen`; each frame is handed on as it comes."""

    MOST_STREAMS = 2000

    def __init__(
        self,
        take: Take,
        counts: ListenCounts,
        context: ssl.SSLContext | None = None,
        noticed: Callable[[str, str], None] = lambda what, sender: None,
    ) -> None:
        self._noticed = noticed
        self._most = min(self.MOST_STREAMS, _descriptors() - _RESERVE)
        self._take = take
        self._counts = counts
        self._context = context
        self._datagrams: list[tuple[socket.socket, ListenPort]] = []
        self._servers: list[asyncio.Server] = []
        self._streams: dict[asyncio.Task[None], _Stream] = {}
        self._dropped: dict[int, int] = {}
        self._buffer = bytearray(65536)
        self.buffers: list[int] = []  # bytes that the system holds of each UDP socket
        self.ways: list[
            ListenPort
        ] = []  # with the port that the system chose, where 0 was asked for

    async def open(self, ways: Sequence[ListenPort], addresses: Sequence[str]) -> None:
        """Open a socket for each way on each address; InputError tells why one cannot be."""
        for way in ways:
            for address in addresses:
                try:
                    await self._open(way, address)
                except OSError as problem:
                    # A system without IPv6 listens on what it has.
                    if address == "::" and "0.0.0.0" in addresses and problem.errno in _NO_FAMILY:
                        continue
                    where = f"[{address}]" if ":" in address else address
                    said = f"cannot listen on {where} {way.transport} {way.port}: {_why(problem)}"
                    raise InputError(said) from None

    async def _open(self, way: ListenPort, address: str) -> None:
        if way.transport == "udp":
            self._open_datagrams(way, address)
            return
        found = socket.socket(_family(address), socket.SOCK_STREAM)
        found.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        _bind(found, address, way.port)
        way = ListenPort(way.transport, found.getsockname()[1])
        self.ways.append(way)

        async def serve(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
            await self._serve(way, reader, writer)

        server = await asyncio.start_server(serve, sock=found, limit=_READ)
        self._servers.append(server)

    def _open_datagrams(self, way: ListenPort, address: str) -> None:
        found = socket.socket(_family(address), socket.SOCK_DGRAM)
        found.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, RECEIVE_BUFFER)
        with contextlib.suppress(OSError):  # elsewhere drops cannot be counted so
            found.setsockopt(socket.SOL_SOCKET, _SO_RXQ_OVFL, 1)
        _bind(found, address, way.port)
        found.setblocking(False)
        self.buffers.append(found.getsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF))
        way = ListenPort(way.transport, found.getsockname()[1])
        self.ways.append(way)
        self._datagrams.append((found, way))
        asyncio.get_running_loop().add_reader(found, self._readable, found, way)

    def _readable(self, found: socket.socket, way: ListenPort, most: int = _AT_ONCE) -> None:
        """Take the datagrams that are there."""
        take = self._take
        counts = self._counts
        buffer = self._buffer
        view = memoryview(buffer)
        try:
            # The first of a batch bears how many were dropped so far; to ask for it takes longer.
            data, ancillary, _, sender = found.recvmsg(65536, 64)
            for level, kind, value in ancillary:
                if level == socket.SOL_SOCKET and kind == _SO_RXQ_OVFL and len(value) == 4:
                    self._count_dropped(found, struct.unpack("@I", value)[0])
            counts.received += 1
            take(Frame(data, DATAGRAM), _plain(sender[0]), way)
            for _ in range(most - 1):
                size, sender = found.recvfrom_into(buffer)
                counts.received += 1
                take(Frame(bytes(view[:size]), DATAGRAM), _plain(sender[0]), way)
        except OSError:
            return  # nothing more is there; or an error of another datagram, which comes here

    def _count_dropped(self, found: socket.socket, total: int) -> None:
        """Take the number of all datagrams that the system dropped of a socket so far."""
        before = self._dropped.get(id(found), 0)
        self._counts.dropped += max(total - before, 0)
        self._dropped[id(found)] = total

    async def _serve(
        self, way: ListenPort, reader: asyncio.StreamReader, writer: asyncio.StreamWriter
    ) -> None:
        """Take the messages of one stream until it ends."""
        task = asyncio.current_task()
        peer = writer.get_extra_info("peername")
        if task is None or peer is None:
            writer.close()
            return
        sender = _plain(peer[0])
        if len(self._streams) >= self._most and not self._has_made_room(sender):
            self._counts.refused += 1
            self._noticed("refused", sender)
            writer.close()
            return
        _keep_alive(writer)
        stream = self._streams[task] = _Stream(sender, writer, time.monotonic())
        frames = Frames()
        try:
            if way.transport == "tls" and not await self._is_trusted(writer):
                return
            while data := await reader.read(_READ):
                stream.spoke = time.monotonic()
                self._taken(frames.feed(data), sender, way)
        except (OSError, asyncio.CancelledError):
            pass  # it was reset, or this program ends: what came whole has been taken
        finally:
            self._taken(frames.close(), sender, way)
            self._streams.pop(task, None)
            writer.close()

    def _has_made_room(self, sender: str) -> bool:
        """End the stream that is idle for longest, of the sender that has most; False if none is
        idle.

        sender: who wants the room. Another sender that has no more streams than it loses none.
        """
        number = Counter(stream.sender for stream in self._streams.values())
        idle = time.monotonic() - _IDLE
        some = [
            (task, stream)
            for task, stream in self._streams.items()
            if stream.spoke < idle
            and (stream.sender == sender or number[stream.sender] > number[sender])
        ]
        if not some:
            return False
        task, stream = min(some, key=lambda one: (-number[one[1].sender], one[1].spoke))
        self._counts.ended += 1
        self._noticed("ended", stream.sender)
        del self._streams[task]
        task.cancel()
        return True

    async def _is_trusted(self, writer: asyncio.StreamWriter) -> bool:
        """Speak TLS on a stream; say whether both sides agree to."""
        assert self._context is not None
        try:
            await writer.start_tls(self._context, ssl_handshake_timeout=_HANDSHAKE)
        except OSError:  # also what TLS itself has against the other side
            self._counts.failed += 1
            return False
        return True

    def _taken(self, frames: Sequence[Frame], sender: str, way: ListenPort) -> None:
        for frame in frames:
            self._counts.received += 1
            self._counts.shortened += frame.dropped > 0
            self._counts.cut += frame.cut
            self._take(frame, sender, way)

    async def close(self) -> None:
        """Stop listening; what the system has received already is taken first."""
        loop = asyncio.get_running_loop()
        for found, way in self._datagrams:
            loop.remove_reader(found)
            self._readable(found, way, 1_000_000)
            # Datagrams carry the number of those dropped before them, so that of drops behind the
            # last one only the system itself tells.
            self._count_dropped(found, _drops(found))
            found.close()
        for server in self._servers:
            server.close()
        for task in list(self._streams):
            task.cancel()
        await asyncio.gather(*self._streams, return_exceptions=True)


def _descriptors() -> int:
    """Return how many files this process may have open, as many as it may ask for."""
    soft, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    wanted = Sockets.MOST_STREAMS + _RESERVE
    if soft < wanted and (hard == resource.RLIM_INFINITY or hard > soft):
        more = wanted if hard == resource.RLIM_INFINITY else min(wanted, hard)
        with contextlib.suppress(OSError, ValueError):
            resource.setrlimit(resource.RLIMIT_NOFILE, (more, hard))
            soft = more
    return soft


def _keep_alive(writer: asyncio.StreamWriter) -> None:
    found = writer.get_extra_info("socket")
    with contextlib.suppress(OSError, AttributeError):  # not all systems have all of them
        found.setsockopt(socket.SOL_SOCKET, socket.SO_KEEPALIVE, 1)
        for name, value in _KEEPALIVE.items():
            found.setsockopt(socket.IPPROTO_TCP, getattr(socket, name), value)


_NO_FAMILY = (97, 99)  # address family not supported; cannot assign the address


def _drops(found: socket.socket) -> int:
    """Return how many datagrams Linux dropped of a socket in all; 0 where it does not tell."""
    inode = str(os.fstat(found.fileno()).st_ino)
    for name in ("udp", "udp6"):
        try:
            lines = Path("/proc/net", name).read_text().splitlines()
        except OSError:
            continue
        for words in map(str.split, lines):
            if len(words) > 12 and words[9] == inode and words[12].isdigit():
                return int(words[12])
    return 0


def _family(address: str) -> socket.AddressFamily:
    return socket.AF_INET6 if ":" in address else socket.AF_INET


def _bind(found: socket.socket, address: str, port: int) -> None:
    if found.family == socket.AF_INET6:
        # IPv4 has a socket of its own: senders keep the addresses that they have.
        found.setsockopt(socket.IPPROTO_IPV6, socket.IPV6_V6ONLY, 1)
    try:
        found.bind((address, port))
    except OSError:
        found.close()
        raise


def _plain(address: str) -> str:
    """Return an address without the zone of a link (RFC 4007 section 11)."""
    return address.partition("%")[0]


def _why(problem: OSError) -> str:
    said = reason(problem)
    if problem.errno == 13:
        return f"{said}; ports below 1024 need a right that this user lacks"
    return said


def tls_context(certificate: Path, key: Path | None, clients: Path | None) -> ssl.SSLContext:
    """Return the TLS context: 1.2 or newer, with a certificate; `clients`: the authority that must
    have signed clients' certificates.
    """
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.minimum_version = ssl.TLSVersion.TLSv1_2
    # A client that closes without reading its tickets would reset the connection, and what this
    # side has not read yet would be lost.
    context.num_tickets = 0
    try:
        context.load_cert_chain(certificate, key)
    except ssl.SSLError as problem:
        said = "they do not belong together" if "MISMATCH" in str(problem) else "no PEM of one"
        shown = f"--certificate {certificate}, --key {key or certificate}"
        raise InputError(f"{shown}: {said}") from None
    except OSError as problem:
        raise InputError(f"--certificate {certificate}: {reason(problem)}") from None
    if clients is not None:
        try:
            context.load_verify_locations(clients)
        except (ssl.SSLError, OSError) as problem:
            said = "no PEM of one" if isinstance(problem, ssl.SSLError) else reason(problem)
            raise InputError(f"--clients {clients}: {said}") from None
        context.verify_mode = ssl.CERT_REQUIRED
    return context
