"""Stand-ins over SSH: each device a listener of its own, with its dialog, its files, or NETCONF."""

from __future__ import annotations

import asyncio
import contextlib
import os
from collections.abc import Callable

import asyncssh

from ivrel.core.evidence.emitters import Event
from ivrel.standin.faults import SLOW, Fault
from ivrel.standin.speaking import is_loopback
from ivrel.standin.talk import Answered, Talker
from ivrel.standin.terminal import StandinTerminal
from ivrel.standin.unit import Unit

PASSWORD = "IVREL_STANDIN_PASSWORD"  # of the environment: lets in whoever has no key


class Door(asyncssh.SSHServer):
    """Lets in whoever has the key of the stand-ins, or the password that the environment names."""

    def __init__(self, unit: Unit, key: asyncssh.SSHKey) -> None:
        self._unit = unit
        self._key = key.convert_to_public()

    def begin_auth(self, username: str) -> bool:
        return True

    def public_key_auth_supported(self) -> bool:
        return True

    def validate_public_key(self, username: str, key: asyncssh.SSHKey) -> bool:
        return key == self._key

    def password_auth_supported(self) -> bool:
        return bool(os.environ.get(PASSWORD))

    def validate_password(self, username: str, password: str) -> bool:
        return password == os.environ.get(PASSWORD)

    def auth_completed(self) -> None:
        self._unit.say(Event(6, "login", "session opened"))


class JumpHost(asyncssh.SSHServer):
    """A host that devices are reached through: whoever has the key goes on to loopback."""

    def __init__(self, key: asyncssh.SSHKey) -> None:
        self._key = key.convert_to_public()

    def public_key_auth_supported(self) -> bool:
        return True

    def validate_public_key(self, username: str, key: asyncssh.SSHKey) -> bool:
        return key == self._key

    def connection_requested(
        self, dest_host: str, dest_port: int, orig_host: str, orig_port: int
    ) -> bool:
        return is_loopback(dest_host)


def ender(process: asyncssh.SSHServerProcess[bytes]) -> Callable[[], None]:
    """Return the function that ends the connection of a session at once."""

    def end() -> None:
        connection = process.get_extra_info("connection")
        if connection is not None:
            connection.abort()

    return end


async def talk(unit: Unit, process: asyncssh.SSHServerProcess[bytes], second: str) -> None:
    """Speak as a device does until the session ends; `second`: the password that allows one to
    change things.
    """
    talker = Talker(unit, second)
    end = ender(process)
    session = unit.dialect.session
    assert session is not None  # else it would not be served
    fault = unit.session(end)
    befalls = Befalling(unit, fault, process)
    terminal = StandinTerminal(process, session, unit.device.name, fault.kind if fault else "")
    try:
        await terminal.ask(talker.prompt)
        is_hidden = False
        while (line := await terminal.line()) is not None:
            answered = await befalls.before(talker, line) or talker.typed(line)
            await befalls.behind()
            prompt = answered.asks or ("" if talker.in_text else talker.prompt)
            await terminal.show("" if is_hidden else line, answered.said, prompt)
            is_hidden = answered.hidden
            if not answered.goes_on:
                break
    except (OSError, asyncssh.Error):
        pass  # whoever was there has gone
    finally:
        unit.left(end)
        with contextlib.suppress(OSError, asyncssh.Error):
            process.exit(0)


class Befalling:
    """What befalls one session, at the line of a change at which it does."""

    def __init__(
        self,
        unit: Unit,
        fault: Fault | None,
        process: asyncssh.SSHServerProcess[bytes],
    ) -> None:
        self._unit = unit
        self._fault = fault
        self._process = process
        self._end = ender(process)
        self._lines = 0
        self._was_on_trial = self._happened = False

    async def before(self, talker: Talker, line: str) -> Answered | None:
        """Have it happen if it is time for it, before a line is taken; return what the device
        answers in the place of its own answer.
        """
        fault = self._fault
        self._was_on_trial = self._unit.on_trial
        if fault is None:
            return None
        if fault.kind == "slow":
            await asyncio.sleep(SLOW)
        self._lines += talker.is_change(line)
        if not talker.is_change(line) or self._lines < fault.at or self._happened:
            return None
        if fault.kind == "refuse":
            refusal = talker.refused(line)  # a text is refused at its end
            self._happened = refusal is not None
            return refusal
        self._happened = True
        if fault.kind == "ignore":
            return talker.ignored(line)
        await self._cut(fault.kind)
        return None

    async def before_rpc(self, operation: str) -> str | None:
        """Have it happen if it is time for it, before a request is answered; return why the device
        refuses it, '' if it says that it has done it and has not; None if it does it.
        """
        fault = self._fault
        self._was_on_trial = self._unit.on_trial
        if fault is None:
            return None
        if fault.kind == "slow":
            await asyncio.sleep(SLOW)
        if operation not in ("edit-config", "commit"):
            return None
        self._lines += 1
        if self._lines != min(fault.at, 3):
            return None
        if fault.kind in ("refuse", "ignore"):
            return "this is not possible now" if fault.kind == "refuse" else ""
        await self._cut(fault.kind)
        return None

    async def behind(self) -> None:
        """Have it happen if it is time for it, behind a line that was taken."""
        began = self._unit.on_trial and not self._was_on_trial
        if self._fault is not None and self._fault.kind == "late" and began:
            await self._cut("drop")

    async def _cut(self, kind: str) -> None:
        if kind == "restart":
            self._unit.restart()
        elif kind == "drop":
            self._end()
        while kind == "hang" and not self._process.is_closing():
            await asyncio.sleep(0.1)
        if kind in ("restart", "drop", "hang"):
            raise ConnectionAbortedError
