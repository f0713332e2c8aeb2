"""Gathering: many devices at once, each by its own link; one that fails holds up none."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator, Awaitable, Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from datetime import UTC, datetime, timedelta
from typing import TypeVar

import asyncssh
from msgspec import Struct
from msgspec.structs import replace

from ivrel.core.vocabulary.errors import IvrelError, Refused, Unreachable
from ivrel.core.vocabulary.wording import own_error
from ivrel.live.links import Link, Target, open_link
from ivrel.live.links.ssh import host_key

AT_ONCE = 50  # devices that are talked to at a time
R = TypeVar("R")


class Fetched(Struct, frozen=True):
    """What a device printed; `problem`: why nothing could be had; `remark`: what is to be said of
    it all the same; `display`: what it showed of its present state, None if that was not asked, or
    could not be had (`no_display` tells why); `taken`: when.
    """

    device: str
    data: bytes = b""
    problem: str = ""
    remark: str = ""
    display: bytes | None = None
    no_display: str = ""
    taken: datetime | None = None


class Shown(Struct, frozen=True):
    """The key that a host shows; `problem`: why it shows none."""

    device: str
    key: asyncssh.SSHKey | None = None
    problem: str = ""


async def fetched(target: Target, with_display: bool = False) -> Fetched:
    """Return the configuration of one device; `with_display`: and what it shows of its state."""
    name = target.device.name
    try:
        link = await open_link(target)
        try:
            data = await link.fetch()
            one = Fetched(name, data, remark="; ".join(link.remarks))
            return await _with_display(link, one) if with_display else one
        finally:
            await link.close()
    except IvrelError as problem:
        return Fetched(name, problem=str(problem))
    except Exception as problem:  # one device never stops the others
        return Fetched(name, problem=own_error(problem))


async def _with_display(link: Link, one: Fetched) -> Fetched:
    """Return what was fetched of a device, with what it shows of its present state."""
    before = datetime.now(UTC)
    try:
        shown = await link.display()
    except (Unreachable, Refused) as problem:
        return replace(one, no_display=str(problem))
    if shown is None:
        said = "neither its dialect (state:) nor the fleet says how to ask for its state"
        return replace(one, no_display=said)
    # It counted at some moment between both.
    taken = before + (datetime.now(UTC) - before) / 2 - timedelta(seconds=shown.age)
    return replace(one, display=shown.data, taken=taken)


async def shown_key(target: Target) -> Shown:
    """Return the key that the host of a device shows."""
    name = target.device.name
    if target.reach.via not in ("ssh", "netconf"):
        return Shown(name, problem="it is not reached by SSH, and has no host key")
    try:
        return Shown(name, await host_key(target))
    except Unreachable as problem:
        return Shown(name, problem=str(problem))


async def through(
    targets: Sequence[Target], do: Callable[[Target], Awaitable[R]], at_once: int = AT_ONCE
) -> AsyncIterator[R]:
    """Yield what is done with each device, as it is done, so many at once."""
    loop = asyncio.get_running_loop()
    # What waits for answers in threads needs one for each device that is talked to.
    loop.set_default_executor(ThreadPoolExecutor(at_once + 4))
    room = asyncio.Semaphore(at_once)

    async def one(target: Target) -> R:
        async with room:
            return await do(target)

    tasks = [asyncio.create_task(one(target)) for target in targets]
    try:
        for done in asyncio.as_completed(tasks):
            yield await done
    finally:
        for task in tasks:
            task.cancel()
