"""Keeping what is heard: recordings that rotate, are compressed when closed, and fill no disk.

A recording that is being written is `heard-TIME-N.jsonl`; one that is closed ends in `.jsonl.gz`.
What was heard is with the system after at most a second, so that killing this program loses no
more.
"""

from __future__ import annotations

import gzip
import os
import re
import shutil
from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor
from datetime import UTC, datetime
from pathlib import Path

from msgspec import Struct

from ivrel.core.vocabulary.errors import InputError, Mistake
from ivrel.sources.files import reason

_NAME = re.compile(r"heard-[0-9T]{15}Z-[0-9]{3}\.jsonl(?:\.gz)?")
MIB = 1024 * 1024


class RotationLimits(Struct, frozen=True):
    """When recordings rotate, and how much of a disk they take: bytes, seconds, bytes."""

    size: int = 64 * MIB
    seconds: float = 3600.0
    disk: int = 1024 * MIB


class Keeper:
    """Writes lines into the recordings of a folder; InputError tells why it cannot begin.

    Where a recording cannot be written later, as on a full disk, its lines are counted and left
    out, until it can: `failing` says why, '' if nothing is wrong; `unkept`: lines left out so far.

    `now`: gives the time that recordings are named by; `clock`: seconds that never jump.
    """

    def __init__(
        self,
        folder: Path,
        limits: RotationLimits,
        now: Callable[[], datetime],
        clock: Callable[[], float],
    ) -> None:
        self._folder = folder
        self._limits = limits
        self._now = now
        self._clock = clock
        self._lines: list[bytes] = []
        self._packing: list[Future[None]] = []
        self._pool = ThreadPoolExecutor(1)
        self._last = "", 0  # the second and the number by which the last recording is named
        self.failing = ""
        self.unkept = 0
        self.deleted = 0  # recordings that went to keep within the limit
        try:
            folder.mkdir(parents=True, exist_ok=True)
            self._open()
        except OSError as problem:
            raise self._failed(folder, problem) from None

    def _failed(self, path: Path, problem: OSError) -> InputError:
        return InputError([Mistake(str(path), f"cannot be written: {reason(problem)}")])

    def _open(self) -> None:
        when = self._now().astimezone(UTC).strftime("%Y%m%dT%H%M%S")
        # Several may begin in one second. The order of their names is that of their times, so that
        # no number is given again when the recording that had it is deleted.
        n = self._last[1] + 1 if self._last[0] == when else 0
        path = self._folder / f"heard-{when}Z-{n:03}.jsonl"
        while path.exists() or path.with_name(f"{path.name}.gz").exists():
            n += 1
            path = self._folder / f"heard-{when}Z-{n:03}.jsonl"
        self.path = path
        self._last = (when, n)
        self._file = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_APPEND, 0o644)
        self._size, self._begun = 0, self._clock()

    def add(self, line: bytes) -> None:
        """Take a line, which ends; it is written at the next `flush`, or when many are held."""
        self._lines.append(line)
        if len(self._lines) >= 1000:
            self.flush()

    def flush(self) -> None:
        """Write what is held, and go on to another recording if it is time."""
        data = b"".join(self._lines)
        self._lines = []
        try:
            if self._file < 0:
                self._begin(data)
            self._write(data)
            late = self._clock() - self._begun >= self._limits.seconds
            if self._size and (late or self._size >= self._limits.size):
                self._close()
                self._open()
            self._stay_within()
        except OSError as problem:
            self.failing = f"{self.path}: cannot be written: {reason(problem)}"
        else:
            if data:
                self.failing = ""

    def _begin(self, data: bytes) -> None:
        """Begin another recording, after one could not be begun."""
        try:
            self._open()
        except OSError:
            self.unkept += data.count(b"\n")
            raise

    def _write(self, data: bytes) -> None:
        rest = memoryview(data)
        try:
            while rest:
                rest = rest[os.write(self._file, rest) :]
        except OSError:
            # Half of a line is no record: what was written is readable up to the last whole one.
            written = len(data) - len(rest)
            whole = data.rfind(b"\n", 0, written) + 1
            self.unkept += data.count(b"\n", whole)
            os.ftruncate(self._file, self._size + whole)
            self._size += whole
            raise
        self._size += len(data)

    def _close(self) -> None:
        os.close(self._file)
        self._file = -1
        if self._size:
            self._packing.append(self._pool.submit(_packed, self.path))
        else:
            self.path.unlink()

    def _stay_within(self) -> None:
        """Delete the oldest recordings, until all of them are within the limit."""
        self._packing = [one for one in self._packing if not one.done()]
        found = sorted(p for p in self._folder.iterdir() if _NAME.fullmatch(p.name))
        sizes = {path: _size_of(path) for path in found}
        for path in found:
            if sum(sizes.values()) <= self._limits.disk or path == self.path:
                break
            path.unlink(missing_ok=True)
            self.deleted += 1
            del sizes[path]

    def close(self) -> None:
        """Write what is held, and compress what was written."""
        try:
            self.flush()
        finally:
            if self._file >= 0:
                self._close()
            self._pool.shutdown()


def _size_of(path: Path) -> int:
    try:
        return path.stat().st_size
    except OSError:
        return 0  # it has been compressed meanwhile


def _packed(path: Path) -> None:
    """Compress a recording; it takes the place of the plain one only when it is whole."""
    packed = path.with_name(f".{path.name}.gz")
    target = path.with_name(f"{path.name}.gz")
    try:
        with path.open("rb") as file, gzip.open(packed, "wb", 5) as out:
            shutil.copyfileobj(file, out, MIB)
        packed.replace(target)
        path.unlink()
    except OSError:
        packed.unlink(missing_ok=True)  # the plain one stays, and is as good
