"""SSH connections (RFC 4251 to 4254): whom one speaks to is made sure before anything is said."""

from __future__ import annotations

import asyncio
import os
from typing import Any

import asyncssh

from ivrel.core.reach import Reach
from ivrel.core.vocabulary.errors import Unreachable
from ivrel.live.access import Access, user
from ivrel.live.links.link import Target
from ivrel.sources.files import reason


async def connected(target: Target) -> asyncssh.SSHClientConnection:
    """Return a connection that is logged in; Unreachable tells why there is none."""
    reach, access = target.reach, target.access
    trusted = access.host_keys(reach)
    try:
        async with asyncio.timeout(reach.patience):
            return await asyncssh.connect(
                reach.address,
                reach.port,
                username=user(reach),
                known_hosts=(trusted, [], []),
                config=None,
                **_credentials(access, reach),
            )
    except asyncssh.HostKeyNotVerifiable:
        said = "the host shows another key than the one that is known; nothing was said to it"
        raise Unreachable(f"{target.where}: {said}") from None
    except asyncssh.PermissionDenied:
        raise Unreachable(f"{target.where}: {refused(reach)}") from None
    except (OSError, asyncssh.Error, TimeoutError) as problem:
        raise Unreachable(f"{target.where}: {told(problem, reach)}") from None


async def host_key(reach: Reach) -> asyncssh.SSHKey:
    """Return the key that a host shows; Unreachable tells why it shows none."""
    try:
        async with asyncio.timeout(reach.patience):
            key = await asyncssh.get_server_host_key(reach.address, reach.port, config=None)
    except (OSError, asyncssh.Error, TimeoutError) as problem:
        said = f"{reach.address} port {reach.port}: {told(problem, reach)}"
        raise Unreachable(said) from None
    if key is None:
        raise Unreachable(f"{reach.address} port {reach.port}: it shows no key")
    return key


def told(problem: Exception, reach: Reach) -> str:
    """Return what went wrong with a connection, in a line."""
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


def _credentials(access: Access, reach: Reach) -> dict[str, Any]:
    """Return what one logs in with: the key or the password of the way, else the SSH agent's keys
    and those that lie where OpenSSH has them.
    """
    key, password = access.key(reach), access.password(reach)
    if key is not None:
        return {"client_keys": [key], "agent_path": None, "password": password}
    if password is not None:
        return {"client_keys": None, "agent_path": None, "password": password}
    return {}


def refused(reach: Reach) -> str:
    """Return what is told when nobody is let in."""
    by = [name for name, said in (("key", reach.key), ("password", reach.password)) if said]
    return f"the login of {user(reach)} by {' or '.join(by) or 'the keys of the agent'} is refused"
