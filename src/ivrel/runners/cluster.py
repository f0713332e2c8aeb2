"""Goes through devices on a Dask cluster: `pip install 'ivrel[scale]'`, `--scheduler ADDRESS`.

The job goes to each worker once, with policy and dialects. Configurations are read by the workers
from the path that this process reads them from, or sent along. Chunks are handed out as results
come in, so that memory does not grow with the fleet.
"""

from __future__ import annotations

import socket
from collections import deque
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from typing import Any, TypeVar

from msgspec import Struct

from ivrel.core.fleet import Device
from ivrel.core.vocabulary.errors import InputError, Unreadable
from ivrel.runners.job import Job

R = TypeVar("R")

AHEAD = 3  # chunks that a worker has beside the one it works on
SECONDS = 20  # to reach the scheduler


class SentTexts(Struct, frozen=True):
    """Configurations that were sent along, or why there is none."""

    found: Mapping[str, tuple[bytes, str] | str]

    def text(self, device: Device) -> tuple[bytes, str]:
        """Return a configuration and what it is called."""
        found = self.found[device.name]
        if isinstance(found, str):
            raise Unreadable(found)
        return found


def on_cluster(
    job: Job[R], devices: Sequence[Device], scheduler: str, *, send: bool
) -> Iterator[R]:
    """Yield what comes of each device, in their order; `send`: send the configurations along."""
    with connected(scheduler) as (client, workers):
        there = client.scatter(job, broadcast=True, hash=False)
        waiting: deque[Any] = deque()
        for chunk in job.share.chunks(0, len(devices), workers):
            some = devices[chunk]
            sent = _collected(job, some) if send else None
            waiting.append(client.submit(_chunk, there, some, sent, pure=False))
            if len(waiting) > workers * (AHEAD + 1):
                yield from job.unpack(waiting.popleft().result())
        while waiting:
            yield from job.unpack(waiting.popleft().result())


@contextmanager
def connected(scheduler: str) -> Iterator[tuple[Any, int]]:
    """Give the client of a scheduler, and how many workers it has."""
    with _client(scheduler) as client:
        workers = len(client.scheduler_info()["workers"])
        if not workers:
            raise InputError(f"the Dask scheduler at '{scheduler}' has no workers")
        yield client, workers


def _client(scheduler: str) -> Any:
    """Return the client of a scheduler; InputError if none is there."""
    try:
        from distributed import Client
        from distributed.comm.addressing import get_address_host_port
    except ImportError:
        said = "--scheduler needs Dask; install it with: pip install 'ivrel[scale]'"
        raise InputError(said) from None
    try:
        # A client that never connected complains for long when it goes, so this is tried before.
        host, port = get_address_host_port(scheduler)
        socket.create_connection((host, port), SECONDS).close()
        return Client(scheduler, timeout=SECONDS, set_as_default=False)  # type: ignore[no-untyped-call]
    except (OSError, ValueError) as problem:
        said = (getattr(problem, "strerror", None) or str(problem)).lower()
        raise InputError(f"no Dask scheduler answers at '{scheduler}': {said}") from None


def _collected(job: Job[Any], devices: Sequence[Device]) -> SentTexts:
    """Return the configurations of some devices."""
    found: dict[str, tuple[bytes, str] | str] = {}
    for device in devices:
        try:
            found[device.name] = job.texts.text(device)
        except Unreadable as problem:
            found[device.name] = str(problem)
    return SentTexts(found)


def _chunk(job: Job[Any], devices: Sequence[Device], sent: SentTexts | None) -> bytes:
    """Return the results for some devices, on a worker."""
    return job.pack([job.result(d) if sent is None else job.result(d, sent) for d in devices])
