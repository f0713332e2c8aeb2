"""Shared connections to jump hosts.

All devices behind the same jump hosts use one connection to them: SSH servers limit how many logins
they accept at the same time.
"""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable, Sequence

import asyncssh

from ivrel.core.reach import Reach

# Logs in to a host, through the one before it if there is one.
Connect = Callable[
    [Reach, asyncssh.SSHClientConnection | None], Awaitable[asyncssh.SSHClientConnection]
]
_Key = tuple[int, tuple[Reach, ...]]  # the loop that it runs in, and the hosts, the first one first


class Shared:
    """One connection to the last of a chain of jump hosts; each user returns it with `leave`."""

    def __init__(self, all_of: dict[_Key, Shared], key: _Key, connect: Connect) -> None:
        self._all = all_of
        self._key = key
        self._users = 0
        self._before: Shared | None = None
        self._connecting = asyncio.create_task(self._made(connect))

    async def _made(self, connect: Connect) -> asyncssh.SSHClientConnection:
        loop, hosts = self._key
        if len(hosts) > 1:
            self._before = taken(self._all, (loop, hosts[:-1]), connect)
        tunnel = await self._before.connection() if self._before is not None else None
        return await connect(hosts[-1], tunnel)

    async def connection(self) -> asyncssh.SSHClientConnection:
        """Return the connection as soon as it is established."""
        return await asyncio.shield(self._connecting)

    @property
    def is_over(self) -> bool:
        """Whether the connection failed or was lost."""
        task = self._connecting
        if not task.done():
            return False
        return task.cancelled() or task.exception() is not None or task.result().is_closed()

    def take(self) -> None:
        """Count one more user."""
        self._users += 1

    def leave(self) -> None:
        """Count one user less; without users, close the connection."""
        self._users -= 1
        if self._users > 0:
            return
        if self._all.get(self._key) is self:
            del self._all[self._key]
        task = self._connecting
        if not task.done():
            task.cancel()
        elif not task.cancelled() and task.exception() is None:
            task.result().abort()
        if self._before is not None:
            self._before.leave()


def taken(all_of: dict[_Key, Shared], key: _Key, connect: Connect) -> Shared:
    """Return the shared connection for a chain of hosts; start a new one if there is none."""
    one = all_of.get(key)
    if one is None or one.is_over:
        one = all_of[key] = Shared(all_of, key, connect)
    one.take()
    return one


class SharedConnections:
    """The connections of one run to jump hosts."""

    def __init__(self) -> None:
        self._all: dict[_Key, Shared] = {}

    def through(self, hosts: Sequence[Reach], connect: Connect) -> Shared:
        """Return the shared connection to the last of a chain of hosts."""
        key = id(asyncio.get_running_loop()), tuple(hosts)
        return taken(self._all, key, connect)
