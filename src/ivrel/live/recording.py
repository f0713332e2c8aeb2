"""Records a dialog with a device whose prompt is not known yet."""

from __future__ import annotations

import asyncio
import contextlib

import asyncssh

from ivrel.core.authoring.dialogs import Turn
from ivrel.core.vocabulary.errors import Unreachable
from ivrel.live.links.link import Route
from ivrel.live.links.ssh import Line, told

QUIET = 1.0  # seconds of silence after which an answer is taken as complete
CHUNK = 1 << 16
MOST = 64 << 20  # bytes of an answer


class Recorder:
    """A session with one device whose turns are kept in memory."""

    def __init__(self, way: Route) -> None:
        self._way = way
        self._line = Line()
        self._connection: asyncssh.SSHClientConnection | None = None
        self._process: asyncssh.SSHClientProcess[bytes] | None = None
        self.turns: list[Turn] = []

    async def open(self) -> Turn:
        """Log in and return the first turn: banner and prompt."""
        self._connection = await self._line.device(self._way)
        try:
            self._process = await self._connection.create_process(
                term_type="vt100", term_size=(500, 200), encoding=None
            )
        except (OSError, asyncssh.Error) as problem:
            raise Unreachable(f"{self._way.where}: {told(problem, self._way.reach)}") from None
        return await self._turn("", hidden=False)

    async def type(self, text: str, *, hidden: bool = False, is_sign: bool = False) -> Turn:
        """Type a line and return the turn with its answer.

        hidden: do not keep the text, which is a password.
        is_sign: send the text without a line end, to turn a page.
        """
        assert self._process is not None  # it was opened
        try:
            self._process.stdin.write(text.encode() if is_sign else f"{text}\n".encode())
        except (OSError, asyncssh.Error) as problem:
            raise Unreachable(f"{self._way.where}: {told(problem, self._way.reach)}") from None
        return await self._turn("" if hidden else text, hidden=hidden)

    def second_password(self) -> str | None:
        """Return the second password, or None if the fleet does not say where it comes from."""
        return self._way.access.second_password(self._way.reach, self._way.device)

    async def _turn(self, typed: str, *, hidden: bool) -> Turn:
        """Read until the device is quiet or closes the session, and return the turn."""
        assert self._process is not None  # it was opened
        parts: list[bytes] = []
        size = 0
        ended = False
        patience = self._way.reach.patience
        while not ended and size < MOST:
            try:
                async with asyncio.timeout(QUIET if parts else patience):
                    part = await self._process.stdout.read(CHUNK)
            except TimeoutError:
                break
            except (OSError, asyncssh.Error):
                part = b""
            ended = not part
            parts.append(part)
            size += len(part)
        self.turns.append(Turn(typed, b"".join(parts), hidden, ended))
        return self.turns[-1]

    async def close(self) -> None:
        """End the session; never raises."""
        with contextlib.suppress(OSError, asyncssh.Error):
            if self._connection is not None:
                self._connection.abort()
        self._line.abort()
