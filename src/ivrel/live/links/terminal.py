"""A terminal session over SSH: types lines and reads answers up to the next prompt."""

from __future__ import annotations

import asyncio
import contextlib
import re

import asyncssh
from msgspec import Struct

from ivrel.core.delivery.dialog import Hider, cleaned, reply, waits, without_questions
from ivrel.core.delivery.printed import Prompt
from ivrel.core.dialects.session import Session
from ivrel.core.text.text import decode
from ivrel.core.vocabulary.errors import Unreachable
from ivrel.core.vocabulary.wording import plain, shorten
from ivrel.live.links.link import Target
from ivrel.live.links.ssh import Line, told
from ivrel.sources.packed import LIMITS, MIB

CHUNK = 1 << 16
SHORT = MIB  # bytes; no answer to a typed line is longer
WIDE, HIGH = 500, 200  # columns and lines of the terminal, so that nothing is wrapped
SETTLED = 0.05  # seconds of silence after an apparent prompt, before it counts as one
PAUSES = (SETTLED, 0.5, 2.0)  # the same for each attempt, if the answer continued after it
SHOWN = 60  # length up to which every terminal echoes a line unchanged
LATE = 0.5  # seconds to wait for the answer after other output
MOST_RESTS = 20  # empty lines typed until the device is quiet again
SLOWEST = 30  # times the patience: the longest time for an answer that keeps trickling in


class Idle(Struct, frozen=True):
    """The answer to an empty line: a text, mostly empty, and the prompt."""

    said: bytes
    prompt: bytes


class Terminal:
    """A terminal session with one device.

    `hider` masks secrets in what error messages quote from the device.
    """

    def __init__(self, target: Target, session: Session, hider: Hider) -> None:
        self.target = target
        self._said = session
        self._hider = hider
        self._connection: asyncssh.SSHClientConnection | None = None
        self._process: asyncssh.SSHClientProcess[bytes] | None = None
        self._way = Line()
        self._last_line = b""  # the last line read, mostly the prompt
        self._echoes = False  # whether the device echoes typed lines

    async def open(self) -> None:
        """Log in, and wait for the first prompt."""
        self._connection = await self._way.device(self.target)
        try:
            self._process = await self._connection.create_process(
                term_type="vt100", term_size=(WIDE, HIGH), encoding=None
            )
        except (OSError, asyncssh.Error) as problem:
            raise self._lost(problem) from None
        await self.read("the login", SHORT)

    def line(self, line: str) -> bytes:
        """Return a line encoded for sending."""
        return f"{line}\n".encode(self._said.encoding, "replace")

    def write(self, data: bytes) -> None:
        """Send bytes unchanged."""
        if self._process is None:
            raise Unreachable(f"{self.target.where}: the session is closed")
        try:
            self._process.stdin.write(data)
        except (OSError, asyncssh.Error) as problem:
            raise self._lost(problem) from None

    async def typed(self, line: str, most: int = SHORT, *, asks: str = "") -> bytes:
        """Type a line and return the device's answer, including echo and prompt.

        If the device normally echoes lines and did not echo this one, it was printing something
        else, so the answer is still to come.

        most: bytes after which the answer is rejected.
        asks: a pattern for a last line that ends the answer, as the prompt does.
        """
        self.write(self.line(line))
        about = f"'{shorten(line, 40)}'"
        raw = await self.read(about, most, asks=asks)
        has_echo = line.strip().encode() in cleaned(raw)
        if self._echoes and not has_echo and len(line) < SHOWN:
            with contextlib.suppress(TimeoutError):  # it may not echo this line
                async with asyncio.timeout(LATE):
                    raw += await self.read(about, most, asks=asks)
        self._echoes = self._echoes or (bool(line.strip()) and has_echo)
        return raw

    async def idle(self) -> Idle:
        """Type an empty line and return the answer."""
        self.write(self.line(""))
        raw = await self.read("an empty line", LIMITS.largest, settled=SETTLED)
        said, _, last = cleaned(raw).rpartition(b"\n")
        return Idle(said, last)

    async def quiet(self) -> tuple[Prompt, Idle]:
        """Return the device's prompt and its answer to an empty line.

        Empty lines are typed until two answers agree (numbers in the prompt may differ).
        """
        before = Idle(b"", self._last_line)
        idle = await self.idle()
        for _ in range(MOST_RESTS):
            prompt = Prompt.of(self._said.prompt, before.prompt, idle.prompt)
            if prompt.is_own and (before.said == idle.said or not idle.said.strip()):
                break
            # The first answer may include the login banner, or other output.
            before = idle
            idle = await self.idle()
            if before.said == idle.said:
                prompt = Prompt.of(self._said.prompt, before.prompt, idle.prompt)
                break
        return prompt, idle

    async def whole(self, line: str, prompt: Prompt, idle: Idle) -> bytes:
        """Type a line and return its whole answer, even if a part of it looks like the prompt.

        After an apparent prompt and a pause, an empty line must get the same answer as before
        (`idle`). Otherwise the answer was not complete, and the line is typed again with a longer
        pause. Raise Unreachable if the end stays uncertain.
        """
        for settled in PAUSES:
            self.write(self.line(line))
            about = f"'{shorten(line, 40)}'"
            raw = await self.read(about, LIMITS.largest, settled=settled, prompt=prompt)
            if _alike(await self.idle(), prompt, idle):
                return raw
            for _ in range(MOST_RESTS):  # read the rest of the answer
                if _alike(await self.idle(), prompt, idle):
                    break
            else:
                said = (
                    "it answers an empty line differently each time, so the end of an answer is "
                    "uncertain"
                )
                raise Unreachable(f"{self.target.where}: {said}")
        said = f"what it answers to '{shorten(line, 40)}' continues after what looked like its end"
        raise Unreachable(f"{self.target.where}: {said}")

    async def read(
        self,
        about: str,
        most: int,
        *,
        settled: float = 0,
        prompt: Prompt | None = None,
        asks: str = "",
    ) -> bytes:
        """Return the output of the device until it waits for the next line.

        Pages and questions that the dialect knows are answered, and left out.

        about: what the device is answering, for error messages.
        most: bytes after which the answer is rejected.
        settled: seconds of silence after the prompt that confirm it.
        prompt: the device's own prompt, if known; else the dialect's pattern is used.
        asks: a pattern for a last line that ends the answer, as the prompt does.

        Raise Unreachable if no prompt comes, the answer is too long, or the session ends.
        """
        patience = self.target.reach.patience
        end = asyncio.get_running_loop().time() + SLOWEST * patience
        parts: list[bytes] = []
        size = 0
        tail = b""
        seconds = float(patience)
        while True:
            try:
                async with asyncio.timeout(seconds):
                    part = await self.part(about)
            except TimeoutError:
                if seconds == settled:
                    return without_questions(self._said, b"".join(parts))
                said = f"no prompt within {patience} s after {about}"
                raise Unreachable(f"{self.target.where}: {said}{self._shown(tail)}") from None
            parts.append(part)
            size += len(part)
            if size > most or asyncio.get_running_loop().time() > end:
                said = f"the answer to {about} does not end after {size:,} bytes"
                raise Unreachable(f"{self.target.where}: {said}")
            tail = (tail + part)[-4096:]
            seconds = float(patience)
            question = reply(self._said, tail)
            if question is not None:
                # A page is turned by a single character, a question is answered by a line.
                is_sign = question is self._said.pages
                self.write(question.say.encode() if is_sign else self.line(question.say))
                tail = b""
                continue
            self._last_line = cleaned(tail).rpartition(b"\n")[2]
            if asks and re.search(asks, decode(self._last_line)):
                return b"".join(parts)
            if prompt.is_last(self._last_line) if prompt else waits(self._said, tail):
                if not settled:
                    return without_questions(self._said, b"".join(parts))
                seconds = settled  # it may be a line of the configuration

    async def part(self, about: str) -> bytes:
        """Return the next bytes from the device."""
        if self._process is None:
            raise Unreachable(f"{self.target.where}: the session is closed")
        try:
            part = await self._process.stdout.read(CHUNK)
        except (OSError, asyncssh.Error) as problem:
            raise self._lost(problem) from None
        if not part:
            said = f"the device ended the session after {about}"
            raise Unreachable(f"{self.target.where}: {said}")
        return part

    async def close(self) -> None:
        """End the session; never raises."""
        process = self._process
        connection = self._connection
        self._process = self._connection = None
        with contextlib.suppress(OSError, asyncssh.Error, TimeoutError, ValueError):
            if process is not None and self._said.leave:
                process.stdin.write(self.line(self._said.leave))
                async with asyncio.timeout(1):
                    await process.wait_closed()
        if connection is not None:
            connection.abort()
        self._way.abort()

    def _shown(self, tail: bytes) -> str:
        """Return the last line received, with secrets masked."""
        lines = decode(cleaned(tail)).strip("\n").splitlines()
        said = shorten(self._hider.hidden(plain(lines[-1])), 80) if lines else ""
        return f"; last line: '{said.rstrip()}'" if said.strip() else "; received nothing"

    def _lost(self, problem: Exception) -> Unreachable:
        return Unreachable(f"{self.target.where}: {told(problem, self.target.reach)}")


def _alike(now: Idle, prompt: Prompt, idle: Idle) -> bool:
    """Whether an empty line got the same answer as before."""
    return now.said == idle.said and prompt.is_last(now.prompt)
