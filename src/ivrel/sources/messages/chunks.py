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
    """Takes messages, and what others took.

    `by_signature`: whether messages that show the same may be taken together.
    """

    by_signature: bool

    def add(self, arrival: Arrival, number: int = 1) -> None:
        """Take a message, or several that show the same; 0 is one of those that were taken
        already, for its time.
        """

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
        read = chunk.form.read
        by_signature = out.gathered.by_signature and self._period == ALWAYS
        for group in self._groups(chunk, by_signature):
            number = group.number
            at = group.at
            line = group.line
            if not line.rstrip(b"\r"):
                continue
            if len(line) > LONGEST_LINE:
                line = line[:LONGEST_LINE]
                out.shortened += number
            try:
                record = read(line.rstrip(b"\r"), chunk.shown, chunk.line + at, chunk.near)
            except ValueError as problem:
                out.wrong += number
                said = f"{chunk.shown}:{chunk.line + at}: {problem}"
                out.first = out.first or said
                continue
            arrival = arrived(record, self._directory, chunk.near, self._zone, chunk.collector)
            if self._period.holds(arrival.when):
                out.gathered.add(arrival, number)
        return out

    def _groups(self, chunk: Chunk, by_signature: bool) -> Iterator[Group]:
        """Yield the lines of a chunk, those that show the same together if that is asked for."""
        data = chunk.bytes()
        signatures = self._signatures.get(chunk.form.name)
        if signatures is not None and by_signature:
            yield from signatures.groups(data)
            return
        for at, line in enumerate(data.removesuffix(b"\n").split(b"\n")):
            yield Group(1, at, line)
