"""Jobs: what is done with each device of one run."""

from __future__ import annotations

import os
from collections.abc import Sequence
from typing import Generic, Protocol, TypeVar

from msgspec import Struct

from ivrel.core.fleet import Device
from ivrel.core.vocabulary.errors import Unreadable
from ivrel.core.vocabulary.wording import own_error

R = TypeVar("R")


class Texts(Protocol):
    """Where configurations come from."""

    def text(self, device: Device) -> tuple[bytes, str]:
        """Return a device's configuration and what it is called; Unreadable if there is none."""


class Share(Struct, frozen=True):
    """How the devices of one kind of job are shared out.

    `alone`: up to so many are gone through in this process; `first`: so many before there are
    others, which then know what these taught; `chunk`: so many at a time.
    """

    alone: int
    first: int
    chunk: int


class Job(Generic[R]):
    """What is done with each device of one run.

    Jobs are sent to other machines: what a run remembers is no part of what is sent.
    """

    share: Share
    texts: Texts

    def prepare(self, devices: Sequence[Device]) -> None:
        """Read what all devices need, once."""

    def one(self, device: Device, data: bytes, file: str) -> R:
        """Return what comes of one device; Unreadable if its configuration is none."""
        raise NotImplementedError

    def failed(self, device: Device, problem: str) -> R:
        """Return what there is to say of a device for which nothing came."""
        raise NotImplementedError

    def pack(self, results: list[R]) -> bytes:
        """Return results as bytes."""
        raise NotImplementedError

    def unpack(self, packed: bytes) -> list[R]:
        """Return results from bytes."""
        raise NotImplementedError

    def alone(self, device: Device) -> R:
        """Return what comes of the only device of a run."""
        self.prepare((device,))
        return self.result(device)

    def result(self, device: Device, texts: Texts | None = None) -> R:
        """Return what comes of one device, whatever state its configuration is in.

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
