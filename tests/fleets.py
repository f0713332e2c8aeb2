"""Fleets of stand-ins for the tests and for bench/: copies of the example's devices on loopback,
what each of them is really set to do, and what a delivery may leave it at.
"""

from __future__ import annotations

import contextlib
import os
import re
import signal
import socket
import sqlite3
import subprocess
import sys
import time
from collections.abc import Iterator
from functools import cache
from pathlib import Path

from msgspec.structs import replace

from ivrel.core import read_fleet
from ivrel.core.delivery.standing import BEFORE, PROVED, standing
from ivrel.core.fleet import Device
from ivrel.demo.workspace import configurations, fleet_text, policy_text
from ivrel.sources.files import write_text
from ivrel.sources.workspace import WorkspaceFiles
from ivrel.standin.example import NETCONF_PORT, SSH_PORT, on_loopback
from ivrel.standin.files import RESTART
from ivrel.standin.running import asked

PROGRAM = str(Path(sys.executable).parent / "ivrel")
SECRET = re.compile(r"\b[0-9a-f]{24}\b")  # what keepers' secrets look like in the example
FIRST = 64  # networks from 127.64 on hold the copies


def write_fleet(
    folder: Path, number: int, *, only: str = "", patience: int = 5, trial: int = 5
) -> list[Device]:
    """Write a workspace of so many stand-ins, copies of the example's devices; `only`: names of
    those that are copied.
    """
    every = read_fleet(fleet_text(), "fleet.yaml").devices
    devices = [d for d in every if not only or d.name in only.split()]
    network = _network()
    texts, out = configurations(), []
    for n in range(number):
        device, copy = devices[n % len(devices)], n // len(devices)
        name = f"{device.name}-{copy}" if copy else device.name
        old = on_loopback(device.identity or "")
        new = f"127.{network}.{copy}.{old.rpartition('.')[2]}"
        out.append(replace(device, name=name, identity=new))
        for file, text in texts[device.name].items():
            text = re.sub(rf"\b{re.escape(old)}\b", new, on_loopback(text))
            text = re.sub(rf"\b{device.name}\b", name, text)
            write_text(folder / "configs" / (f"{name}/{file}" if file else f"{name}.conf"), text)
    rows = [
        f"  - {{device: {d.name}, kind: {d.kind}, site: {d.site}, platform: {d.platform}, "
        f"groups: [{', '.join(d.groups)}], identity: {d.identity}"
        f"{', packages: [rsyslog-gnutls]' if d.platform == 'rsyslog' else ''}}}\n"
        for d in out
    ]
    key, second = (folder / ".ivrel" / "standin" / n for n in ("key", "second-password"))
    host = f"{{host: quay, address: 127.{network}.255.253, port: {SSH_PORT}, user: keeper, key: '{key}'}}"
    ways = [
        f"{{via: ssh, port: {SSH_PORT}, user: keeper, key: '{key}', patience: {patience}, trial: {trial}}}",
        f"{{where: {{platform: [ietf-syslog, openconfig]}}, via: netconf, port: {NETCONF_PORT}}}",
        f"{{where: {{platform: rsyslog}}, restart: {RESTART}}}",
        f"{{where: {{platform: hollin}}, second-password: {{from: [cat, '{second}']}}}}",
        "{where: {site: orrin, kind: router}, through: quay}",
    ]
    words = {word for d in out for word in (f"{d.site}, kind: {d.kind}", d.platform)}
    ways = [w for w in ways if "where" not in w or any(word in w for word in words)]
    reach = "reach:\n" + "".join(f"  - {way}\n" for way in ways) + f"hosts:\n  - {host}\n"
    write_text(folder / "fleet.yaml", f"fleet: stand-ins\n{reach}devices:\n{''.join(rows)}")
    write_text(folder / "policy.yaml", on_loopback(policy_text()))
    return out


@cache
def _network() -> int:
    """Return a network of loopback that no other process of the tests has."""
    for number in range(FIRST, 250):
        one = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        with contextlib.suppress(OSError):
            one.bind((f"127.{number}.255.254", 2221))
            _HELD.append(one)
            return number
        one.close()
    raise AssertionError("no network is free")


_HELD: list[socket.socket] = []  # as long as the process lives


def call(*words: str | Path, code: int | None = 0) -> subprocess.CompletedProcess[str]:
    """Run the program."""
    done = subprocess.run(
        [PROGRAM, *map(str, words)],
        capture_output=True,
        text=True,
        timeout=300,
        check=False,
        env={name: value for name, value in os.environ.items() if name != "COLUMNS"},
    )
    assert "Traceback" not in done.stderr and "error in Ivrel" not in done.stdout, done
    # Whatever a command does, the secrets of configurations are told nowhere.
    assert not SECRET.search(done.stdout + done.stderr), words
    assert code is None or done.returncode == code, (words, done.stdout[-3000:], done.stderr[-800:])
    return done


@contextlib.contextmanager
def standins(folder: Path, *words: str) -> Iterator[subprocess.Popen[str]]:
    """Have the stand-ins of a workspace run, and their keys known."""
    log = folder / "standin.log"
    with log.open("w") as out:
        process = subprocess.Popen(
            [PROGRAM, "standin", "-w", str(folder), *words], stdout=out, stderr=out, text=True
        )
    try:
        for _ in range(600):
            if "are running" in log.read_text():
                break
            assert process.poll() is None, log.read_text()
            time.sleep(0.05)
        if not (folder / ".ivrel" / "host-keys").exists():
            call("gather", "-w", folder, "--learn-keys", code=None)
        yield process
    finally:
        process.send_signal(signal.SIGTERM)
        process.wait(20)


def shown(folder: Path, device: str) -> bytes:
    """Return what a stand-in is set to do now, asked by another way than any link."""
    return asked(folder, ["show", device]).encode()


def kill(process: subprocess.Popen[bytes]) -> None:
    """Kill a process as nothing can be kept from it."""
    with contextlib.suppress(ProcessLookupError):
        os.kill(process.pid, signal.SIGKILL)
    process.wait()


def states(folder: Path, number: int = 0) -> dict[str, str]:
    """Return what the journal says of each device of a delivery, the last if no number is given;
    nothing without one.
    """
    path = folder / ".ivrel" / "deliveries.sqlite"
    if not path.exists():
        return {}
    base = sqlite3.connect(path)
    try:
        if not base.execute("SELECT 1 FROM sqlite_master WHERE name = 'delivery'").fetchone():
            return {}  # nothing could be written but the file
        number = number or base.execute("SELECT max(id) FROM delivery").fetchone()[0]
        rows = base.execute("SELECT name, state FROM device WHERE delivery = ?", (number,))
        return dict(rows.fetchall())
    finally:
        base.close()


def third_states(
    folder: Path, befores: dict[str, bytes], proved: dict[str, bytes], number: int = 0
) -> list[str]:
    """Return the devices that read neither as before nor as proved, or otherwise than the journal
    says.
    """
    workspace, out = WorkspaceFiles(folder), []
    platforms = {d.name: d.platform for d in workspace.fleet.devices}
    said = states(folder, number)
    for name in proved:
        state = said.get(name, "waiting")
        dialect = workspace.dialects[platforms[name]]
        now = shown(folder, name)
        found = standing(dialect, now, befores[name], proved[name])
        wanted = PROVED if state in ("delivered", "there already") else BEFORE
        if found.where != wanted:
            out.append(f"{name}: the journal says {state}, it reads {found.where}: {found.why}")
    return out


def proved_texts(folder: Path, corrections: Path) -> tuple[dict[str, bytes], dict[str, bytes]]:
    """Return what each device says before its change, and what it says with it."""
    from ivrel.core.correcting.changes import apply_change

    workspace = WorkspaceFiles(folder)
    befores, proved = {}, {}
    for device in workspace.fleet.devices:
        path = corrections / device.name / "change.txt"
        befores[device.name] = workspace.text(device)[0]
        if path.exists():
            dialect = workspace.dialects[device.platform]
            proved[device.name] = apply_change(
                dialect, befores[device.name], path.read_text(), "change"
            )
    return befores, proved
