"""A real rsyslogd in a network of its own: it is given messages of every facility and severity, and
receivers listen.

Each worker lives in namespaces (`ivrel.sources.carrying`): texts run as they are, with the paths, ports
and addresses that they name. Where namespaces are not allowed, loopback stands in: addresses of the
documentation ranges are turned to 127.0.0.0/8, and paths to a temporary folder.
"""

from __future__ import annotations

import fcntl
import os
import re
import shutil
import socket
import subprocess
import tempfile
import threading
from collections.abc import Callable, Iterable, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from pathlib import Path
from queue import SimpleQueue
from typing import Any

from ivrel.core.vocabulary.severity import Selection
from ivrel.sources.carrying import CarriedOut as Seen
from ivrel.sources.carrying import Carrier, Endpoint, is_allowed
from ivrel.sources.carrying.receivers import Receivers, read
from ivrel.sources.carrying.worker import PRELUDE, fed

__all__ = ["Endpoint", "Seen"]

_PATHS = "/usr/sbin:/usr/bin:/sbin:/bin:/usr/local/sbin"
# IVREL_RSYSLOGD: another daemon than the one that is installed, as of another version.
PROGRAM = os.environ.get("IVREL_RSYSLOGD") or shutil.which("rsyslogd", path=_PATHS) or ""
allowed = is_allowed


def version() -> str:
    """The daemon's version, as it says."""
    return subprocess.run(
        [PROGRAM, "-v"], capture_output=True, text=True, check=True
    ).stdout.split()[1]


def check(main: str | Path) -> tuple[str, ...]:
    """What rsyslogd -N1 says against a configuration, without what it only remarks."""
    call = [PROGRAM, "-N1", "-f", str(main)]
    done = subprocess.run(call, capture_output=True, text=True, timeout=60, errors="replace")
    idle = ("version", "End of config", "always evaluate to FALSE")
    return tuple(
        line for line in done.stderr.splitlines() if line and not any(word in line for word in idle)
    )


def possible() -> bool:
    """Whether the daemon can be watched here at all."""
    return bool(PROGRAM) and (allowed() or os.getuid() == 0)


def observe(cases: Iterable[Mapping[str, Any]], workers: int | None = None) -> list[Seen | None]:
    """What daemons do with cases, in their order; a case has `files` by path, and `enter`: an
    input's (transport, port).

    Where only loopback is at hand, there is nothing to tell of texts that need more of a network.
    """
    if not allowed():
        with (Path(tempfile.gettempdir()) / "rsyslogd-on-loopback").open("w") as lock:
            fcntl.flock(lock, fcntl.LOCK_EX)  # there is but one
            return [_on_loopback(case) for case in cases]
    pool: SimpleQueue[Carrier] = SimpleQueue()
    count = workers or (os.cpu_count() or 2) + 1
    made = [Carrier(PROGRAM) for _ in range(count)]
    for carrier in made:
        pool.put(carrier)

    def run(case: Mapping[str, Any]) -> Seen:
        carrier = pool.get()
        files = {
            name: text.encode("utf-8", "surrogateescape") for name, text in case["files"].items()
        }
        try:
            return carrier.run(files, case.get("enter"))
        finally:
            pool.put(carrier)

    try:
        with ThreadPoolExecutor(count) as threads:
            found: list[Seen | None] = list(threads.map(run, cases))
            return found
    finally:
        for carrier in made:
            carrier.close()


def observe_calmly(
    cases: Sequence[Mapping[str, Any]], fits: Callable[[int, Seen], bool]
) -> list[Seen | None]:
    """What daemons do with cases; where that does not fit, once more one by one, for a busy machine
    loses messages.
    """
    found = observe(cases)
    for again in range(2):
        odd = [n for n, seen in enumerate(found) if seen is not None and not fits(n, seen)]
        for n, seen in (
            zip(odd, observe([cases[n] for n in odd], 1 + again), strict=True) if odd else ()
        ):
            found[n] = seen
    return found


# On loopback, where there are no namespaces: each documentation range is a part of 127.0.0.0/8.

_RANGES = {"198.51.100.": "127.51.100.", "203.0.113.": "127.113.0.", "192.0.2.": "127.2.0."}
_ELSEWHERE = re.compile(
    r"target\s*=\s*[\"'][A-Za-z]|@\(?[A-Za-z\[]|/dev/|2001:db8|/var/spool|address=|include\(text|\\\n|port=.[a-z]|99999",
    re.I,
)


class _OnLoopback(Receivers):
    """Receivers on addresses that stand for others."""

    def __init__(self, folder: Path, turned: Mapping[str, str]) -> None:
        super().__init__(folder)
        self.turned = turned
        self.got: dict[Endpoint, list[bytes]] = {}

    def note(self, endpoint: Endpoint, data: bytes) -> None:
        self.got.setdefault((self.turned[endpoint[0]], *endpoint[1:]), []).append(data)


def _on_loopback(case: Mapping[str, Any]) -> Seen | None:
    """What a daemon does with a case whose receivers all can be on loopback; None of any other."""
    whole = "\n".join(case["files"].values())
    if _ELSEWHERE.search(whole) or case.get("enter"):
        return None
    addresses = {
        a for a in re.findall(r"\d+\.\d+\.\d+\.\d+", whole) if a.startswith(tuple(_RANGES))
    }
    ports = {int(p) for p in re.findall(r"(?<![\w.])\d{3,5}(?![\w.])", whole) if int(p) < 65536} | {
        514,
        601,
    }
    turned = {}
    for address in addresses:
        head = next(r for r in _RANGES if address.startswith(r))
        turned[_RANGES[head] + address[len(head) :]] = address
    udp, open_ = [], []
    with tempfile.TemporaryDirectory() as name:
        receivers = _OnLoopback(Path(name), turned)
        for here in turned:
            for port in ports:
                one = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
                one.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 1 << 20)
                one.bind((here, port))
                one.setblocking(False)
                udp.append((here, port, one))
                server = socket.create_server((here, port), backlog=64)
                open_.append(server)
                threading.Thread(target=receivers.accept, args=(server,), daemon=True).start()
        for file, text in case["files"].items():
            for here, address in turned.items():
                text = re.sub(rf"(?<![\d.]){re.escape(address)}(?![\d.])", here, text)
            path = Path(name) / file
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_text(text.replace("/etc/", f"{name}/").replace("/var/log/", f"{name}/"))
        main = Path(name) / "rsyslog.conf"
        told = check(main)
        main.write_text(PRELUDE + main.read_text())
        starts = fed(PROGRAM, Path(name), None, main)
        for here, port, one in udp:
            with suppress(BlockingIOError):
                while True:
                    receivers.note((here, port, "udp"), one.recv(1 << 16))
            one.close()
        for server in open_:
            server.shutdown(socket.SHUT_RDWR)
            server.close()
    rows = {end: read(end, said) for end, said in receivers.got.items()}
    pris = {end: Selection(sum(1 << pri for pri in found)) for end, (found, _) in rows.items()}
    return Seen(starts, pris, told, {end: frozenset(stamps) for end, (_, stamps) in rows.items()})
