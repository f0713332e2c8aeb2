"""Where messages come from: recordings, files that collectors wrote, captures, standard input."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import datetime
from typing import BinaryIO

from ivrel.core.evidence.record import Record
from ivrel.core.vocabulary.errors import Unreadable
from ivrel.sources.messages.captures import MAGICS, Capture
from ivrel.sources.messages.formats import FORMATS, Read, recognised
from ivrel.sources.messages.streams import Lines

__all__ = ["FORMATS", "Messages"]


class Messages:
    """The messages of several files, one file after the other.

    `problems`: what was wrong with a file or with lines of it; the rest is read all the same.
    """

    def __init__(self, files: Sequence[str], now: datetime, read: Read | None = None) -> None:
        self._files, self._now, self._read = files, now, read
        self.problems: list[str] = []
        self.near = now  # when the file was written last that is being read

    def __iter__(self) -> Iterator[Record]:
        for name in self._files:
            try:
                yield from self._of(Lines(name, self._now))
            except Unreadable as problem:
                self.problems.append(str(problem))

    def _of(self, lines: Lines) -> Iterator[Record]:
        self.near = lines.near
        stream = lines.unpacked()
        if lines.begins(stream, 4) in MAGICS:
            capture = Capture(stream, lines.shown)
            with stream:
                try:
                    yield from capture
                finally:
                    self.problems += capture.remarks
            return
        yield from self._of_lines(lines, stream)

    def _of_lines(self, lines: Lines, stream: BinaryIO) -> Iterator[Record]:
        read, wrong, first = self._read, 0, ""
        for number, data in lines.of(stream):
            if not data:
                continue
            read = read or recognised(data)
            try:
                record = read(data, lines.shown, number, lines.near)
            except ValueError as problem:
                wrong, first = wrong + 1, first or f"{lines.shown}:{number}: {problem}"
                continue
            yield record
        if wrong:
            more = f"; so are {wrong - 1} more lines" if wrong > 1 else ""
            self.problems.append(f"{first}{more}")
        if lines.shortened:
            self.problems.append(f"{lines.shown}: {lines.shortened} lines are too long, and cut")
