"""The receivers' end of the wire: every address, UDP on every port, TCP on those that a text names.

Runs in a network of its own (`python -m ivrel.sources.carrying.receivers FOLDER`), and is told line
by line what to do: a list of ports begins a new configuration, `report` asks for what came.
"""

from __future__ import annotations

import json
import re
import socket
import ssl
import struct
import subprocess
import sys
import threading
import time
from collections.abc import Callable
from pathlib import Path

from ivrel.sources.carrying import Endpoint

OUTER = "02:00:00:00:00:02"  # the hardware address of this end
_IPV4 = 0x0800
_IPV6 = 0x86DD
_UDP = 17
_LATEST = 3.0  # seconds for which streams may be read when the daemon has ended
_QUIET = 0.03  # seconds without anything new, after which all is taken to have come

Note = Callable[[Endpoint, bytes], None]


class Receivers:
    """Takes everything, and tells transports apart by their first bytes."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        self._lock = threading.Lock()
        self._got: dict[Endpoint, list[bytes]] = {}
        self._listening: dict[int, socket.socket] = {}  # a port that was once asked for stays open
        self._context: ssl.SSLContext | None = None
        self._open = 0  # streams

    def prepare(self) -> None:
        """Make every address one of this end."""
        for words in (
            "link set lo up",
            "addr add 192.0.2.201/24 dev outer",
            "addr add fd00::2/64 dev outer nodad",
            f"link set outer address {OUTER} up",
            "route add local 0.0.0.0/0 dev lo table main",
            "-6 route add local ::/0 dev lo table main",
            "route add 192.0.2.200/32 dev outer",
        ):
            subprocess.run(["ip", *words.split()], check=True, capture_output=True)
        raw = socket.socket(socket.AF_PACKET, socket.SOCK_DGRAM, socket.htons(3))
        raw.bind(("outer", 3))
        raw.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 1 << 23)
        threading.Thread(target=self._datagrams, args=(raw,), daemon=True).start()

    def begin(self, ports: list[int], senders: list[str]) -> None:
        """Forget what came, and listen on these ports; `senders`: addresses of the other end."""
        for address in senders:
            to = f"{address}/128 via fd00::1" if ":" in address else f"{address}/32 via 192.0.2.200"
            words = f"{'-6' if ':' in address else '-4'} route replace {to} dev outer onlink"
            subprocess.run(["ip", *words.split()], check=False, capture_output=True)
        with self._lock:
            self._got.clear()
        certificate = self._folder / "certificate.pem"
        if certificate.exists():
            self._context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
            self._context.load_cert_chain(certificate, self._folder / "key.pem")
        for port in ports:
            if port not in self._listening:
                server = socket.create_server(
                    ("::", port), family=socket.AF_INET6, dualstack_ipv6=True, backlog=64
                )
                self._listening[port] = server
                threading.Thread(target=self.accept, args=(server,), daemon=True).start()

    def report(self) -> list[list[object]]:
        """Return what came, when nothing more comes: by endpoint the PRIs, and the first words
        behind them.
        """
        last = -1
        now = self._size()
        end = time.monotonic() + _LATEST
        # The daemon has ended, so that its streams end, too; what is in them is read first.
        while last != now or (self._open and time.monotonic() < end):
            time.sleep(_QUIET)
            last = now
            now = self._size()
        with self._lock:
            return [[*end, *read(end, said)] for end, said in self._got.items()]

    def _size(self) -> int:
        with self._lock:
            return sum(map(len, self._got.values()))

    def note(self, endpoint: Endpoint, data: bytes) -> None:
        with self._lock:
            self._got.setdefault(endpoint, []).append(data)

    def _datagrams(self, raw: socket.socket) -> None:
        while True:
            data, where = raw.recvfrom(1 << 16)
            if where[1] == _IPV4 and data[9] == _UDP:
                head = (data[0] & 15) * 4
                address = socket.inet_ntop(socket.AF_INET, data[16:20])
            elif where[1] == _IPV6 and data[6] == _UDP:
                head = 40
                address = socket.inet_ntop(socket.AF_INET6, data[24:40])
            else:
                continue
            port = struct.unpack("!H", data[head + 2 : head + 4])[0]
            self.note((address, port, "udp"), data[head + 8 :])

    def accept(self, server: socket.socket) -> None:
        while True:
            try:
                stream, _ = server.accept()
            except OSError:
                return
            threading.Thread(target=self._stream, args=(stream,), daemon=True).start()

    def _stream(self, stream: socket.socket) -> None:
        with self._lock:
            self._open += 1
        address, port = stream.getsockname()[:2]
        address = address.removeprefix("::ffff:")
        transport = "tcp"
        try:
            first = stream.recv(4, socket.MSG_PEEK)
            if first[:2] == b"\x16\x03":
                # That it was tried says where to, even if there is no trust.
                self.note((address, port, "tls"), b"")
                if self._context is None:
                    return
                stream = self._context.wrap_socket(stream, server_side=True)
                transport = "tls"
            elif first.startswith(b"1 op"):
                self._relp(stream, (address, port, "relp"))
                return
            while data := stream.recv(1 << 16):
                self.note((address, port, transport), data)
        except OSError:
            pass  # the sender has gone, or does not trust this end
        finally:
            stream.close()
            with self._lock:
                self._open -= 1

    def _relp(self, stream: socket.socket, endpoint: Endpoint) -> None:
        """Speak as much of RELP as makes a sender hand over its messages: answer every frame."""
        data = b""
        while more := stream.recv(1 << 16):
            data += more
            while found := re.match(rb"(\d+) (\w+) (\d+)(?: |(?=\n))", data):
                end = found.end() + int(found[3])
                if len(data) <= end:
                    break
                body = data[found.end() : end]
                data = data[end + 1 :]
                answer = b"200 OK"
                if found[2] == b"open":
                    answer += b"\nrelp_version=0\nrelp_software=ivrel\ncommands=syslog"
                else:
                    self.note(endpoint, body + b"\n")
                stream.sendall(b"%s rsp %d %s\n" % (found[1], len(answer), answer))


def read(endpoint: Endpoint, said: list[bytes]) -> tuple[list[int], list[str]]:
    """Return the PRIs of messages that came to an endpoint, and the first words behind them."""
    whole = b"".join(said) if endpoint[2] != "udp" else b"\n".join(said)
    pris = {int(n) for n in re.findall(rb"\bp(\d+) is here", whole)}
    if not pris and b"rsyslogd" not in whole:
        # A template may leave the text out, and say the PRI.
        pris = {int(n) for n in re.findall(rb"(?:^|\n)(?:\d+ )?<(\d{1,3})>", whole)}
    # Messages that the daemon itself makes are none of the 192.
    own = [m for m in re.split(rb"\n|(?=<\d+>)", whole) if b" is here" in m and b">" in m]
    stamps = {m[m.index(b">") + 1 :].split(b" ")[0].decode("utf-8", "replace") for m in own}
    return sorted(pri for pri in pris if pri < 192), sorted(stamps)


def main() -> None:
    """Serve one worker, for as long as it writes."""
    print("here", flush=True)
    sys.stdin.readline()
    receivers = Receivers(Path(sys.argv[1]))
    receivers.prepare()
    print("there", flush=True)
    for line in sys.stdin:
        if line.strip() == "report":
            print(json.dumps(receivers.report()), flush=True)
        else:
            receivers.begin(**json.loads(line))
            print("listening", flush=True)


if __name__ == "__main__":
    main()
