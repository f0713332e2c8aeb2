"""SSH connections (RFC 4251 to 4254): whom one speaks to is made sure before anything is said."""

from __future__ import annotations

import asyncio
import os
from typing import Any

import asyncssh

from ivrel.core.reach import Reach
from ivrel.core.vocabulary.errors import Unreachable
from ivrel.live.access import Access, user
from ivrel.live.between import Shared
from ivrel.live.links.link import Route
from ivrel.sources.files import reason

# What the library knows by itself, but those first that it computes a packet with at once.
QUICK_FIRST = "^aes256-gcm@openssh.com,aes128-gcm@openssh.com"


class Line:
    """A connection to a device, and its part in those to the hosts that it goes through."""

    def __init__(self) -> None:
        self._shared: Shared | None = None

    async def between(self, target: Route) -> asyncssh.SSHClientConnection | None:
        """Return the connection to the last of the hosts in between; None if there is none."""
        if not target.between:
            return None

        async def connect(
            reach: Reach, tunnel: asyncssh.SSHClientConnection | None
        ) -> asyncssh.SSHClientConnection:
            return await _connected(target, reach, tunnel)

        self._shared = target.access.between.through(target.between, connect)
        try:
            return await self._shared.connection()
        except Unreachable as problem:
            self.abort()
            raise Unreachable(f"reaching {target.where}: {problem}") from None

    async def device(self, target: Route) -> asyncssh.SSHClientConnection:
        """Log in to the device itself; Unreachable tells why one cannot."""
        tunnel = await self.between(target)
        try:
            return await _connected(target, target.reach, tunnel)
        except Unreachable:
            self.abort()
            raise

    def abort(self) -> None:
        """Leave the hosts in between; their connections end with the last device."""
        shared = self._shared
        self._shared = None
        if shared is not None:
            shared.leave()


async def _connected(
    target: Route, reach: Reach, tunnel: asyncssh.SSHClientConnection | None
) -> asyncssh.SSHClientConnection:
    access = target.access
    where = f"{reach.address} port {reach.port}"
    trusted = access.host_keys(reach)
    password = await asyncio.to_thread(access.password, reach, target.device)
    try:
        async with asyncio.timeout(reach.patience):
            return await asyncssh.connect(
                reach.address,
                reach.port,
                tunnel=tunnel,
                username=user(reach),
                known_hosts=(trusted, [], []),
                config=None,
                encryption_algs=QUICK_FIRST,
                **_credentials(access, reach, password),
            )
    except asyncssh.HostKeyNotVerifiable:
        said = "the host key differs from the recorded one; nothing was sent"
        raise Unreachable(f"{where}: {said}") from None
    except asyncssh.PermissionDenied:
        raise Unreachable(f"{where}: {refused(reach)}") from None
    except (OSError, asyncssh.Error, TimeoutError) as problem:
        raise Unreachable(f"{where}: {told(problem, reach)}") from None


async def host_key(target: Route) -> asyncssh.SSHKey:
    """Return the key that the host of a device shows; Unreachable tells why it shows none."""
    reach = target.reach
    line = Line()
    try:
        tunnel = await line.between(target)
        async with asyncio.timeout(reach.patience):
            key = await asyncssh.get_server_host_key(
                reach.address, reach.port, tunnel=tunnel, config=None
            )
    except (OSError, asyncssh.Error, TimeoutError) as problem:
        said = f"{reach.address} port {reach.port}: {told(problem, reach)}"
        raise Unreachable(said) from None
    finally:
        line.abort()
    if key is None:
        raise Unreachable(f"{reach.address} port {reach.port}: it shows no key")
    return key


def told(problem: Exception, reach: Reach) -> str:
    """Return one line about an error of a connection."""
    if isinstance(problem, TimeoutError):
        return f"no answer within {reach.patience} s"
    if isinstance(problem, asyncssh.Error):
        return f"the session ended: {' '.join(problem.reason.split())[:120] or 'without a word'}"
    if isinstance(problem, OSError):
        # asyncio puts its own words in front of what the system says.
        said = reason(problem)
        return said.rpartition(": ")[2] if problem.errno is None else _system(problem)
    return str(problem)


def _system(problem: OSError) -> str:
    errno = problem.errno or 0
    return os.strerror(errno).lower() if errno > 0 else reason(problem)


def _credentials(access: Access, reach: Reach, password: str | None) -> dict[str, Any]:
    """Return the credentials: the key or the password of the way, else the keys of the SSH agent
    and those in OpenSSH's places.
    """
    key = access.key(reach)
    if key is not None:
        return {"client_keys": [key], "agent_path": None, "password": password}
    if password is not None:
        return {"client_keys": None, "agent_path": None, "password": password}
    return {}


def refused(reach: Reach) -> str:
    """Return the message if login is refused."""
    password = reach.password or reach.password_from
    by = [name for name, said in (("key", reach.key), ("password", password)) if said]
    return f"the login of {user(reach)} by {' or '.join(by) or 'the keys of the agent'} is refused"
