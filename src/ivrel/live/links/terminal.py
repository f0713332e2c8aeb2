"""Terminal: a session over SSH in which lines are typed; it knows when the device waits."""

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
from ivrel.sources.packed import MIB, largest

CHUNK = 1 << 16
SHORT = MIB  # bytes; no answer to a typed line is longer
WIDE, HIGH = 500, 200  # columns and lines of the terminal: nothing is folded
SETTLED = 0.05  # seconds of silence behind what looks like the prompt in a long answer
PAUSES = (SETTLED, 0.5, 2.0)  # the same, each time that an answer went on all the same
SHOWN = 60  # signs of a line that every terminal shows as it was typed
LATE = 0.5  # seconds for an answer before which the device said something else
MOST_RESTS = 20  # answers that are read until a device is quiet again
SLOWEST = 30  # times the patience: no answer takes longer, even if it comes drop by drop


class Idle(Struct, frozen=True):
    """What a device answers to an empty line: a text, if any, and its prompt."""

    said: bytes
    prompt: bytes


class Terminal:
    """A session with one device. `hider`: hides what may not be shown of what it says."""

    def __init__(self, target: Target, session: Session, hider: Hider) -> None:
        self.target, self._said, self._hider = target, session, hider
        self._connection: asyncssh.SSHClientConnection | None = None
        self._process: asyncssh.SSHClientProcess[bytes] | None = None
        self._way = Line()
        self._last_line = b""  # that was read last, the prompt in most cases
        self._echoes = False  # whether the device shows what is typed

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
        """Return a line as it is sent."""
        return f"{line}\n".encode(self._said.encoding, "replace")

    def write(self, data: bytes) -> None:
        """Send something as it is."""
        if self._process is None:
            raise Unreachable(f"{self.target.where}: the session is closed")
        try:
            self._process.stdin.write(data)
        except (OSError, asyncssh.Error) as problem:
            raise self._lost(problem) from None

    async def typed(self, line: str, most: int = SHORT, *, asks: str = "") -> bytes:
        """Type a line, and return what the device sends until it waits again.

        A device that shows what is typed, and has not shown this line, was saying something else:
        the answer is yet to come.
        """
        self.write(self.line(line))
        about = f"'{shorten(line, 40)}'"
        raw = await self.read(about, most, asks=asks)
        has_echo = line.strip().encode() in cleaned(raw)
        if self._echoes and not has_echo and len(line) < SHOWN:
            with contextlib.suppress(TimeoutError):  # or it does not show this one
                async with asyncio.timeout(LATE):
                    raw += await self.read(about, most, asks=asks)
        self._echoes = self._echoes or (bool(line.strip()) and has_echo)
        return raw

    async def idle(self) -> Idle:
        """Return what the device says to an empty line."""
        self.write(self.line(""))
        raw = await self.read("an empty line", largest(), settled=SETTLED)
        said, _, last = cleaned(raw).rpartition(b"\n")
        return Idle(said, last)

    async def quiet(self) -> tuple[Prompt, Idle]:
        """Return the device's prompt, and what it answers to an empty line: twice the same, but for
        the numbers in its prompt.
        """
        before, idle = Idle(b"", self._last_line), await self.idle()
        for _ in range(MOST_RESTS):
            prompt = Prompt.of(self._said.prompt, before.prompt, idle.prompt)
            if prompt.is_own and (before.said == idle.said or not idle.said.strip()):
                break
            # The first one was that of a login, say, or something was said in between.
            before, idle = idle, await self.idle()
            if before.said == idle.said:
                prompt = Prompt.of(self._said.prompt, before.prompt, idle.prompt)
                break
        return prompt, idle

    async def whole(self, line: str, prompt: Prompt, idle: Idle) -> bytes:
        """Return the answer to a line whose answer is long: to its certain end.

        A pause behind what looks like the prompt is no end: the device must then answer an empty
        line as it did before.
        """
        for settled in PAUSES:
            self.write(self.line(line))
            about = f"'{shorten(line, 40)}'"
            raw = await self.read(about, largest(), settled=settled, prompt=prompt)
            if _alike(await self.idle(), prompt, idle):
                return raw
            for _ in range(MOST_RESTS):  # the rest of the answer comes as answers to empty lines
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
        """Return what the device sends until it waits for a line again, without questions that the
        dialect answers.

        `settled`: seconds of silence behind the prompt, from which on it is one; `prompt`: the
        prompt itself, where it is known; `asks`: what else it may wait with.
        """
        patience = self.target.reach.patience
        end = asyncio.get_running_loop().time() + SLOWEST * patience
        parts: list[bytes] = []
        size, tail, seconds = 0, b"", float(patience)
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
                # A sign goes on at once; an answer is a line.
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
                seconds = settled  # a line of the configuration may look like the prompt

    async def part(self, about: str) -> bytes:
        """Return what the device sends next."""
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
        process, connection = self._process, self._connection
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
        """Return the last line that was received, as it may be shown."""
        lines = decode(cleaned(tail)).strip("\n").splitlines()
        said = shorten(self._hider.hidden(plain(lines[-1])), 80) if lines else ""
        return f"; last line: '{said.rstrip()}'" if said.strip() else "; received nothing"

    def _lost(self, problem: Exception) -> Unreachable:
        return Unreachable(f"{self.target.where}: {told(problem, self.target.reach)}")


def _alike(now: Idle, prompt: Prompt, idle: Idle) -> bool:
    """Whether a device answers an empty line as it did before."""
    return now.said == idle.said and prompt.is_last(now.prompt)
