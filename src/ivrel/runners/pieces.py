"""The runner: pieces of work are done in this process, in several, or on a Dask cluster.

A piece is a chunk of devices, or a chunk of a file of messages. Pieces are handed out as results
come in, so that memory does not grow with their number.
"""

from __future__ import annotations

import gc
import os
import threading
from collections import deque
from collections.abc import Callable, Iterator
from itertools import chain
from typing import Any, TypeVar

P = TypeVar("P")
R = TypeVar("R")

# Returns the pieces for so many workers.
Pieces = Callable[[int], Iterator[P]]

MOST_WORKERS = 8
AHEAD = 3  # pieces that wait for each worker beside the one it works on
COLLECT_AFTER = 100_000  # objects; results are many, and nothing in them is a circle


def processors() -> int:
    """Return how many processes are worth it on this machine."""
    if hasattr(os, "sched_getaffinity"):
        return min(len(os.sched_getaffinity(0)), MOST_WORKERS)
    return min(os.cpu_count() or 1, MOST_WORKERS)


def through_pieces(work: Callable[[P], R], pieces: Pieces[P], scheduler: str = "") -> Iterator[R]:
    """Yield the result of `work` for each piece, in their order.

    `work` and the pieces are sent to the workers; `pieces`: called with the number of workers;
    `scheduler`: the address of a Dask scheduler, empty for this machine. A single piece is not
    worth a second process.
    """
    if scheduler:
        yield from _on_cluster(work, pieces, scheduler)
        return
    workers = processors()
    some = pieces(workers)
    first = list(_first(some, 2))
    every = chain(first, some)
    if len(first) < 2 or workers < 2:
        yield from map(work, every)
    else:
        yield from _in_processes(work, every, workers)


def _first(items: Iterator[P], number: int) -> Iterator[P]:
    for _, item in zip(range(number), items, strict=False):
        yield item


def _in_processes(work: Callable[[P], R], pieces: Iterator[P], workers: int) -> Iterator[R]:
    # These load much, and runs over few devices do without.
    from concurrent.futures import ProcessPoolExecutor
    from multiprocessing import get_context

    # A fork knows what `work` learned before, and gets policy and dialects for nothing.
    context = get_context("fork")
    with ProcessPoolExecutor(workers, context, _Worker.begin, (work,)) as pool:
        gc.set_threshold(COLLECT_AFTER)
        yield from _kept_busy(lambda piece: pool.submit(_Worker.piece, piece), pieces, workers)


def _on_cluster(work: Callable[[P], R], pieces: Pieces[P], scheduler: str) -> Iterator[R]:
    from ivrel.runners.cluster import connected

    with connected(scheduler) as (client, workers):
        there = client.scatter(work, broadcast=True, hash=False)
        submit = lambda piece: client.submit(_call, there, piece, pure=False)  # noqa: E731
        yield from _kept_busy(submit, pieces(workers), workers)


def _kept_busy(submit: Callable[[P], Any], pieces: Iterator[P], workers: int) -> Iterator[Any]:
    """Yield results in order, while each worker has pieces that wait."""
    waiting: deque[Any] = deque()
    for piece in pieces:
        waiting.append(submit(piece))
        if len(waiting) > workers * (AHEAD + 1):
            yield waiting.popleft().result()
    while waiting:
        yield waiting.popleft().result()


def _call(work: Callable[[P], R], piece: P) -> R:
    return work(piece)


class _Worker:
    """One process of a run, and the work that it was forked with."""

    work: Callable[[Any], Any]

    @classmethod
    def begin(cls, work: Callable[[Any], Any]) -> None:
        gc.freeze()
        # What a worker makes it hands on; circles among it are few, and are looked for seldom.
        gc.set_threshold(COLLECT_AFTER)
        threading.Thread(target=_end_with_parent, daemon=True).start()
        cls.work = staticmethod(work)

    @classmethod
    def piece(cls, piece: Any) -> Any:
        return cls.work(piece)


def _end_with_parent() -> None:
    """End this process when the one that forked it has gone, even if it was killed.

    A worker waits in locks and pipes that its siblings hold open, too: without this it would wait
    for ever.
    """
    from multiprocessing import parent_process

    parent = parent_process()
    if parent is not None:
        parent.join()
        os._exit(1)
