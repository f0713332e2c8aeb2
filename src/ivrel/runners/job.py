"""Jobs: what is done with each device of one run."""

from __future__ import annotations

import os
import pickle
from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import Any, ClassVar, Generic, Protocol, TypeVar

from msgspec import Struct

from ivrel.core.fleet import Device
from ivrel.core.vocabulary.errors import Unreadable
from ivrel.core.vocabulary.wording import own_error

R = TypeVar("R")


class Texts(Protocol):
    """Where configurations come from."""

    def text(self, device: Device) -> tuple[bytes, str]:
        """Return a device's configuration and what it is called; Unreadable if there is none."""


class SentTexts(Struct, frozen=True):
    """Configurations that were sent along, or why there is none."""

    found: Mapping[str, tuple[bytes, str] | str]

    def text(self, device: Device) -> tuple[bytes, str]:
        """Return a configuration and its name; Unreadable if there is none."""
        found = self.found[device.name]
        if isinstance(found, str):
            raise Unreadable(found)
        return found


class Share(Struct, frozen=True):
    """How the devices of one kind of job are shared out.

    `alone`: up to this number, no other process is started; `first`: at most this number is done
    before others start, which then begin with what these learned; `chunk`: the most devices that
    one process gets at a time.
    """

    LEAST_OF_FIRST: ClassVar[int] = 16  # of so many devices one is among the first
    TURNS: ClassVar[int] = 4  # chunks of each worker at least, where there are enough devices

    alone: int
    first: int
    chunk: int

    def taught(self, devices: int) -> int:
        """Return how many of so many devices are gone through before there are other processes."""
        return min(self.first, devices // self.LEAST_OF_FIRST)

    def chunks(self, begin: int, end: int, workers: int) -> Iterator[slice]:
        """Yield the devices of each turn of a worker, by their places from `begin` to `end`."""
        size = max(min(self.chunk, (end - begin) // (workers * self.TURNS)), 1)
        yield from (slice(at, min(at + size, end)) for at in range(begin, end, size))


class Job(Generic[R]):
    """What is done with each device of one run.

    Jobs are sent to other machines: what a run remembers is no part of what is sent.
    """

    share: Share
    texts: Texts

    def prepare(self, devices: Sequence[Device]) -> None:
        """Read what all devices need, once."""

    def one(self, device: Device, data: bytes, file: str) -> R:
        """Return the result for one device; Unreadable if its configuration cannot be parsed."""
        raise NotImplementedError

    def failed(self, device: Device, problem: str) -> R:
        """Return the result for a device that failed."""
        raise NotImplementedError

    def pack(self, results: list[R]) -> bytes:
        """Return results as bytes."""
        return pickle.dumps(results)

    def unpack(self, packed: bytes) -> list[R]:
        """Return results from bytes, which come from this program's own workers."""
        found: list[R] = pickle.loads(packed)
        return found

    def alone(self, device: Device) -> R:
        """Return the result for the only device of a run."""
        self.prepare((device,))
        return self.result(device)

    def result(self, device: Device, texts: Texts | None = None) -> R:
        """Return the result for one device, even if its configuration cannot be read.

        `texts`: where it comes from, if not from where the job takes it. One device never stops the
        others, not even by an error of the program's own.
        """
        file = ""
        try:
            data, file = (texts or self.texts).text(device)
            return self.one(device, data, file)
        except Unreadable as problem:
            return self.failed(device, str(problem))
        except Exception as problem:
            if os.environ.get("IVREL_TRACEBACK"):
                raise
            said = own_error(problem)
            return self.failed(device, f"{file}: {said}" if file else said)


def texts_of(job: Job[Any], devices: Iterable[Device]) -> SentTexts:
    """Return the configurations of some devices, to be sent."""
    found: dict[str, tuple[bytes, str] | str] = {}
    for device in devices:
        try:
            found[device.name] = job.texts.text(device)
        except Unreadable as problem:
            found[device.name] = str(problem)
    return SentTexts(found)
