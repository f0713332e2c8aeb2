"""How many devices are gone through: in this process, in several, or on a cluster."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TypeVar

from ivrel.core.fleet import Device
from ivrel.runners.job import Job, Share

__all__ = ["Job", "Share", "through"]

R = TypeVar("R")


def through(
    job: Job[R], devices: Sequence[Device], scheduler: str = "", *, send: bool = False
) -> Iterator[R]:
    """Yield what comes of each device, in their order.

    `scheduler`: the address of a Dask scheduler, whose workers do it; `send`: send them the
    configurations, which they otherwise read from the same path as this process.
    """
    job.prepare(devices)
    if scheduler:
        from ivrel.runners.cluster import on_cluster

        return on_cluster(job, devices, scheduler, send=send)
    from ivrel.runners.processes import in_processes, workers_for

    workers = workers_for(job.share, len(devices))
    if workers > 1:
        return in_processes(job, devices, workers)
    return (job.result(device) for device in devices)
