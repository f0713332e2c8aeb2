"""Gathering from and delivering to what nobody here wrote: Debian's netconfd, sshd and rsyslogd."""

from __future__ import annotations

import contextlib
import os
import re
import shutil
import signal
import socket
import subprocess
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path

import pytest
from fleets import call, states
from rsyslogd import PROGRAM as RSYSLOGD
from sshd import SSHD, Sshd, free_port, running_sshd

from ivrel.demo.workspace import configurations
from ivrel.sources.files import write_text

NETCONFD = shutil.which("netconfd", path="/usr/sbin:/usr/bin:/usr/local/sbin")
MODULES = ("iana-if-type", "ietf-interfaces", "ietf-ip", "ietf-system", "ietf-syslog")
STRICT = bool(os.environ.get("IVREL_SKIP_NOTHING"))
POLICY = """policy: one
collectors:
  beacon-a: {{address: 127.0.0.1, port: {port}, transport: udp, format: rfc3164}}
rules:
  - rule: everywhere
    require:
      export: on
      collectors: {{exactly: [beacon-a]}}
      level: {{from: warning, to: informational, write: informational}}
"""


def workspace(folder: Path, platform: str, way: str, port: int = 5514) -> Path:
    """Write a workspace of one device, and learn its key."""
    device = f"device: orrin-gw9, kind: router, site: orrin, platform: {platform}"
    identity = "identity: 127.0.0.1, names: kelby-gw2"
    fleet = f"fleet: one\ndevices:\n  - {{{device}, {identity}, reach: {{{way}}}}}\n"
    write_text(folder / "fleet.yaml", fleet)
    write_text(folder / "policy.yaml", POLICY.format(port=port))
    call("gather", "-w", folder, "--learn-keys")
    return folder


@contextlib.contextmanager
def netconfd(folder: Path) -> Iterator[Sshd]:
    """Have a real NETCONF server run behind a real sshd."""
    short = Path(tempfile.mkdtemp(prefix="nc"))  # names of sockets have a limit
    modules, sock, config = folder / "modules", short / "socket", folder / "netconfd.conf"
    modules.mkdir(parents=True)
    shutil.copy(Path(__file__).parent / "modules" / "ietf-syslog.yang", modules)
    said = [f'modpath "{modules}:/usr/share/yuma/modules"', *(f"module {m}" for m in MODULES)]
    port = free_port()  # the server lets in nobody who came by another
    said += [
        f"port {port}",
        "target candidate",
        "no-startup",
        f'superuser root\n  ncxserver-sockname "{sock}"',
    ]
    config.write_text("netconfd {\n  " + "\n  ".join(said) + "\n}\n")
    env = {**os.environ, "HOME": str(folder)}
    with (folder / "out").open("wb") as out:
        server = subprocess.Popen(
            [str(NETCONFD), f"--config={config}"], stdout=out, stderr=out, env=env, cwd=folder
        )
    try:
        for _ in range(200):
            if sock.exists() or server.poll() is not None:
                break
            time.sleep(0.05)
        program = Path(NETCONFD or "").with_name("netconf-subsystem")
        subsystem = f"{program} --ncxserver-sockname={port}@{sock}"
        with running_sshd(folder / "ssh", port, subsystem) as one:
            yield one
    finally:
        server.kill()
        server.wait()
        shutil.rmtree(short)


def seeded(folder: Path, sshd: Sshd) -> None:
    """Give a server the configuration of a device of the example, as another manager would."""
    from ncclient import manager

    text = configurations()["kelby-gw2"][""]
    body = text[text.index(">", text.index("<data")) + 1 : text.rindex("</data>")]
    base = "urn:ietf:params:xml:ns:netconf:base:1.0"
    with manager.connect_ssh(
        "127.0.0.1", sshd.port, username="root", key_filename=str(sshd.key), hostkey_verify=False,
        allow_agent=False, look_for_keys=False,
    ) as one:  # fmt: skip
        one.edit_config(f'<config xmlns="{base}">{body}</config>', target="candidate")
        one.commit()


@pytest.mark.deep
@pytest.mark.skipif(not (NETCONFD and SSHD) and not STRICT, reason="needs netconfd and sshd")
def test_a_real_netconf_server_is_gathered_from_and_delivered_to(tmp_path: Path) -> None:
    with netconfd(tmp_path / "server") as sshd:
        seeded(tmp_path, sshd)
        way = f"via: netconf, {sshd.way}, trial: 8"
        folder, out = workspace(tmp_path / "w", "ietf-syslog", way), tmp_path / "corrections"
        call("gather", "-w", folder)
        file = folder / "configs" / "orrin-gw9.conf"
        before = file.read_text()
        assert "198.51.100.21" in before
        call("correct", "-w", folder, "-o", out)
        # The connection is lost while the change is on trial: the server takes it back by itself.
        words = ["deliver", "-w", str(folder), str(out)]
        heard = tmp_path / "heard"
        heard.mkdir()
        cut = subprocess.Popen(
            [*_program(), *words, "--expect", "--heard", str(heard)],
            stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
        )  # fmt: skip
        _until(lambda: _noted(folder, "reads as proved"))
        os.kill(cut.pid, signal.SIGKILL)
        cut.wait()
        assert states(folder) == {"orrin-gw9": "in flight"}
        time.sleep(1)
        call("gather", "-w", folder)
        assert file.read_text() == before
        call("deliver", "-w", folder, "--resume", code=1)
        assert states(folder) == {"orrin-gw9": "as before"}
        call(*words)
        assert states(folder) == {"orrin-gw9": "delivered"}
        call("gather", "-w", folder)
        assert file.read_text() != before
        assert "127.0.0.1" in file.read_text()
        call("audit", "-w", folder)
        record = call("deliver", "-w", folder, "--record", "--format", "md").stdout
        assert re.search(r"`commit, confirmed within 8 s` \| ok", record)


def _program() -> list[str]:
    from fleets import PROGRAM

    return [PROGRAM]


def _noted(folder: Path, step: str) -> bool:
    """Whether the journal knows a step."""
    import sqlite3

    path = folder / ".ivrel" / "deliveries.sqlite"
    if not path.exists():
        return False
    with contextlib.closing(sqlite3.connect(path)) as base:
        try:
            return bool(base.execute("SELECT 1 FROM step WHERE step = ?", (step,)).fetchone())
        except sqlite3.OperationalError:
            return False


def _until(holds: object, seconds: float = 30) -> None:
    assert callable(holds)
    end = time.monotonic() + seconds
    while not holds():
        assert time.monotonic() < end
        time.sleep(0.05)


@contextlib.contextmanager
def rsyslogd(folder: Path, main: Path) -> Iterator[Path]:
    """Have a real rsyslogd run, which takes messages of a socket in the folder; yield the script
    that restarts it.
    """
    script, pid = folder / "restart", folder / "pid"
    start = f"{RSYSLOGD} -f {main} -i {pid} && for i in $(seq 50); do [ -s {pid} ] && break; sleep 0.1; done"
    stop = f"[ -s {pid} ] && kill $(cat {pid}) && while [ -s {pid} ]; do sleep 0.05; done"
    script.write_text(f"#!/bin/sh\n{stop}\n{start}\n")
    script.chmod(0o755)
    subprocess.run([str(script)], check=True, timeout=30)
    try:
        yield script
    finally:
        with contextlib.suppress(OSError, ValueError):
            os.kill(int(pid.read_text()), signal.SIGTERM)


@pytest.mark.deep
@pytest.mark.skipif(not (RSYSLOGD and SSHD) and not STRICT, reason="needs rsyslogd and sshd")
def test_a_real_rsyslogd_is_gathered_from_delivered_to_and_heard(tmp_path: Path) -> None:
    port, device = free_port(), tmp_path / "device"
    device.mkdir()
    main, log = device / "rsyslog.conf", device / "log"
    main.write_text(
        f'module(load="imuxsock" SysSock.Use="off")\n'
        f'input(type="imuxsock" Socket="{log}")\n'
        f'*.err action(type="omfwd" target="127.0.0.1" port="{port}" protocol="udp")\n'
    )
    before = main.read_text()
    with running_sshd(tmp_path / "ssh") as sshd, rsyslogd(device, main) as restart:
        way = f"via: ssh, {sshd.way}, files: '{main}', restart: '{restart}'"
        folder, out = workspace(tmp_path / "w", "rsyslog", way, port), tmp_path / "corrections"
        call("gather", "-w", folder)
        assert (folder / "configs" / "orrin-gw9.conf").read_text() == before
        call("correct", "-w", folder, "-o", out)
        # What the program on the device does not take never replaces a file.
        files = {out / "orrin-gw9" / n: s for n, s in (("change.txt", "+"), ("backout.txt", "-"))}
        good = {path: path.read_text() for path in files}
        for path, sign in files.items():
            said = re.sub(rf'(?m)^(\{sign}.*protocol="udp")', r'\1 nosuch="1"', good[path])
            assert said != good[path]
            path.write_text(said)
        refused = call("deliver", "-w", folder, out, code=1).stdout
        assert "nosuch" in refused and "its own check" in refused
        assert main.read_text() == before and states(folder) == {"orrin-gw9": "not begun"}
        for path, text in good.items():
            path.write_text(text)
        going = [True]
        _says(log, "<14>", going)
        delivered = call(
            "deliver", "-w", folder, out, "--expect", "--udp", str(port), "--on", "127.0.0.1",
            "--within", "20s",
        )  # fmt: skip
        going.clear()
        assert "delivered" in delivered.stdout
        assert main.read_text() != before and "informational" not in before
        assert {p.name for p in device.iterdir()} == {"rsyslog.conf", "log", "restart", "pid"}
        call("gather", "-w", folder)
        call("audit", "-w", folder)


def _says(log: Path, pri: str, going: list[bool]) -> None:
    """Have a program speak on the device until it is told to stop."""
    import threading

    def speak() -> None:
        while going:
            with (
                contextlib.suppress(OSError),
                socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM) as one,
            ):
                one.connect(str(log))
                one.send(f"{pri}harbour: gangway 3 is down".encode())
            time.sleep(0.1)

    threading.Thread(target=speak, daemon=True).start()
