"""Dialogs with a device whose prompt is not known yet, to learn the `session:` of its dialect."""

from __future__ import annotations

import asyncio
import re
from collections.abc import AsyncIterator, Callable
from contextlib import asynccontextmanager
from pathlib import Path

from ivrel.core.authoring.dialogs import Turn, proposed
from ivrel.core.fleet import Device
from ivrel.core.reach import PATIENCE, Reach, reach_of
from ivrel.core.vocabulary.errors import InputError, Unreachable
from ivrel.core.ways import Ways
from ivrel.live.access import Access, fingerprint
from ivrel.live.links import Route
from ivrel.live.links.ssh import host_key
from ivrel.live.recording import Recorder
from ivrel.live.targets import OWN
from ivrel.sources.files import private_folder
from ivrel.sources.workspace import WorkspaceFiles

__all__ = [
    "Dialog", "Reach", "Route", "Turn", "dialog_with", "proposed", "record_host_key", "route_to",
]  # fmt: skip

SECRET = "*"  # typed in the place of a password
MOST_PAGES = 1000  # that are turned without asking


def route_to(folder: Path, host: str, own: Reach) -> Route:
    """Return the route to a host: as the fleet describes it, overridden by `own`."""
    device = Device(host, "", "", "")
    ways = Ways()
    if any((folder / name).exists() for name in ("fleet.yaml", "fleet.csv")):
        fleet = WorkspaceFiles(folder).fleet
        known = next((d for d in fleet.devices if d.name == host), None)
        if known is not None:
            device = known
            ways = fleet.ways
    default = Reach(address=host, port=22, patience=PATIENCE)
    reach = own.over(reach_of(ways.rules, device)).over(default)
    return Route(
        device=device, reach=reach, access=Access(folder / OWN), between=ways.between(reach)
    )


async def record_host_key(route: Route) -> str:
    """Record the host's key if it is not known yet; return its fingerprint, '' if it is known."""
    try:
        route.access.host_keys(route.reach)
    except Unreachable:
        try:
            key = await host_key(route)
        except Unreachable as problem:
            raise InputError(str(problem)) from None
        private_folder(route.access.file.parent)
        route.access.learn([(route.reach, key)])
        return fingerprint(key)
    return ""


class Dialog:
    """A dialog with a device; the turns are kept in memory."""

    def __init__(self, recorder: Recorder, ask_password: Callable[[], str]) -> None:
        self._recorder = recorder
        self._ask_password = ask_password

    @property
    def turns(self) -> list[Turn]:
        """What was typed and answered so far."""
        return self._recorder.turns

    async def type(self, line: str) -> Turn:
        """Type a line and return the device's answer.

        SECRET types the password; a blank turns pages until the configuration ends.
        """
        turn = await self._typed(line)
        for _ in range(MOST_PAGES):
            before = self.turns[-2]
            if line != " " or turn.ended or not turn.lines or turn.last != before.last:
                break
            turn = await self._recorder.type(" ", is_sign=True)  # the next page
        return turn

    async def _typed(self, line: str) -> Turn:
        if line == SECRET:
            password = self._recorder.second_password()
            if password is None:
                password = await asyncio.to_thread(self._ask_password)
            return await self._recorder.type(password, hidden=True)
        return await self._recorder.type(line, is_sign=line == " ")


@asynccontextmanager
async def dialog_with(route: Route, ask_password: Callable[[], str]) -> AsyncIterator[Dialog]:
    """Open a dialog; its first turn is the banner and the prompt.

    Raise InputError if the device cannot be reached.
    """
    recorder = Recorder(route)
    try:
        await recorder.open()
        yield Dialog(recorder, ask_password)
    except Unreachable as problem:
        hint = "'--learn-key' shows and records it"
        said = re.sub("'ivrel gather --learn-keys' .*", hint, str(problem))
        raise InputError(said) from None
    finally:
        await recorder.close()
