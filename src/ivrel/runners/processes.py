"""Goes through devices with several processes of this machine, which take turns."""

from __future__ import annotations

import gc
import os
import threading
from collections.abc import Iterator, Sequence
from typing import Any, TypeVar

from ivrel.core.fleet import Device
from ivrel.runners.job import Job, Share

R = TypeVar("R")

MOST_WORKERS = 8
COLLECT_AFTER = 100_000  # objects; results are many, and nothing in them is a circle


def workers_for(share: Share, devices: int) -> int:
    """Return how many processes are worth it; 1 is this one alone."""
    if devices <= share.alone:
        return 1
    if hasattr(os, "sched_getaffinity"):
        return min(len(os.sched_getaffinity(0)), MOST_WORKERS)
    return min(os.cpu_count() or 1, MOST_WORKERS)


def in_processes(job: Job[R], devices: Sequence[Device], workers: int) -> Iterator[R]:
    """Yield what comes of each device, in their order."""
    # These load much, and runs over few devices do without.
    from concurrent.futures import ProcessPoolExecutor
    from multiprocessing import get_context

    alone = job.share.taught(len(devices))
    first = [job.result(device) for device in devices[:alone]]
    chunks = job.share.chunks(alone, len(devices), workers)
    gc.set_threshold(COLLECT_AFTER)
    # A fork knows what the first devices taught, and gets policy and dialects for nothing.
    context = get_context("fork")
    with ProcessPoolExecutor(workers, context, _Worker.begin, (job, devices)) as pool:
        done = pool.map(_Worker.chunk, chunks)
        yield from first
        for packed in done:
            yield from job.unpack(packed)


def end_with_parent() -> None:
    """Have this process end when the one that forked it has gone, even if it was killed.

    A worker waits in locks and pipes that its siblings hold open, too: without this it would wait
    for ever.
    """
    threading.Thread(target=_wait_for_parent, daemon=True).start()


def _wait_for_parent() -> None:
    from multiprocessing import parent_process

    parent = parent_process()
    if parent is not None:
        parent.join()
        os._exit(1)


class _Worker:
    """One process of a run: what it was forked with."""

    job: Job[Any]
    devices: Sequence[Device]

    @classmethod
    def begin(cls, job: Job[Any], devices: Sequence[Device]) -> None:
        gc.freeze()
        # What a worker makes it hands on; circles among it are few, and are looked for seldom.
        gc.set_threshold(COLLECT_AFTER)
        end_with_parent()
        cls.job = job
        cls.devices = devices

    @classmethod
    def chunk(cls, some: slice) -> bytes:
        return cls.job.pack([cls.job.result(device) for device in cls.devices[some]])
