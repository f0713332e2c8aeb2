"""A real rsyslogd on loopback: it is given one message of every facility and severity, and receivers listen."""

import os
import shutil
import socket
import subprocess
import tempfile
import time
from pathlib import Path

import pytest

PROGRAM = shutil.which("rsyslogd", path="/usr/sbin:/usr/bin:/sbin:/usr/local/sbin") or ""
_MISSING = [name for name, path in (("rsyslogd", PROGRAM), ("patch", shutil.which("patch"))) if not path]
_MUST = "IVREL_SKIP_NOTHING" in os.environ  # where these tests have to run, what is missing fails
needs_rsyslogd = pytest.mark.skipif(
    bool(_MISSING) and not _MUST, reason=f"no {' and no '.join(_MISSING)} here (apt-get install rsyslog patch)"
)

# Where the texts of the tests send to, and where a receiver on loopback listens in its place.
COLLECTORS = ("198.51.100.21", "198.51.100.22")
FORMAT = "TEST"


def valid(folder: Path) -> str:
    """What rsyslogd -N1 says against a configuration; '' if nothing. Of comparisons out of range it only remarks."""
    told = subprocess.run([PROGRAM, "-N1", "-f", str(folder)], capture_output=True, text=True, timeout=60)
    idle = ("version", "End of config", "always evaluate to FALSE")
    return "\n".join(line for line in told.stderr.splitlines() if not any(word in line for word in idle))


def _udp() -> socket.socket:
    made = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    made.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 1 << 20)
    made.bind(("127.0.0.1", 0))
    return made


def arrivals(files: dict[str, str], main: str) -> tuple[dict[str, set[int]], dict[str, set[str]]]:
    """The PRIs that each collector receives by UDP, and what else of their messages' beginning.

    Addresses of collectors and paths of included files are turned to loopback and to a temporary folder.
    """
    receivers = {address: _udp() for address in COLLECTORS}
    enough = _udp()
    inlet, free = _udp(), _udp()
    port = inlet.getsockname()[1]
    inlet.close()
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        for file, text in files.items():
            for address, receiver in receivers.items():
                text = text.replace(f"{address}:514", f"127.0.0.1:{receiver.getsockname()[1]}")
                text = text.replace(f'"{address}" port="514"', f'"127.0.0.1" port="{receiver.getsockname()[1]}"')
            (folder / file).parent.mkdir(parents=True, exist_ok=True)
            (folder / file).write_text(text.replace("/etc/", f"{name}/").replace("/var/log/", f"{name}/"))
        head = folder / "head.conf"
        head.write_text(
            f'global(workDirectory="{name}")\nmodule(load="imudp")\n'
            f'ruleset(name="ready") {{\n action(type="omfwd" target="127.0.0.1" port="{enough.getsockname()[1]}")\n}}\n'
            f'input(type="imudp" address="127.0.0.1" port="{port}")\n'
            f'input(type="imudp" address="127.0.0.1" port="{free.getsockname()[1]}" ruleset="ready")\n'
            f'include(file="{folder / main}")\n'
        )
        ready = free.getsockname()
        free.close()
        call = [PROGRAM, "-n", "-f", str(head), "-i", f"{name}/pid"]
        server = subprocess.Popen(call, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True)
        try:
            sender = _udp()
            enough.settimeout(0.1)
            for _ in range(100):
                sender.sendto(b"<14>Nov 23 10:00:00 gw test: ready", ready)
                try:
                    enough.recv(4096)
                    break
                except TimeoutError:
                    assert server.poll() is None, server.communicate()[0]
            for pri in range(192):
                sender.sendto(f"<{pri}>Nov 23 10:00:00 gw test: p{pri}".encode(), ("127.0.0.1", port))
                if pri % 32 == 31:
                    time.sleep(0.02)
            time.sleep(0.5)
        finally:
            server.terminate()
            server.communicate(timeout=30)
        got: dict[str, list[bytes]] = {}
        for address, receiver in receivers.items():
            receiver.setblocking(False)
            got[address] = []
            while True:
                try:
                    got[address].append(receiver.recv(4096))
                except BlockingIOError:
                    break
    told = {a: [m for m in messages if b" p" in m] for a, messages in got.items()}
    pris = {a: {int(m[1 : m.index(b">")]) for m in messages} for a, messages in told.items()}
    starts = {a: {m[m.index(b">") + 1 :].split(b" ")[0].decode() for m in messages} for a, messages in told.items()}
    return pris, starts
