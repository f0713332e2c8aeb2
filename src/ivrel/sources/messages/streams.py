"""Streams of lines: from files, compressed or not, and from standard input, in bounded memory."""

from __future__ import annotations

import gzip
import io
import lzma
import sys
from collections.abc import Iterator
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING, BinaryIO, cast

import zstandard

from ivrel.core.syslog.compiled import line_counter
from ivrel.core.syslog.framing import LONGEST
from ivrel.core.vocabulary.errors import Unreadable
from ivrel.sources.files import reason

if TYPE_CHECKING:
    from typing_extensions import Buffer

STDIN = "-"
STDIN_SHOWN = "standard input"
LONGEST_LINE = 8 * LONGEST  # in a recording, a sign of a message may take six
_DAMAGED = (OSError, EOFError, lzma.LZMAError, zstandard.ZstdError)


class FileLines:
    """The lines of one file; `shown`: what it is called, `near`: when it was written last.

    Unreadable tells why it cannot be opened, or at which line it is damaged.
    """

    def __init__(self, name: str, now: datetime) -> None:
        self.shown = STDIN_SHOWN if name == STDIN else name
        self.near = now
        self._plain = False
        self.shortened = 0  # lines whose end was dropped, since they are too long
        try:
            if name == STDIN:
                self._file = cast(BinaryIO, sys.stdin.buffer)
            else:
                path = Path(name)
                if path.is_dir():
                    raise Unreadable(f"{name}: is a directory")
                self._file = path.open("rb")
                self.near = datetime.fromtimestamp(path.stat().st_mtime, UTC)
        except OSError as problem:
            raise Unreadable(f"{name}: {reason(problem)}") from None

    def unpacked(self) -> BinaryIO:
        """Return the bytes of the file as a stream that can be looked into; it is closed by the
        caller.
        """
        stream = self._unpacked(self._file)
        return stream if hasattr(stream, "peek") else cast(BinaryIO, io.BufferedReader(stream))

    def begins(self, stream: BinaryIO, size: int) -> bytes:
        """Return the first bytes of a stream, which are not taken from it."""
        try:
            return bytes(stream.peek(size)[:size])  # type: ignore[attr-defined]
        except _DAMAGED as problem:
            raise self._damaged("from its beginning on", problem) from None

    def of(self, stream: BinaryIO) -> Iterator[tuple[int, bytes]]:
        """Yield the number of each line, from 1, and its bytes without the line end."""
        number = 0
        try:
            with stream:
                while line := stream.readline(LONGEST_LINE):
                    number += 1
                    if not line.endswith(b"\n") and len(line) == LONGEST_LINE:
                        self.shortened += 1
                        self._pass_over(stream)
                    yield number, line.rstrip(b"\r\n")
        except _DAMAGED as problem:
            raise self._damaged(f"behind line {number}", problem) from None

    def blocks(
        self, stream: BinaryIO, size: int, *, keep: bool = True
    ) -> Iterator[tuple[int, int, int, bytes | None]]:
        """Yield whole lines, about `size` bytes at a time: the number of the first, where they
        begin, how many bytes they have, and these.

        `keep`: whether they are wanted; if not, None replaces all but the first of them. Of a line
        that is too long, a part of the bytes is yielded in any case.
        """
        number = 1
        start = 0
        have = 0
        buffer = bytearray(size)
        held = memoryview(buffer)
        count = line_counter()
        with stream:
            while True:
                have, problem = self._fill(stream, held, have)
                ended = problem is not None or have < size
                end = have if ended else buffer.rfind(b"\n") + 1
                if end:
                    gone = end
                    added = count(buffer, end)
                    data = bytes(held[:end]) if keep or number == 1 else None
                    held[: have - end] = held[end:have]
                    have -= end
                elif ended:
                    data = None
                    gone = 0
                    added = 0
                else:  # one line, and it goes on
                    data = bytes(held[: LONGEST_LINE + 1]) + b"\n"
                    gone = have + self._pass_over(stream)
                    added = 1
                    have = 0
                if gone:
                    yield number, start, gone, data
                number += added
                start += gone
                if problem is not None:
                    raise self._damaged(f"behind line {number - 1}", problem) from None
                if ended:
                    return

    def _fill(self, stream: BinaryIO, held: memoryview, have: int) -> tuple[int, Exception | None]:
        """Read until there is no room, or there are no more bytes; return how many there are then,
        and what is damaged.
        """
        try:
            while have < len(held):
                more = stream.readinto1(held[have:])  # type: ignore[attr-defined]
                if not more:
                    break
                have += more
        except _DAMAGED as problem:
            return have, problem
        return have, None

    @property
    def is_plain(self) -> bool:
        """Whether the bytes of the file are those of its lines."""
        return self._plain

    def _damaged(self, where: str, problem: Exception) -> Unreadable:
        said = str(problem).strip().rstrip(".").lower() or type(problem).__name__
        return Unreadable(f"{self.shown}: damaged {where}: {said}")

    def _pass_over(self, stream: BinaryIO) -> int:
        """Pass over the rest of a line that is too long; return its bytes."""
        gone = 0
        while rest := stream.readline(LONGEST):
            gone += len(rest)
            if rest.endswith(b"\n"):
                break
        return gone

    def _unpacked(self, file: BinaryIO) -> BinaryIO:
        """Return a stream of what a file holds, which may be compressed."""
        # Standard input cannot go back, but what is buffered of it can be looked at.
        first = self.begins(file, 6)
        if first.startswith(b"\x1f\x8b"):
            return cast(BinaryIO, gzip.GzipFile(fileobj=file))
        if first.startswith(b"\xfd7zXZ\x00"):
            return cast(BinaryIO, lzma.LZMAFile(file))
        if first.startswith(b"\x28\xb5\x2f\xfd"):
            return cast(BinaryIO, io.BufferedReader(_Zstd(file)))
        self._plain = self.shown != STDIN_SHOWN
        return file


class _Zstd(io.RawIOBase):
    """A stream of what a file of zstd holds, which tells where the file is cut off."""

    # Packed bytes taken at a time. A few can stand for very many, which are held until they are
    # read.
    TAKEN = 2048

    def __init__(self, file: BinaryIO) -> None:
        self._file = file
        self._held = b""
        self._frame: zstandard.ZstdDecompressionObj | None = None

    def readable(self) -> bool:
        return True

    def readinto(self, buffer: Buffer) -> int:
        view = memoryview(buffer).cast("B")
        while not self._held:
            packed = self._frame.unused_data if self._frame and self._frame.eof else b""
            packed = packed or self._file.read(self.TAKEN)
            if not packed:
                if self._frame is not None and not self._frame.eof:
                    raise EOFError("it ends too early")
                return 0
            if self._frame is None or self._frame.eof:
                self._frame = zstandard.ZstdDecompressor().decompressobj()
            self._held = self._frame.decompress(packed)
        size = min(len(view), len(self._held))
        view[:size] = self._held[:size]
        self._held = self._held[size:]
        return size
