"""Goes through devices and hands on what comes of each, in their order; of many, several processes take turns."""

from __future__ import annotations

import gc
import os
from collections.abc import Iterator, Sequence
from typing import Any, Generic, Protocol, TypeVar

from msgspec import Struct

from ivrel.core.fleet import Device

R = TypeVar("R")
MOST_WORKERS = 8


class Share(Struct, frozen=True):
    """How the devices of one kind of work are shared out.

    `alone`: up to so many are gone through in this process; `first`: so many before there are others, which then know
    what these taught; `chunk`: so many at a time.
    """

    alone: int
    first: int
    chunk: int


class Job(Protocol[R]):
    """What is done with each device of one run; `pack` and `unpack` carry results between processes."""

    share: Share

    def prepare(self, devices: Sequence[Device]) -> None:
        """Reads what all devices need, once."""

    def one(self, device: Device) -> R:
        """What comes of one device; never an error, for one device does not stop the others."""

    def pack(self, results: list[R]) -> bytes:
        """Results as bytes."""

    def unpack(self, packed: bytes) -> list[R]:
        """Results from bytes."""


def through(job: Job[R], devices: Sequence[Device]) -> Iterator[R]:
    """The results of devices, in their order."""
    job.prepare(devices)
    workers = min(len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else 2, MOST_WORKERS)
    if len(devices) <= job.share.alone or workers < 2:
        for device in devices:
            yield job.one(device)
        return
    # They load much, and runs over few devices do without.
    from concurrent.futures import ProcessPoolExecutor
    from multiprocessing import get_context

    first = [job.one(device) for device in devices[: job.share.first]]
    chunks = range(job.share.first, len(devices), job.share.chunk)
    gc.set_threshold(100_000)  # results are many, and nothing in them is a circle
    with ProcessPoolExecutor(workers, get_context("fork"), _Worker.begin, (job, devices)) as pool:
        done = pool.map(_Worker.chunk, chunks)
        yield from first
        for packed in done:
            yield from job.unpack(packed)


class _Worker(Generic[R]):
    """One process of a run: what it was forked with."""

    job: Any
    devices: Sequence[Device]

    @classmethod
    def begin(cls, job: Job[R], devices: Sequence[Device]) -> None:
        gc.freeze()
        gc.disable()  # what a worker makes, it hands on; nothing in it is a circle
        cls.job, cls.devices = job, devices

    @classmethod
    def chunk(cls, start: int) -> bytes:
        job = cls.job
        packed: bytes = job.pack([job.one(d) for d in cls.devices[start : start + job.share.chunk]])
        return packed
