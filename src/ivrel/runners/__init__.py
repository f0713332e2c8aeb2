"""Runs over many devices: in this process, in several, or on a cluster."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any, TypeVar

from msgspec import Struct

from ivrel.core.fleet import Device
from ivrel.runners.job import Job, SentTexts, Share, texts_of
from ivrel.runners.pieces import processors, through_pieces

__all__ = ["Job", "Share", "through"]

R = TypeVar("R")


class _Chunk(Struct, frozen=True):
    """Some devices of a run; `sent`: their configurations, if workers cannot read them."""

    devices: tuple[Device, ...]
    sent: SentTexts | None = None


class _ChunkWork:
    """Does a job for the devices of a chunk, and returns the results as bytes."""

    def __init__(self, job: Job[Any]) -> None:
        self._job = job

    def __call__(self, chunk: _Chunk) -> bytes:
        return self._job.pack([self._job.result(device, chunk.sent) for device in chunk.devices])


def through(
    job: Job[R], devices: Sequence[Device], scheduler: str = "", *, send: bool = False
) -> Iterator[R]:
    """Yield the result for each device, in their order.

    `scheduler`: the address of a Dask scheduler, whose workers do the job; `send`: send them the
    configurations, which they otherwise read from the same path as this process.
    """
    job.prepare(devices)
    if not scheduler and (len(devices) <= job.share.alone or processors() < 2):
        return (job.result(device) for device in devices)
    return _in_chunks(job, devices, scheduler, send=send)


def _in_chunks(
    job: Job[R], devices: Sequence[Device], scheduler: str, *, send: bool
) -> Iterator[R]:
    # What the first devices teach is known to processes that are forked after them.
    alone = 0 if scheduler else job.share.taught(len(devices))
    first = [job.result(device) for device in devices[:alone]]

    def chunks(workers: int) -> Iterator[_Chunk]:
        for some in job.share.chunks(alone, len(devices), workers):
            chunk = tuple(devices[some])
            yield _Chunk(chunk, texts_of(job, chunk) if send else None)

    packed = through_pieces(_ChunkWork(job), chunks, scheduler)
    yield from first
    for results in packed:
        yield from job.unpack(results)
