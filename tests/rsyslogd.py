"""A real rsyslogd in a network of its own: it is given messages of every facility and severity, and
receivers listen.

Each worker lives in namespaces (network and mounts) of its own, in which every address is a
receiver's, and /etc and /dev are folders of the worker: texts run as they are, with the paths,
ports and addresses that they name. Nothing leaves the machine. Where namespaces are not allowed,
loopback stands in: addresses of the documentation ranges are turned to 127.0.0.0/8, and paths to a
temporary folder.
"""

from __future__ import annotations

import fcntl
import json
import os
import re
import shutil
import socket
import ssl
import struct
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable, Iterable, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from dataclasses import dataclass, field
from pathlib import Path
from queue import SimpleQueue
from typing import Any

_PATHS = "/usr/sbin:/usr/bin:/sbin:/bin:/usr/local/sbin"
# IVREL_RSYSLOGD: another daemon than the one that is installed, as of another version.
PROGRAM = os.environ.get("IVREL_RSYSLOGD") or shutil.which("rsyslogd", path=_PATHS) or ""
# Where the worker's own entrance and its sign of life lie; no text of a case names these ports.
_ENTRANCE, _READY, _ALIVE = 50140, 50141, 50142
_PORTS = (
    514,
    601,
    6514,
    10514,
    20514,
)  # TCP ports with a receiver, besides those that a text names
_OUTER = "02:00:00:00:00:02"  # the receivers' end of the wire
_PRELUDE = (
    'module(load="imudp") '
    f'ruleset(name="_ready") {{ action(type="omfwd" target="127.0.0.1" port="{_ALIVE}") }} '
    f'input(type="imudp" address="127.0.0.1" port="{_ENTRANCE}") '
    f'input(type="imudp" address="127.0.0.1" port="{_READY}" ruleset="_ready")\n'
)

Endpoint = tuple[str, int, str]  # address, port, transport


@dataclass(frozen=True)
class Seen:
    """What a daemon did with a configuration."""

    told: tuple[str, ...]  # what rsyslogd -N1 says against it
    starts: bool
    sends: Mapping[Endpoint, frozenset[int]]  # the PRIs that arrive
    stamps: Mapping[Endpoint, frozenset[str]] = field(
        default_factory=dict
    )  # the first words behind the PRI


def version() -> str:
    """The daemon's version, as it says."""
    return subprocess.run(
        [PROGRAM, "-v"], capture_output=True, text=True, check=True
    ).stdout.split()[1]


def check(main: str | Path, at: Path | None = None) -> tuple[str, ...]:
    """What rsyslogd -N1 says against a configuration, without what it only remarks."""
    call = [PROGRAM, "-N1", "-f", str(main)]
    done = subprocess.run(call, capture_output=True, text=True, timeout=60, errors="replace")
    idle = ("version", "End of config", "always evaluate to FALSE")
    return tuple(
        line for line in done.stderr.splitlines() if line and not any(word in line for word in idle)
    )


def allowed() -> bool:
    """Whether namespaces of one's own are allowed here."""
    tried = subprocess.run(
        ["unshare", "-nm", "ip", "link", "set", "lo", "up"], capture_output=True, check=False
    )
    return tried.returncode == 0


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
    pool: SimpleQueue[_Worker] = SimpleQueue()
    count = workers or (os.cpu_count() or 2) + 1
    made = [_Worker() for _ in range(count)]
    for worker in made:
        pool.put(worker)

    def run(case: Mapping[str, Any]) -> Seen:
        worker = pool.get()
        try:
            return worker.run(case)
        finally:
            pool.put(worker)

    try:
        with ThreadPoolExecutor(count) as threads:
            found: list[Seen | None] = list(threads.map(run, cases))
            return found
    finally:
        for worker in made:
            worker.close()


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


class _Worker:
    def __init__(self) -> None:
        self.folder = tempfile.mkdtemp()
        call = ["unshare", "-nm", sys.executable, __file__, "work", self.folder]
        self.process = subprocess.Popen(
            call, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True
        )

    def run(self, case: Mapping[str, Any]) -> Seen:
        assert self.process.stdin and self.process.stdout
        self.process.stdin.write(json.dumps(case) + "\n")
        self.process.stdin.flush()
        line = self.process.stdout.readline()
        assert line, f"the worker died of {case}"
        said = json.loads(line)
        return Seen(
            tuple(said["told"]),
            said["starts"],
            {(a, p, t): frozenset(pris) for a, p, t, pris, _ in said["sends"]},
            {(a, p, t): frozenset(stamps) for a, p, t, _, stamps in said["sends"]},
        )

    def close(self) -> None:
        assert self.process.stdin
        self.process.stdin.close()
        self.process.wait(30)
        shutil.rmtree(self.folder)  # what was mounted there went with the namespace


# On loopback, where there are no namespaces: each documentation range is a part of 127.0.0.0/8.

_RANGES = {"198.51.100.": "127.51.100.", "203.0.113.": "127.113.0.", "192.0.2.": "127.2.0."}
_ELSEWHERE = re.compile(
    r"target\s*=\s*[\"'][A-Za-z]|@\(?[A-Za-z\[]|/dev/|2001:db8|/var/spool|address=|include\(text|\\\n|port=.[a-z]|99999",
    re.I,
)


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
    got: dict[Endpoint, list[bytes]] = {}
    turned = {}
    for address in addresses:
        head = next(r for r in _RANGES if address.startswith(r))
        turned[_RANGES[head] + address[len(head) :]] = address

    def note(endpoint: Endpoint, data: bytes) -> None:
        got.setdefault((turned[endpoint[0]], *endpoint[1:]), []).append(data)

    udp, open_ = [], []
    with tempfile.TemporaryDirectory() as name:
        context = _context(Path(name))
        for here in turned:
            for port in ports:
                one = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
                one.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 1 << 20)
                one.bind((here, port))
                one.setblocking(False)
                udp.append((here, port, one))
                server = socket.create_server((here, port), backlog=64)
                open_.append(server)
                threading.Thread(target=_accept, args=(server, note, context), daemon=True).start()
        for file, text in case["files"].items():
            for here, address in turned.items():
                text = re.sub(rf"(?<![\d.]){re.escape(address)}(?![\d.])", here, text)
            path = Path(name) / file
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_text(text.replace("/etc/", f"{name}/").replace("/var/log/", f"{name}/"))
        main = Path(name) / "rsyslog.conf"
        told = check(main)
        main.write_text(_PRELUDE + main.read_text())
        starts = _feed(main, Path(name), None)
        for here, port, one in udp:
            with suppress(BlockingIOError):
                while True:
                    note((here, port, "udp"), one.recv(1 << 16))
            one.close()
        for server in open_:
            server.shutdown(socket.SHUT_RDWR)
            server.close()
    read = {end: _read(end, said) for end, said in got.items()}
    pris = {end: frozenset(found) for end, (found, _) in read.items()}
    return Seen(told, starts, pris, {end: frozenset(stamps) for end, (_, stamps) in read.items()})


# What follows runs inside of the namespaces.


def _sh(*words: str) -> None:
    subprocess.run(words, check=True, capture_output=True)


def _work(folder: Path) -> None:
    """The loop of one worker: a case in a line of JSON, what was seen in a line of JSON."""
    out = os.fdopen(os.dup(1), "w")
    os.dup2(2, 1)
    _settle(folder)
    call = ["unshare", "-n", sys.executable, __file__, "receive", str(folder)]
    receiver = subprocess.Popen(call, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True)
    assert receiver.stdin and receiver.stdout
    receiver.stdout.readline()
    _sh("ip", "link", "add", "inner", "type", "veth", "peer", "name", "outer")
    _sh("ip", "link", "set", "outer", "netns", str(receiver.pid))
    _sh("ip", "addr", "add", "192.0.2.200/24", "dev", "inner")
    _sh("ip", "addr", "add", "fd00::1/64", "dev", "inner", "nodad")
    _sh("ip", "link", "set", "inner", "up")
    for address in ("192.0.2.201", "fd00::2"):
        _sh("ip", "neigh", "replace", address, "lladdr", _OUTER, "dev", "inner")
    print("go", file=receiver.stdin, flush=True)
    receiver.stdout.readline()
    _sh("ip", "route", "add", "default", "via", "192.0.2.201", "dev", "inner", "onlink")
    _sh("ip", "-6", "route", "add", "default", "via", "fd00::2", "dev", "inner")
    base = set(Path("/etc").iterdir())
    for line in sys.stdin:
        seen = _run(json.loads(line), receiver, folder)
        for path in set(Path("/etc").iterdir()) - base:
            shutil.rmtree(path) if path.is_dir() and not path.is_symlink() else path.unlink()
        print(json.dumps(seen), file=out, flush=True)
    receiver.stdin.close()
    receiver.wait(30)


def _settle(folder: Path) -> None:
    """An /etc, a /dev and folders to write to, of the worker's own."""
    _sh("mount", "--make-rprivate", "/")
    _sh("ip", "link", "set", "lo", "up")
    etc, dev = folder / "etc", folder / "dev"
    etc.mkdir()
    for word in ("passwd", "group", "localtime", "ld.so.cache", "alternatives", "ssl"):
        source = Path("/etc") / word
        if source.is_dir():
            shutil.copytree(source, etc / word, symlinks=True)
        elif source.exists():
            shutil.copy(source, etc / word)
    (etc / "nsswitch.conf").write_text("hosts: files\nservices: files\n")
    (etc / "services").write_text("syslog 514/udp\nsyslog 514/tcp\nsyslog-tls 6514/tcp\n")
    dev.mkdir()
    for word in ("null", "zero", "random", "urandom", "full"):
        (dev / word).touch()
        _sh("mount", "--bind", f"/dev/{word}", str(dev / word))
    for word in ("console", "xconsole", "tty10", "tty12"):
        (dev / word).touch()
    _sh("mount", "--bind", str(etc), "/etc")
    for place in ("/var/log", "/var/spool", "/var/lib", "/run"):
        _sh("mount", "-t", "tmpfs", "tmpfs", place)
    for place in ("/var/spool/rsyslog", "/var/lib/rsyslog", "/run/systemd/journal"):
        Path(place).mkdir(parents=True)
    _sh("mount", "--rbind", str(dev), "/dev")


_HOST = re.compile(
    r"""(?:@(?:\([^)]*\))?|target\s*=\s*["'])([A-Za-z][A-Za-z0-9-]*(?:\.[A-Za-z0-9-]+)*)""", re.I
)


def _run(case: Mapping[str, Any], receiver: subprocess.Popen[str], folder: Path) -> dict[str, Any]:
    files: dict[str, str] = dict(case["files"])
    whole = "\n".join(files.values())
    names = sorted(set(_HOST.findall(whole)))
    hosts = {f"198.18.{n >> 8}.{n & 255}": name for n, name in enumerate(names, 1)}
    (Path("/etc") / "hosts").write_text(
        "127.0.0.1 localhost\n" + "".join(f"{a} {n}\n" for a, n in hosts.items())
    )
    main = Path("/etc/rsyslog.conf")
    for file, text in files.items():
        path = Path("/etc") / file
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(text.encode("utf-8", "surrogateescape"))
    owners = {
        name
        for pair in re.findall(r'(?i)owner(?:="(\w+)"|\s+(\w+))', whole)
        for name in pair
        if name
    }
    with Path("/etc/passwd").open("a") as users:
        users.writelines(f"{owner}:x:65533:65533::/:/bin/false\n" for owner in owners - {"root"})
    told = check(main)
    main.write_bytes(_PRELUDE.encode() + main.read_bytes())
    ports = {
        int(p) for p in re.findall(r"(?<![\w.])\d{2,5}(?![\w.])", whole) if int(p) < 65536
    } | set(_PORTS)
    assert receiver.stdin and receiver.stdout
    print(json.dumps(sorted(ports)[:400]), file=receiver.stdin, flush=True)
    receiver.stdout.readline()
    starts = _feed(main, folder, case.get("enter"))
    print("report", file=receiver.stdin, flush=True)
    got = json.loads(receiver.stdout.readline())
    sends = [[hosts.get(a, a), p, t, pris, stamps] for a, p, t, pris, stamps in got]
    return {"told": told, "starts": starts, "sends": sends}


def _feed(main: Path, folder: Path, enter: tuple[str, int] | None) -> bool:
    """Starts the daemon, gives it one message of each PRI, and ends it; whether it ran."""
    alive = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    alive.bind(("127.0.0.1", _ALIVE))
    alive.settimeout(0.05)
    sender = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    call = [PROGRAM, "-n", "-f", str(main), "-i", f"{folder}/pid"]
    daemon = subprocess.Popen(call, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    try:
        for _ in range(100):
            sender.sendto(b"<14>Nov 23 10:00:00 gw test: ready", ("127.0.0.1", _READY))
            try:
                alive.recv(4096)
                break
            except TimeoutError:
                if daemon.poll() is not None:
                    return False
        else:
            return False
        texts = [f"<{pri}>Nov 23 10:00:00 gw test: p{pri} is here".encode() for pri in range(192)]
        if enter and enter[0] == "tcp":
            with socket.create_connection(("127.0.0.1", enter[1])) as stream:
                stream.sendall(b"".join(text + b"\n" for text in texts))
        else:
            port = enter[1] if enter else _ENTRANCE
            for n, text in enumerate(texts):
                sender.sendto(text, ("127.0.0.1", port))
                if n % 24 == 23:
                    time.sleep(0.005)
        # One more message behind all others says when they are through; then what waits in other
        # queues follows.
        time.sleep(0.05)
        alive.settimeout(0.02)
        with suppress(TimeoutError):
            while True:
                alive.recv(4096)
        sender.sendto(b"<14>Nov 23 10:00:00 gw test: done", ("127.0.0.1", _READY))
        alive.settimeout(4)
        with suppress(TimeoutError):
            alive.recv(4096)
        time.sleep(0.15)
        return True
    finally:
        daemon.terminate()
        try:
            daemon.wait(10)
        except subprocess.TimeoutExpired:
            daemon.kill()
            daemon.wait()
        alive.close()
        sender.close()


def _receive(folder: Path) -> None:
    """The receivers: every address, UDP on every port, TCP on those that the worker names."""
    print("here", flush=True)
    sys.stdin.readline()
    _sh("ip", "link", "set", "lo", "up")
    _sh("ip", "addr", "add", "192.0.2.201/24", "dev", "outer")
    _sh("ip", "addr", "add", "fd00::2/64", "dev", "outer", "nodad")
    _sh("ip", "link", "set", "outer", "address", _OUTER, "up")
    _sh("ip", "route", "add", "local", "0.0.0.0/0", "dev", "lo", "table", "main")
    _sh("ip", "-6", "route", "add", "local", "::/0", "dev", "lo", "table", "main")
    _sh("ip", "route", "add", "192.0.2.200/32", "dev", "outer")
    raw = socket.socket(socket.AF_PACKET, socket.SOCK_DGRAM, socket.htons(3))
    raw.bind(("outer", 3))
    raw.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 1 << 23)
    got: dict[Endpoint, list[bytes]] = {}
    lock = threading.Lock()

    def note(endpoint: Endpoint, data: bytes) -> None:
        with lock:
            got.setdefault(endpoint, []).append(data)

    threading.Thread(target=_packets, args=(raw, note), daemon=True).start()
    context = _context(folder)
    listening: dict[int, socket.socket] = {}  # a port that was once asked for stays open
    print("there", flush=True)
    for line in sys.stdin:
        if line.strip() == "report":
            last = -1
            while last != (last := sum(len(m) for m in list(got.values()))):
                time.sleep(0.03)
            with lock:
                print(
                    json.dumps([[*end, *_read(end, said)] for end, said in got.items()]), flush=True
                )
            continue
        got.clear()
        ports = json.loads(line)
        for port in ports:
            if port not in listening:
                server = socket.create_server(
                    ("::", port), family=socket.AF_INET6, dualstack_ipv6=True, backlog=64
                )
                listening[port] = server
                threading.Thread(target=_accept, args=(server, note, context), daemon=True).start()
        print("listening", flush=True)


def _read(endpoint: Endpoint, said: list[bytes]) -> tuple[list[int], list[str]]:
    whole = b"".join(said) if endpoint[2] != "udp" else b"\n".join(said)
    pris = {int(n) for n in re.findall(rb"\bp(\d+) is here", whole)}
    if not pris and b"rsyslogd" not in whole:
        # A template may leave the text out, and say the PRI.
        pris = {int(n) for n in re.findall(rb"(?:^|\n)(?:\d+ )?<(\d{1,3})>", whole)}
    # Messages that the daemon itself makes are none of the 192.
    own = [m for m in re.split(rb"\n|(?=<\d+>)", whole) if b" is here" in m and b">" in m]
    return sorted(pris), sorted({m[m.index(b">") + 1 :].split(b" ")[0].decode() for m in own})


def _packets(raw: socket.socket, note: Any) -> None:
    while True:
        data, where = raw.recvfrom(1 << 16)
        if where[1] == 0x0800 and data[9] == 17:
            head = (data[0] & 15) * 4
            address = socket.inet_ntop(socket.AF_INET, data[16:20])
        elif where[1] == 0x86DD and data[6] == 17:
            head, address = 40, socket.inet_ntop(socket.AF_INET6, data[24:40])
        else:
            continue
        port = struct.unpack("!H", data[head + 2 : head + 4])[0]
        note((address, port, "udp"), data[head + 8 :])


def _accept(server: socket.socket, note: Any, context: ssl.SSLContext | None) -> None:
    while True:
        try:
            stream, _ = server.accept()
        except OSError:
            return
        threading.Thread(target=_stream, args=(stream, note, context), daemon=True).start()


def _stream(stream: socket.socket, note: Any, context: ssl.SSLContext | None) -> None:
    address, port = stream.getsockname()[:2]
    address, transport = address.removeprefix("::ffff:"), "tcp"
    try:
        first = stream.recv(4, socket.MSG_PEEK)
        if first[:2] == b"\x16\x03":
            note((address, port, "tls"), b"")
            if context is None:
                return
            stream, transport = context.wrap_socket(stream, server_side=True), "tls"
        elif first.startswith(b"1 op"):
            _relp(stream, note, (address, port, "relp"))
            return
        while data := stream.recv(1 << 16):
            note((address, port, transport), data)
    except (OSError, ssl.SSLError):
        pass
    finally:
        stream.close()


def _relp(stream: socket.socket, note: Any, endpoint: Endpoint) -> None:
    """As much of RELP as makes a sender hand over its messages: every frame is answered."""
    data = b""
    while more := stream.recv(1 << 16):
        data += more
        while found := re.match(rb"(\d+) (\w+) (\d+)(?: |(?=\n))", data):
            end = found.end() + int(found[3])
            if len(data) <= end:
                break
            body, data = data[found.end() : end], data[end + 1 :]
            answer = b"200 OK"
            if found[2] == b"open":
                answer += b"\nrelp_version=0\nrelp_software=test\ncommands=syslog"
            else:
                note(endpoint, body + b"\n")
            stream.sendall(b"%s rsp %d %s\n" % (found[1], len(answer), answer))


def _context(folder: Path) -> ssl.SSLContext | None:
    """A receiver's TLS, with a certificate for log.example; None where none can be made."""
    program = shutil.which("openssl")
    if not program:
        return None
    key, certificate = folder / "key.pem", folder / "certificate.pem"
    call = [
        program,
        "req",
        "-x509",
        "-newkey",
        "rsa:2048",
        "-nodes",
        "-keyout",
        str(key),
        "-out",
        str(certificate),
    ]
    _sh(
        *call,
        "-days",
        "30",
        "-subj",
        "/CN=log.example",
        "-addext",
        "subjectAltName=DNS:log.example",
    )
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(certificate, key)
    return context


if __name__ == "__main__":
    if sys.argv[1] == "work":
        _work(Path(sys.argv[2]))
    else:
        _receive(Path(sys.argv[2]))
