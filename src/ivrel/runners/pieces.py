"""Goes through pieces of one large thing: in this process, in several, or on a Dask cluster.

Pieces are handed out as results come in, so that memory does not grow with their number.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Iterator
from itertools import chain
from typing import Any, TypeVar

from ivrel.runners.job import Share

P = TypeVar("P")
R = TypeVar("R")

ALONE = Share(alone=1, first=0, chunk=1)  # one piece is not worth a second process


def through_pieces(work: Callable[[P], R], pieces: Iterator[P], scheduler: str = "") -> Iterator[R]:
    """Yield what comes of each piece, in their order.

    `work` and pieces are sent where the work is done; `scheduler`: the address of a Dask scheduler,
    whose workers do it.
    """
    first = next(pieces, None)
    if first is None:
        return
    second = next(pieces, None)
    if second is None and not scheduler:
        yield work(first)
        return
    some = chain([first], [] if second is None else [second], pieces)
    if scheduler:
        yield from _on_cluster(work, some, scheduler)
        return
    from ivrel.runners.processes import workers_for

    workers = workers_for(ALONE, 2)
    yield from _in_processes(work, some, workers) if workers > 1 else map(work, some)


def _in_processes(work: Callable[[P], R], pieces: Iterator[P], workers: int) -> Iterator[R]:
    from concurrent.futures import ProcessPoolExecutor
    from multiprocessing import get_context

    context = get_context("fork")
    with ProcessPoolExecutor(workers, context, _Worker.begin, (work,)) as pool:
        yield from _kept_busy(lambda piece: pool.submit(_Worker.piece, piece), pieces, workers)


def _on_cluster(work: Callable[[P], R], pieces: Iterator[P], scheduler: str) -> Iterator[R]:
    from ivrel.runners.cluster import connected

    with connected(scheduler) as (client, workers):
        there = client.scatter(work, broadcast=True, hash=False)
        submit = lambda piece: client.submit(_call, there, piece, pure=False)  # noqa: E731
        yield from _kept_busy(submit, pieces, workers)


def _kept_busy(submit: Callable[[P], Any], pieces: Iterator[P], workers: int) -> Iterator[Any]:
    """Yield results in order, while each worker has a piece that waits."""
    waiting: deque[Any] = deque()
    for piece in pieces:
        waiting.append(submit(piece))
        if len(waiting) > 2 * workers:
            yield waiting.popleft().result()
    while waiting:
        yield waiting.popleft().result()


def _call(work: Callable[[P], R], piece: P) -> R:
    return work(piece)


class _Worker:
    """One process: what it was forked with."""

    work: Callable[[Any], Any]

    @classmethod
    def begin(cls, work: Callable[[Any], Any]) -> None:
        from ivrel.runners.processes import end_with_parent

        end_with_parent()
        cls.work = staticmethod(work)

    @classmethod
    def piece(cls, piece: Any) -> Any:
        return cls.work(piece)
