"""A Dask cluster: `pip install 'ivrel[scale]'`, `--scheduler ADDRESS`.

The work goes to each worker once, with policy and dialects. Configurations are read by the workers
from the path that this process reads them from, or sent along.
"""

from __future__ import annotations

import socket
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

from ivrel.core.vocabulary.errors import InputError

SECONDS = 20  # to reach the scheduler


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
