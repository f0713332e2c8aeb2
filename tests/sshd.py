"""A real sshd on loopback, for one test."""

from __future__ import annotations

import contextlib
import getpass
import os
import shutil
import socket
import subprocess
import time
from collections.abc import Iterator
from pathlib import Path

import asyncssh
from msgspec import Struct

SSHD = shutil.which("sshd", path="/usr/sbin:/usr/bin:/usr/local/sbin")


class Sshd(Struct, frozen=True):
    """Where it listens, the key that it lets in, and the line of `reach:` that says so."""

    port: int
    key: Path

    @property
    def way(self) -> str:
        """How the fleet says that a device is reached there, without the braces."""
        return (
            f"address: 127.0.0.1, port: {self.port}, user: {getpass.getuser()}, key: '{self.key}'"
        )


def free_port() -> int:
    """Return a port that nobody listens on."""
    with socket.socket() as one:
        one.bind(("127.0.0.1", 0))
        return int(one.getsockname()[1])


@contextlib.contextmanager
def running_sshd(folder: Path, port: int = 0, netconf: str = "", shell: str = "") -> Iterator[Sshd]:
    """Have an sshd run; `netconf`: the program of its subsystem of that name; `shell`: the one
    that a session is spoken to by.
    """
    folder.mkdir(parents=True, exist_ok=True)
    port, key = port or free_port(), folder / "client"
    for path in (key, folder / "host"):
        made = asyncssh.generate_private_key("ssh-ed25519")
        path.write_bytes(made.export_private_key())
        path.chmod(0o600)
        path.with_suffix(".pub").write_bytes(made.export_public_key())
    lines = [
        f"Port {port}",
        "ListenAddress 127.0.0.1",
        f"HostKey {folder / 'host'}",
        f"AuthorizedKeysFile {folder / 'client.pub'}",
        "StrictModes no",
        "UsePAM no",
        "PidFile none",
        "PasswordAuthentication no",
        "PermitRootLogin yes",
        "Subsystem sftp internal-sftp",
    ]
    if netconf:
        lines.append(f"Subsystem netconf {netconf}")
    if shell:
        lines.append(f"ForceCommand {shell}")
    config = folder / "sshd_config"
    config.write_text("".join(f"{line}\n" for line in lines))
    if os.getuid() == 0:
        Path("/run/sshd").mkdir(exist_ok=True)
    log = folder / "sshd.log"
    with log.open("w") as out:
        process = subprocess.Popen([str(SSHD), "-D", "-e", "-f", str(config)], stderr=out)
    try:
        for _ in range(100):
            with contextlib.suppress(OSError), socket.create_connection(("127.0.0.1", port), 1):
                break
            assert process.poll() is None, log.read_text()
            time.sleep(0.05)
        yield Sshd(port, key)
    finally:
        process.terminate()
        process.wait(10)
