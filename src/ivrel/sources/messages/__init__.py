"""Where messages come from: recordings, files that collectors wrote, captures, standard input."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import datetime
from pathlib import Path
from typing import BinaryIO

from msgspec.structs import replace

from ivrel.core.syslog.record import Record
from ivrel.core.vocabulary.errors import Unreadable
from ivrel.sources.messages.blocks import MAGICS
from ivrel.sources.messages.chunks import Chunk, Gathers, RecordFormat, Summed, Summing
from ivrel.sources.messages.formats import FORMATS, recognised
from ivrel.sources.messages.streams import FileLines

__all__ = [
    "FORMATS", "Chunk", "Gathers", "Messages", "RecordFormat", "Summed", "Summing", "problems_of",
]  # fmt: skip

CHUNK = 16 * 1024 * 1024  # bytes of a chunk, about


class Messages:
    """The messages of several files, one file after the other.

    `problems`: what was wrong with a file or with lines of it; the rest is read all the same.
    """

    def __init__(
        self, files: Sequence[str], now: datetime, form: RecordFormat | None = None
    ) -> None:
        self._files = files
        self._now = now
        self._form = form
        self.problems: list[str] = []
        self.near = now  # when the file was written last that is being read

    def __iter__(self) -> Iterator[Record]:
        for name in self._files:
            try:
                yield from self._of(FileLines(name, self._now))
            except Unreadable as problem:
                self.problems.append(str(problem))

    def _of(self, lines: FileLines) -> Iterator[Record]:
        self.near = lines.near
        stream = lines.unpacked()
        if lines.begins(stream, 4) in MAGICS:
            yield from self._of_capture(lines, stream)
        else:
            yield from self._of_lines(lines, stream)

    def _of_capture(self, lines: FileLines, stream: BinaryIO) -> Iterator[Record]:
        self.near = lines.near
        # Loaded here: its library takes long to load, and few files are captures.
        from ivrel.sources.messages.captures import Capture

        capture = Capture(stream, lines.shown)
        with stream:
            try:
                yield from capture
            finally:
                self.problems += capture.remarks

    def parts(self, *, by_path: bool) -> Iterator[Chunk | Record]:
        """Yield the lines of the files in chunks, and the messages of captures one by one.

        `by_path`: chunks of plain files name them, and do not hold their lines.
        """
        for name in self._files:
            try:
                lines = FileLines(name, self._now)
                stream = lines.unpacked()
                if lines.begins(stream, 4) in MAGICS:
                    yield from self._of_capture(lines, stream)
                else:
                    yield from self._chunks(lines, stream, name if by_path else "")
            except Unreadable as problem:
                self.problems.append(str(problem))

    def _chunks(self, lines: FileLines, stream: BinaryIO, path: str) -> Iterator[Chunk]:
        form = self._form
        path = path if lines.is_plain else ""
        # After a damaged one, nothing more comes of a file; what came before it stands.
        for number, start, size, data in lines.blocks(stream, CHUNK, keep=not path):
            form = form or RecordFormat(recognised(data or b""))
            chunk = Chunk(lines.shown, lines.near, form, number)
            if path and (data is None or len(data) == size):
                yield replace(chunk, path=str(Path(path).absolute()), start=start, size=size)
            else:
                yield replace(chunk, data=data)

    def _of_lines(self, lines: FileLines, stream: BinaryIO) -> Iterator[Record]:
        read = self._form and self._form.read
        wrong = 0
        first = ""
        for number, data in lines.of(stream):
            if not data:
                continue
            read = read or FORMATS[recognised(data)]
            try:
                record = read(data, lines.shown, number, lines.near)
            except ValueError as problem:
                wrong = wrong + 1
                first = first or f"{lines.shown}:{number}: {problem}"
                continue
            yield record
        self.problems += problems_of(lines.shown, wrong, first, lines.shortened)


def problems_of(shown: str, wrong: int, first: str, shortened: int) -> Iterator[str]:
    """Yield what was wrong with the lines of a file, in words; `first`: with the first of them."""
    if wrong:
        yield f"{first}; so are {wrong - 1:,} more lines" if wrong > 1 else first
    if shortened:
        yield f"{shown}: {shortened:,} lines are too long, and cut"
