"""The files of a stand-in whose configuration is files: a folder of its own that looks like the
root of a device, and the two commands that are run there.
"""

from __future__ import annotations

import asyncio
import contextlib
import re
import shlex
import shutil
from pathlib import Path

import asyncssh

from ivrel.core.text.bundle import pack, parts
from ivrel.sources.daemon import program
from ivrel.standin.unit import Unit

MAIN = "rsyslog.conf"
RESTART = "restart-export"  # what the fleet of the example names as restart
OWN = re.compile(r"\.ivrel-new$")


class Root:
    """The files of one device below a folder, which its configuration is written to."""

    def __init__(self, unit: Unit, folder: Path) -> None:
        self._unit = unit
        self.folder = folder
        self._etc = folder / "etc"
        shutil.rmtree(folder, ignore_errors=True)  # what an earlier run left
        (folder / "tmp").mkdir(parents=True, exist_ok=True)
        for part in parts(unit.running):
            path = self._etc / (part.name or MAIN)
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_bytes(part.data)

    def text(self) -> bytes:
        """Return the current text."""
        found = sorted(p for p in self._etc.rglob("*") if p.is_file() and not OWN.search(p.name))
        return pack({p.relative_to(self._etc).as_posix(): p.read_bytes() for p in found})

    async def run(self, process: asyncssh.SSHServerProcess[bytes]) -> None:
        """Run one of the commands that a device has; any other is not known."""
        command = process.command or ""
        words = [w for w in shlex.split(command) if not w.startswith("PATH=")]
        if words[:1] == [RESTART]:
            self._unit.take(self.text())
            self._unit.saved = self._unit.running
            process.exit(0)
        elif words[:2] == ["rsyslogd", "-N1"] and len(words) == 4:
            code, said = await self._checked(words[3])
            process.stderr.write(said)
            process.exit(code)
        else:
            process.stderr.write(b"no such command\n")
            process.exit(127)

    async def _checked(self, main: str) -> tuple[int, bytes]:
        """Have the real program read files, if it is on this machine; else they are taken."""
        asked = program()
        path = (self.folder / main.lstrip("/")).resolve()
        if asked is None or not path.is_relative_to(self.folder.resolve()):
            return 0, b""
        # The copy includes files by the names that they have on the device.
        above = f"{main.rpartition('/')[0]}/".encode()
        for one in path.parent.rglob("*"):
            if one.is_file():
                data = one.read_bytes()
                one.write_bytes(data.replace(above, f"{path.parent}/".encode()))
        pipe = asyncio.subprocess.PIPE
        process = await asyncio.create_subprocess_exec(
            asked, "-N1", "-f", str(path), stdout=pipe, stderr=pipe
        )
        with contextlib.suppress(TimeoutError):
            async with asyncio.timeout(20):
                _, err = await process.communicate()
                said = err.replace(f"{path.parent}/".encode(), above)
                return process.returncode or 0, said
        process.kill()
        return 1, b"it does not end\n"
