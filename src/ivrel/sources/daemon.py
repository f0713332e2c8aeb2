"""Asks a platform's own program, where it is installed, whether it takes a corrected configuration.

`rsyslogd -N1` reads a configuration and says what it has against it, without starting. It may load
the modules that a configuration names, so one that names a module by its path is not given to it.
"""

from __future__ import annotations

import os
import re
import shutil
import subprocess
import tempfile
from collections import Counter
from pathlib import Path
from typing import TypeVar

from msgspec.structs import replace

from ivrel.core.correcting import TAKEN, Correction, Judged, Property
from ivrel.core.text.bundle import parts

SECONDS = 20
C = TypeVar("C", Correction, Judged)
_MAIN = "rsyslog.conf"
_BY_PATH = re.compile(rb"""(?:modload\s+["']?|load\s*=\s*["'])[^\s"']*/""", re.I)
_PLACE = re.compile(r"error during parsing file \S+ on or before line \d+: |\[v8[^\]]*\]")


def program() -> str | None:
    """Return where rsyslogd is installed; None if it is not."""
    return shutil.which(
        "rsyslogd", path=os.pathsep.join((os.environ.get("PATH", ""), "/usr/sbin", "/sbin"))
    )


def checked(correction: C, data: bytes) -> C:
    """Return a correction, or a change that was judged, with one more property in its proof, if the
    platform's program is here and can be asked.
    """
    asked = program() if correction.proof and correction.asks else None
    if asked is None or _BY_PATH.search(data):
        return correction
    try:
        before = complaints(asked, data)
        after = complaints(asked, correction.corrected)
    except (OSError, subprocess.SubprocessError) as problem:
        taken = Property(TAKEN, False, f"it cannot be asked: {problem}")
    else:
        # What it had against the configuration before is no fault of the correction.
        new = list((after - before).elements())
        taken = Property(TAKEN, not new, new[0] if new else "")
    return replace(correction, proof=(*correction.proof, taken))


def complaints(asked: str, data: bytes) -> Counter[str]:
    """Return the complaints of rsyslogd -N1 about a configuration, without their places."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        for part in parts(data):
            path = folder / (part.name or _MAIN)
            path.parent.mkdir(parents=True, exist_ok=True)
            # Includes name files of the device; here they must not mean those of this machine.
            path.write_bytes(part.data.replace(b"/etc/", f"{name}/".encode()))
        main = next(iter(sorted(folder.rglob(_MAIN), key=lambda p: len(p.parts))), None)
        if main is None:
            return Counter()
        call = [asked, "-N1", "-f", str(main)]
        done = subprocess.run(
            call, capture_output=True, text=True, timeout=SECONDS, errors="replace", check=False
        )
        return told_in(done.stderr, f"{name}/", "/etc/")


def told_in(said: str, folder: str, stands_for: str) -> Counter[str]:
    """Return the complaints in what rsyslogd -N1 said, without the places; `folder`: the place of
    the copy that it was given, and the original's.
    """
    told = (line for line in said.replace(folder, stands_for).splitlines() if line.strip())
    told = (line for line in told if "End of config" not in line and ": version " not in line)
    return Counter(_PLACE.sub("", line.removeprefix("rsyslogd: ")).strip() for line in told)
