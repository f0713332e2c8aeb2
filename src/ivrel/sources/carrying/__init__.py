"""Carries a configuration out: the real daemon runs it in a network of its own, is given a message
of every facility and severity, and receivers write down who gets what.

Nothing leaves the machine, and nothing on it is touched: the daemon lives in namespaces (network
and mounts) in which every address is a receiver's, `/etc`, `/dev` and the folders that it writes to
are its own, and all else can only be read. Texts run as they are, with the paths, ports and
addresses that they name. This needs Linux, and the right to make namespaces (namespaces(7)).
"""

from __future__ import annotations

import json
import os
import re
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Mapping

from msgspec import Struct

from ivrel.core.vocabulary.severity import Selection

Endpoint = tuple[str, int, str]  # address or name, port, transport

_WORKER = "ivrel.sources.carrying.worker"
_SECONDS = 60.0  # for which a worker may be silent
# Parts that run programs, or talk to something on this machine, are not carried out.
_RUNS = re.compile(
    rb"\bomprog\b|\bmmexternal\b|\bimprog\b|\bimkafka\b|\bomkafka\b|\bimdocker\b|^[^#\n]*\^\s*/",
    re.I | re.M,
)


class CarriedOut(Struct, frozen=True):
    """What a daemon did with a configuration.

    `starts`: whether it runs at all; `sends`: by endpoint, the facilities and severities that
    arrived; `told`: what `-N1` says against it; `stamps`: the first words behind the PRI.
    """

    starts: bool
    sends: Mapping[Endpoint, Selection]
    told: tuple[str, ...] = ()
    stamps: Mapping[Endpoint, frozenset[str]] = {}


def unshare_words() -> list[str]:
    """Return the command that makes namespaces, for this user."""
    return ["unshare", "-nm"] if os.getuid() == 0 else ["unshare", "-rnm"]


def is_allowed() -> bool:
    """Whether namespaces of one's own are allowed here, and what they need is installed."""
    if shutil.which("unshare") is None or shutil.which("ip") is None:
        return False
    call = [*unshare_words(), "ip", "link", "set", "lo", "up"]
    return subprocess.run(call, capture_output=True, check=False).returncode == 0


def may_run(data: bytes) -> bool:
    """Whether a configuration may be carried out here: it runs no programs of its own."""
    return not _RUNS.search(data)


def _selection(pris: list[int]) -> Selection:
    return Selection(sum(1 << pri for pri in pris))


class Carrier:
    """Namespaces with a daemon, for one configuration after the other.

    Close it when it is needed no more.
    """

    def __init__(self, program: str) -> None:
        self._folder = tempfile.mkdtemp(prefix="ivrel-carry-")
        # The shell outlives the namespaces, whatever becomes of this process, and tidies up.
        shell = ["sh", "-c", '"$@"; rm -rf -- "$0"', self._folder]
        call = [*shell, *unshare_words(), sys.executable, "-m", _WORKER, program, self._folder]
        self._process = subprocess.Popen(
            call,
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            stderr=subprocess.DEVNULL,
            text=True,
        )

    def run(self, files: Mapping[str, bytes], enter: tuple[str, int] | None = None) -> CarriedOut:
        """Return what the daemon does with a configuration.

        files: by their names below `/etc`; the main one is `rsyslog.conf`.
        enter: the transport and the port of the input that messages come in by, if not one that is
            added.

        OSError if the namespaces are not to be had, or the daemon cannot be watched.
        """
        assert self._process.stdin is not None and self._process.stdout is not None
        said = {name: data.decode("utf-8", "surrogateescape") for name, data in files.items()}
        try:
            self._process.stdin.write(json.dumps({"files": said, "enter": enter}) + "\n")
            self._process.stdin.flush()
            line = self._process.stdout.readline()
        except BrokenPipeError:
            line = ""
        if not line:
            raise OSError("no namespaces in which it could be carried out")
        found = json.loads(line)
        if "problem" in found:
            raise OSError(found["problem"])
        rows = [((a, p, t), pris, stamps) for a, p, t, pris, stamps in found["sends"]]
        return CarriedOut(
            found["starts"],
            {end: _selection(pris) for end, pris, _ in rows},
            tuple(found["told"]),
            {end: frozenset(stamps) for end, _, stamps in rows},
        )

    def close(self) -> None:
        """End the namespaces; what was mounted there goes with them."""
        assert self._process.stdin is not None and self._process.stdout is not None
        self._process.stdin.close()
        try:
            self._process.wait(30)
        except subprocess.TimeoutExpired:
            self._process.kill()
            self._process.wait()
        self._process.stdout.close()
