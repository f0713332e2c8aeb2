"""Speaking: messages of stand-ins leave from their source address, over UDP, TCP or TLS."""

from __future__ import annotations

import asyncio
import contextlib
import ipaddress
import socket
import ssl
from collections.abc import Mapping
from pathlib import Path

from ivrel.core.evidence.emitters import Emitter
from ivrel.core.policy import Collector

MOST_WAITING = 200  # messages that wait for a connection; more are lost, as on a device

_Way = tuple[str, str, int, str]  # sender, address, port, transport


class Mouth:
    """What stand-ins of one process speak through.

    `authority`: the certificates that are trusted with TLS. Addresses that are none of loopback are
    spoken to by nobody: a stand-in disturbs no network.
    """

    def __init__(self, collectors: Mapping[str, Collector], authority: Path | None = None) -> None:
        self._names = {n: c.address for c in collectors.values() for n in c.names}
        self._authority = authority
        self._datagrams: dict[str, socket.socket] = {}
        self._streams: dict[_Way, asyncio.Queue[bytes]] = {}
        self._tasks: set[asyncio.Task[None]] = set()

    def send(self, emitter: Emitter, data: bytes) -> None:
        """Send a message, as far as that is possible; what is not is lost without a word."""
        address = self._names.get(emitter.address, emitter.address)
        if not is_loopback(address) or not is_loopback(emitter.sender):
            return
        if emitter.transport == "udp":
            self._datagram(emitter.sender, address, emitter.port, data)
            return
        way = (emitter.sender, address, emitter.port, emitter.transport)
        queue = self._streams.get(way)
        if queue is None:
            queue = self._streams[way] = asyncio.Queue(MOST_WAITING)
            task = asyncio.get_running_loop().create_task(self._stream(way, queue))
            self._tasks.add(task)
            task.add_done_callback(self._tasks.discard)
        with contextlib.suppress(asyncio.QueueFull):
            # Octet counting (RFC 6587 section 3.4.1), which TLS has, too (RFC 5425 section 4.3).
            queue.put_nowait(b"%d %s" % (len(data), data))

    def _datagram(self, sender: str, address: str, port: int, data: bytes) -> None:
        with contextlib.suppress(OSError):
            if sender not in self._datagrams:
                family = socket.AF_INET6 if ":" in sender else socket.AF_INET
                one = socket.socket(family, socket.SOCK_DGRAM)
                one.bind((sender, 0))
                self._datagrams[sender] = one
            self._datagrams[sender].sendto(data, (address, port))

    async def _stream(self, way: _Way, queue: asyncio.Queue[bytes]) -> None:
        """Keep a connection for a way, and send what comes; one that breaks is made again."""
        sender, address, port, transport = way
        while True:
            data = await queue.get()
            for _ in range(3):
                try:
                    context = self._context() if transport == "tls" else None
                    _, writer = await asyncio.open_connection(
                        address, port, local_addr=(sender, 0), ssl=context
                    )
                except (OSError, ssl.SSLError):
                    await asyncio.sleep(0.2)
                    continue
                with contextlib.suppress(OSError, ssl.SSLError):
                    while True:
                        writer.write(data)
                        await writer.drain()
                        data = await queue.get()
                break

    def _context(self) -> ssl.SSLContext:
        context = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
        context.check_hostname = False
        if self._authority is not None and self._authority.exists():
            context.load_verify_locations(self._authority)
        else:
            context.verify_mode = ssl.CERT_NONE
        return context

    def close(self) -> None:
        """Stop speaking."""
        for task in self._tasks:
            task.cancel()
        for one in self._datagrams.values():
            one.close()


def is_loopback(address: str) -> bool:
    """Whether an address is one of loopback: a stand-in disturbs no network."""
    try:
        return ipaddress.ip_address(address).is_loopback
    except ValueError:
        return False
