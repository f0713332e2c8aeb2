"""Chunks: whole lines of one file, which are summarised wherever there is room."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from datetime import datetime, tzinfo
from pathlib import Path
from typing import Generic, Protocol, Self, TypeVar

from msgspec import Struct

from ivrel.core.attribution.arrival import Arrival, arrived
from ivrel.core.attribution.filtering import ALWAYS, Period
from ivrel.core.attribution.senders import Directory
from ivrel.core.syslog.alike import AlikeLines
from ivrel.core.syslog.signatures import Group, Signatures
from ivrel.sources.messages.formats import FORMATS, Read, template
from ivrel.sources.messages.streams import LONGEST_LINE


class RecordFormat(Struct, frozen=True):
    """The format of records: a row of FORMATS, or a template of the user's own."""

    name: str = ""
    template: str = ""

    @property
    def read(self) -> Read:
        """What reads a line."""
        return template(self.template) if self.template else FORMATS[self.name]


class Chunk(Struct, frozen=True):
    """Whole lines of one file.

    `shown`: what the file is called; `near`: when it was written last; `line`: the number of the
    first; `collector`: whose file it is, '' if that is not known. `data`: the lines; if None, they
    are `size` bytes from `start` on in the file `path`.
    """

    shown: str
    near: datetime
    form: RecordFormat
    line: int
    collector: str = ""
    path: str = ""
    start: int = 0
    size: int = 0
    data: bytes | None = None

    def bytes(self) -> bytes:
        """Return the lines."""
        if self.data is not None:
            return self.data
        with Path(self.path).open("rb") as file:
            file.seek(self.start)
            return file.read(self.size)


class Gathers(Protocol):
    """Takes messages, and what others took."""

    def add(self, arrival: Arrival) -> None:
        """Take a message."""

    def add_alike(self, arrival: Arrival, alike: AlikeLines) -> bool:
        """Take messages that show the same; `arrival`: the first of them.

        Return False, with nothing taken, if each of them must be read.
        """

    def settle(self) -> None:
        """Put what was taken in its order: all lines of a chunk have been taken."""

    def merge(self, other: Self) -> None:
        """Take in what another took."""


G = TypeVar("G", bound=Gathers)


class Summed(Struct, Generic[G]):
    """What a chunk comes to: what was gathered of it; how many of its lines are no records, and
    what is wrong with the first; how many were too long.
    """

    shown: str
    gathered: G
    wrong: int = 0
    first: str = ""
    shortened: int = 0


class Summing(Generic[G]):
    """Summarises chunks: a chunk in, a summary out, wherever it is done.

    `zone`: that of stamps which say none; `new`: makes what takes the messages of a chunk;
    `period`: when they must have come.
    """

    def __init__(
        self,
        directory: Directory,
        zone: tzinfo,
        new: Callable[[], G],
        period: Period = ALWAYS,
    ) -> None:
        self._directory = directory
        self._zone = zone
        self._new = new
        self._period = period
        # Of other formats, each line is read.
        self._signatures = {"lines": Signatures(), "recording": Signatures(recorded=True)}

    def __call__(self, chunk: Chunk) -> Summed[G]:
        """Return the summary of a chunk."""
        out = Summed(chunk.shown, self._new())
        for group in self._groups(chunk):
            if group.is_sure and len(group.ats) > 1 and self._period == ALWAYS:
                self._take_alike(chunk, group, out)
            else:
                for at in group.ats:
                    self._take(chunk, at, group.line_of(at), out)
        out.gathered.settle()
        return out

    def _take(self, chunk: Chunk, at: int, line: bytes, out: Summed[G]) -> None:
        """Take one line."""
        arrival = self._arrived(chunk, at, line, out)
        if arrival is not None and self._period.holds(arrival.when):
            out.gathered.add(arrival)

    def _take_alike(self, chunk: Chunk, group: Group, out: Summed[G]) -> None:
        """Take lines that show the same as the first of them."""
        arrival = self._arrived(chunk, group.ats[0], group.line, out)
        if arrival is None:
            for at in group.ats[1:]:
                self._take(chunk, at, group.line_of(at), out)
            return
        is_recorded = chunk.form.name == "recording"
        alike = AlikeLines(group.ats, group.line_of, is_recorded, arrival.record, chunk.line)
        is_sure = alike.is_readable() and alike.is_certain(arrival.zone.zone)
        if is_sure and out.gathered.add_alike(arrival, alike):
            return
        for at in group.ats:
            self._take(chunk, at, group.line_of(at), out)

    def _arrived(self, chunk: Chunk, at: int, line: bytes, out: Summed[G]) -> Arrival | None:
        """Return the message of a line; None if there is none, which is counted."""
        line = line.rstrip(b"\r")
        if not line:
            return None
        if len(line) > LONGEST_LINE:
            line = line[:LONGEST_LINE]
            out.shortened += 1
        try:
            record = chunk.form.read(line, chunk.shown, chunk.line + at, chunk.near)
        except ValueError as problem:
            out.wrong += 1
            out.first = out.first or f"{chunk.shown}:{chunk.line + at}: {problem}"
            return None
        return arrived(record, self._directory, chunk.near, self._zone, chunk.collector)

    def _groups(self, chunk: Chunk) -> Iterator[Group]:
        """Yield the lines of a chunk, those that show the same together."""
        data = chunk.bytes()
        signatures = self._signatures.get(chunk.form.name)
        if signatures is not None:
            yield from signatures.groups(data)
            return
        lines = data.removesuffix(b"\n").split(b"\n")
        for at, line in enumerate(lines):
            yield Group([at], line, lines.__getitem__)
