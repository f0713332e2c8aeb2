"""The daemon's end of the wire: runs one configuration after the other, in namespaces.

Runs as `python -m ivrel.sources.carrying.worker PROGRAM FOLDER`; a configuration is a line of JSON
on standard input, what was seen a line of JSON on standard output.
"""

from __future__ import annotations

import contextlib
import json
import os
import re
import shutil
import socket
import subprocess
import sys
import time
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from ivrel.sources.carrying import certificates
from ivrel.sources.carrying.receivers import OUTER

# Where the worker's own entrance and its sign of life lie; ports that hardly any text names.
_ENTRANCE = 50140
_READY = 50141
_ALIVE = 50142
# TCP ports with a receiver, besides those that a text names.
_PORTS = frozenset({514, 601, 6514, 10514, 20514})
_MOST_PORTS = 400
PRELUDE = (
    'module(load="imudp") '
    f'ruleset(name="_ready") {{ action(type="omfwd" target="127.0.0.1" port="{_ALIVE}") }} '
    f'input(type="imudp" address="127.0.0.1" port="{_ENTRANCE}") '
    f'input(type="imudp" address="127.0.0.1" port="{_READY}" ruleset="_ready")\n'
)
_PRIS = 192
_WRITTEN = ("/var/spool/rsyslog", "/var/lib/rsyslog")  # folders that the daemon keeps things in
_HEAD = "Nov 23 10:00:00 gw test:"
_MAIN = Path("/etc/rsyslog.conf")
_HOST = re.compile(
    r"""(?:@(?:\([^)]*\))?|target\s*=\s*["'])([A-Za-z][A-Za-z0-9-]*(?:\.[A-Za-z0-9-]+)*)""", re.I
)
_OWNER = re.compile(r'(?i)owner(?:="(\w+)"|\s+(\w+))')
_ADDRESS = re.compile(r"""\baddress\s*=\s*["']([0-9A-Fa-f:.]+)["']""", re.I)
_DEVICE = re.compile(r"""\bdevice\s*=\s*["']([\w.-]{1,15})["']""", re.I)
_NUMBER = re.compile(r"(?<![\w.])\d{2,5}(?![\w.])")


def main() -> None:
    """Carry out what comes in."""
    program = sys.argv[1]
    folder = Path(sys.argv[2])
    out = os.fdopen(os.dup(1), "w")
    os.dup2(2, 1)
    _settle(folder)
    receiver = _wired(folder)
    base = set(Path("/etc").iterdir())
    for line in sys.stdin:
        try:
            seen = _carried(json.loads(line), program, receiver, folder)
        except (OSError, ValueError, subprocess.SubprocessError) as problem:
            seen = {"problem": str(problem)}
        for path in set(Path("/etc").iterdir()) - base:
            shutil.rmtree(path) if path.is_dir() and not path.is_symlink() else path.unlink()
        print(json.dumps(seen), file=out, flush=True)
    assert receiver.stdin is not None
    receiver.stdin.close()
    receiver.wait(30)


def _sh(*words: str) -> None:
    subprocess.run(words, check=True, capture_output=True)


def _settle(folder: Path) -> None:
    """Give the worker an /etc, a /dev and folders to write to of its own; all else can only be
    read.
    """
    _sh("mount", "--make-rprivate", "/")
    _sh("ip", "link", "set", "lo", "up")
    etc = folder / "etc"
    dev = folder / "dev"
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
    _sh("mount", "--bind", str(folder), str(folder))
    _sh("mount", "--bind", str(etc), "/etc")
    for place in ("/var/log", "/var/spool", "/var/lib", "/run"):
        _sh("mount", "-t", "tmpfs", "tmpfs", place)
    Path("/run/systemd/journal").mkdir(parents=True)
    _sh("mount", "--rbind", str(dev), "/dev")
    # What the kernel says is read by the daemon of this machine, and by nobody else.
    with contextlib.suppress(subprocess.CalledProcessError):
        _sh("mount", "--bind", "/dev/null", "/proc/kmsg")
    own = {str(folder), "/etc", "/dev", "/var/log", "/var/spool", "/var/lib", "/run"}
    for line in Path("/proc/self/mountinfo").read_text().splitlines():
        place = line.split()[4]
        if place not in own and not place.startswith(("/dev/", "/proc", "/sys", f"{folder}/")):
            with contextlib.suppress(subprocess.CalledProcessError):
                _sh("mount", "-o", "remount,bind,ro", place)


def _wired(folder: Path) -> subprocess.Popen[str]:
    """Start the receivers in a network of their own, and lay a wire to them."""
    call = [sys.executable, "-m", "ivrel.sources.carrying.receivers", str(folder)]
    receiver = subprocess.Popen(
        ["unshare", "-n", *call], stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True
    )
    assert receiver.stdin is not None and receiver.stdout is not None
    receiver.stdout.readline()
    for words in (
        "link add inner type veth peer name outer",
        f"link set outer netns {receiver.pid}",
        "addr add 192.0.2.200/24 dev inner",
        "addr add fd00::1/64 dev inner nodad",
        "link set inner up",
        f"neigh replace 192.0.2.201 lladdr {OUTER} dev inner",
        f"neigh replace fd00::2 lladdr {OUTER} dev inner",
    ):
        _sh("ip", *words.split())
    print("go", file=receiver.stdin, flush=True)
    receiver.stdout.readline()
    _sh("ip", "route", "add", "default", "via", "192.0.2.201", "dev", "inner", "onlink")
    _sh("ip", "-6", "route", "add", "default", "via", "fd00::2", "dev", "inner")
    return receiver


def _carried(
    case: Mapping[str, Any], program: str, receiver: subprocess.Popen[str], folder: Path
) -> dict[str, Any]:
    """Run one configuration; return what was seen."""
    for place in _WRITTEN:
        # A queue on disk would be taken over by the next configuration.
        shutil.rmtree(place, ignore_errors=True)
        Path(place).mkdir(parents=True)
    files: dict[str, str] = dict(case["files"])
    whole = "\n".join(files.values())
    names = sorted(set(_HOST.findall(whole)))
    hosts = {f"198.18.{n >> 8}.{n & 255}": name for n, name in enumerate(names, 1)}
    known = "".join(f"{address} {name}\n" for address, name in hosts.items())
    Path("/etc/hosts").write_text(f"127.0.0.1 localhost\n{known}")
    for name, text in files.items():
        path = Path("/etc") / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(text.encode("utf-8", "surrogateescape"))
    owners = {one or other for one, other in _OWNER.findall(whole)}
    with Path("/etc/passwd").open("a") as users:
        users.writelines(f"{owner}:x:65533:65533::/:/bin/false\n" for owner in owners - {"root"})
    _certify(whole, folder)
    addresses = _addressed(whole)
    told = against(program)
    _MAIN.write_bytes(PRELUDE.encode() + _MAIN.read_bytes())
    ports = {int(p) for p in _NUMBER.findall(whole) if 0 < int(p) < 65536} | _PORTS
    assert receiver.stdin is not None and receiver.stdout is not None
    begin = {"ports": sorted(ports)[:_MOST_PORTS], "senders": addresses}
    print(json.dumps(begin), file=receiver.stdin, flush=True)
    receiver.stdout.readline()
    starts = fed(program, folder, case.get("enter"))
    print("report", file=receiver.stdin, flush=True)
    got = json.loads(receiver.stdout.readline())
    sends = [[hosts.get(a, a), p, t, pris, stamps] for a, p, t, pris, stamps in got]
    return {"told": told, "starts": starts, "sends": sends}


def _addressed(whole: str) -> list[str]:
    """Give the worker's end the addresses that the text sends from, and the names of the interfaces
    that it sends by, and return those addresses: on the device they are there.
    """
    subprocess.run(["ip", "addr", "flush", "dev", "lo", "scope", "global"], check=False)
    addresses = list(dict.fromkeys(_ADDRESS.findall(whole)))[:_MOST_PORTS]
    for address in addresses:
        words = f"addr replace {address}/{128 if ':' in address else 32} dev lo"
        subprocess.run(["ip", *words.split()], check=False, capture_output=True)
    for name in dict.fromkeys(_DEVICE.findall(whole)):
        words = f"link property add dev inner altname {name}"
        subprocess.run(["ip", *words.split()], check=False, capture_output=True)
    return addresses


def _certify(whole: str, folder: Path) -> None:
    """Make certificates, and write them to where the text expects them, as far as nothing is there
    and it is a place of the worker's own.
    """
    authority = certificates.new_authority()
    names = ["log.example", *certificates.peers_in(whole)]
    certificates.write(folder, certificates.signed_by(authority, list(dict.fromkeys(names))))
    own = {
        "authority": certificates.pem(authority)["certificate"],
        **certificates.pem(certificates.signed_by(authority, ["gw.example"])),
    }
    for what, place in certificates.places_in(whole):
        path = Path(place)
        with contextlib.suppress(OSError):
            if not path.exists():
                path.parent.mkdir(parents=True, exist_ok=True)
                path.write_bytes(own[what])


def against(program: str) -> list[str]:
    """Return what rsyslogd -N1 says against the configuration, without what it only remarks."""
    call = [program, "-N1", "-f", str(_MAIN)]
    done = subprocess.run(
        call, capture_output=True, text=True, timeout=60, errors="replace", check=False
    )
    remarks = re.compile("version|End of config|always evaluate to FALSE")
    return [line for line in done.stderr.splitlines() if line and not remarks.search(line)]


def fed(program: str, folder: Path, enter: tuple[str, int] | None, main_file: Path = _MAIN) -> bool:
    """Start the daemon, give it one message of each PRI, and end it; return whether it ran."""
    alive = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    alive.bind(("127.0.0.1", _ALIVE))
    alive.settimeout(0.05)
    sender = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    call = [program, "-n", "-f", str(main_file), "-i", f"{folder}/pid"]
    daemon = subprocess.Popen(call, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    try:
        if not _is_ready(daemon, alive, sender):
            return False
        _send(sender, enter)
        # One more message behind all others says when they are through; then what waits in other
        # queues follows.
        time.sleep(0.05)
        alive.settimeout(0.02)
        with contextlib.suppress(TimeoutError):
            while True:
                alive.recv(4096)
        sender.sendto(f"<14>{_HEAD} done".encode(), ("127.0.0.1", _READY))
        alive.settimeout(4)
        with contextlib.suppress(TimeoutError):
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


def _is_ready(daemon: subprocess.Popen[bytes], alive: socket.socket, sender: socket.socket) -> bool:
    """Wait until a message goes through the daemon; False if it ends, or none does."""
    for _ in range(100):
        sender.sendto(f"<14>{_HEAD} ready".encode(), ("127.0.0.1", _READY))
        try:
            alive.recv(4096)
        except TimeoutError:
            if daemon.poll() is not None:
                return False
        else:
            return True
    return False


def _send(sender: socket.socket, enter: tuple[str, int] | None) -> None:
    """Send one message of each PRI."""
    texts = [f"<{pri}>{_HEAD} p{pri} is here".encode() for pri in range(_PRIS)]
    if enter and enter[0] == "tcp":
        with socket.create_connection(("127.0.0.1", enter[1])) as stream:
            stream.sendall(b"".join(text + b"\n" for text in texts))
        return
    port = enter[1] if enter else _ENTRANCE
    for n, text in enumerate(texts):
        sender.sendto(text, ("127.0.0.1", port))
        if n % 24 == 23:
            time.sleep(0.005)


if __name__ == "__main__":
    main()
