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
from functools import cached_property
from pathlib import Path
from typing import TypeVar

from msgspec import Struct
from msgspec.structs import replace

from ivrel.core.correcting import CARRIED, TAKEN, Correction, Judged, Property
from ivrel.core.correcting.carried import departure_of
from ivrel.core.dialects.dialect import Dialect
from ivrel.core.reading.records import read_records
from ivrel.core.settings import Scope
from ivrel.core.text.bundle import parts
from ivrel.core.text.text import Text
from ivrel.core.vocabulary.software import Software, Version, read_versions, version_text
from ivrel.sources.carrying import Carrier, is_allowed, may_run

SECONDS = 20
C = TypeVar("C", Correction, Judged)
_MAIN = "rsyslog.conf"
FOLDER = "/etc"  # where the main file lies, unless something else is said
_BY_PATH = re.compile(rb"""(?:modload\s+["']?|load\s*=\s*["'])[^\s"']*/""", re.I)
_PLACE = re.compile(r"error during parsing file (\S+), on or before line (\d+): ")
_AROUND = re.compile(r"(errors occurr?ed in file '([^']+)') around line (\d+)")
_VERSION = re.compile(r" *\[v8[^\]]*\]")


class Complaint(Struct, frozen=True):
    """What rsyslogd -N1 has against a configuration: in its words, without the place, and the file
    and the line, '' and 0 where it names none.
    """

    text: str
    file: str = ""
    line: int = 0


def why_not_carried() -> str:
    """Return why nothing can be carried out here; '' if it can."""
    if program() is None:
        return "there is no rsyslogd here"
    if not is_allowed():
        return "this needs Linux, and the right to make namespaces: run it as root"
    return ""


def program() -> str | None:
    """Return where rsyslogd is installed; None if it is not."""
    return shutil.which(
        "rsyslogd", path=os.pathsep.join((os.environ.get("PATH", ""), "/usr/sbin", "/sbin"))
    )


def version_of(asked: str) -> Version:
    """Return the version of a program; empty if it tells none."""
    try:
        done = subprocess.run(
            [asked, "-v"], capture_output=True, text=True, timeout=SECONDS, check=False
        )
    except (OSError, subprocess.SubprocessError):
        return ()
    found = re.search(r"\b(\d+(?:\.\d+)+)", done.stdout)
    return read_versions(found[1])[0] if found else ()


class DaemonCheck:
    """Asks the program about the corrections of one run; `carry_out`: have it run them as well."""

    def __init__(self, *, carry_out: bool = False) -> None:
        self._carries = carry_out

    @cached_property
    def _carrier(self) -> Carrier:
        assert self._program is not None
        return Carrier(self._program)

    @cached_property
    def _program(self) -> str | None:
        return program()

    @cached_property
    def _version(self) -> Version:
        return version_of(self._program) if self._program else ()

    def checked(self, correction: C, dialect: Dialect, data: bytes, software: Software) -> C:
        """Return a correction, or a change that was judged, with one more property in its proof, if
        the platform's program is here, can be asked, and may be of the device's version.
        """
        asked = self._program if correction.proof and correction.asks else None
        if asked is None:
            return correction
        if _BY_PATH.search(data):
            return self._not_asked(correction, "a module is named by its path")
        if not software.may_be(self._version):
            said = f"the device has another version than {version_text(self._version)}"
            return self._not_asked(correction, said)
        try:
            folder = software.folder or FOLDER
            before = Counter(one.text for one in complaints(asked, data, folder))
            against = complaints(asked, correction.corrected, folder)
        except (OSError, subprocess.SubprocessError) as problem:
            why = f"it cannot be asked: {problem}"
        else:
            why = self._why(before, against, dialect, correction.corrected, folder)
        proof: tuple[Property, ...] = (*correction.proof, Property(TAKEN, not why, why))
        checked = replace(correction, proof=proof)
        if not may_run(correction.corrected):
            return self._not_asked(checked, "it runs programs of its own")
        if self._carries:
            carried = self._carried_out(dialect, correction.corrected)
            checked = replace(checked, proof=(*proof, carried))
        return checked

    def _not_asked(self, correction: C, why: str) -> C:
        """Return a correction that is not carried out, which is said where that was asked for."""
        if not self._carries:
            return correction
        said = Property(CARRIED, False, f"it is not carried out: {why}")
        return replace(correction, proof=(*correction.proof, said))

    def _carried_out(self, dialect: Dialect, data: bytes) -> Property:
        """Have the program run a corrected text, and compare what it sends."""
        by = f"rsyslogd {version_text(self._version)}"
        files = {part.name or _MAIN: part.data for part in parts(data)}
        # A busy machine loses messages, so that what departs is tried once more.
        why = ""
        for _ in range(2):
            try:
                found = self._carrier.run(files)
            except OSError as problem:
                return Property(CARRIED, False, f"it cannot be carried out: {problem}", by)
            scope = Scope(None, read_records(dialect, data), {})
            why = departure_of(scope, found.sends) if found.starts else "it does not start"
            if not why:
                break
        return Property(CARRIED, not why, why, by)

    def _why(
        self,
        before: Counter[str],
        against: list[Complaint],
        dialect: Dialect,
        data: bytes,
        folder: str,
    ) -> str:
        """Return what the program has against a corrected text; '' if it takes it.

        What it had against the text before is no fault of the correction, unless it is about what
        sends: that has to be taken.
        """
        lines = {f"{folder}/{part.name or _MAIN}": part.data.split(b"\n") for part in parts(data)}
        sending = list(dialect.shape.sends_at(Text(data)))
        for one in against:
            said = range(_earliest(one, lines.get(one.file, [])), one.line + 1)
            for file, first, last in sending if one.line else ():
                is_it = one.file == f"{folder}/{file or _MAIN}"
                if is_it and (first in said or last in said or first <= one.line <= last):
                    return f"line {first}, which is to send: {one.text}"
        new = list((Counter(one.text for one in against) - before).elements())
        return new[0] if new else ""


def _earliest(one: Complaint, lines: list[bytes]) -> int:
    """Return the first line that a complaint may be about.

    What it says of a parameter has the line of its object's end; anything else may be said when the
    next statement has been begun.
    """
    at = one.line
    if "parameter" in one.text or "errors occur" in one.text:
        return at
    at -= 1
    while at > 1 and lines[at - 1 : at] and re.match(rb"\s*(?:#|$)", lines[at - 1]):
        at -= 1
    return max(at, 1)


def complaints(asked: str, data: bytes, folder: str = FOLDER) -> list[Complaint]:
    """Return the complaints of rsyslogd -N1 about a configuration that lies in a folder."""
    with tempfile.TemporaryDirectory() as name:
        copy = Path(name)
        for part in parts(data):
            path = copy / (part.name or _MAIN)
            path.parent.mkdir(parents=True, exist_ok=True)
            # Includes name files of the device; here they must not mean those of this machine.
            here = part.data.replace(f"{folder}/".encode(), f"{name}/".encode())
            path.write_bytes(here)
        main = next(iter(sorted(copy.rglob(_MAIN), key=lambda p: len(p.parts))), None)
        if main is None:
            return []
        call = [asked, "-N1", "-f", str(main)]
        done = subprocess.run(
            call, capture_output=True, text=True, timeout=SECONDS, errors="replace", check=False
        )
        return placed_in(done.stderr, f"{name}/", f"{folder}/")


def placed_in(said: str, folder: str, stands_for: str) -> list[Complaint]:
    """Return the complaints in what rsyslogd -N1 said, with their places.

    folder: the place of the copy that it was given; stands_for: the original's.
    """
    out: list[Complaint] = []
    open_ = 0  # complaints without a place of their own, of which a later line may tell it
    for line in said.replace(folder, stands_for).splitlines():
        if not line.strip() or "End of config" in line or ": version " in line:
            continue
        text = _VERSION.sub("", line.removeprefix("rsyslogd: ")).strip()
        place = _PLACE.match(text)
        around = _AROUND.search(text)
        text = _AROUND.sub(r"\1", text[place.end() :] if place else text).strip()
        file = around[2] if around else place[1] if place else ""
        number = int(around[3] if around else place[2] if place else 0)
        if number:
            out[open_:] = [Complaint(one.text, file, number) for one in out[open_:]]
        out.append(Complaint(text, file, number))
        open_ = len(out) if number else open_
    return out


def told_in(said: str, folder: str, stands_for: str) -> Counter[str]:
    """Return the complaints in what rsyslogd -N1 said, without the places; as for `placed_in`."""
    return Counter(one.text for one in placed_in(said, folder, stands_for))
