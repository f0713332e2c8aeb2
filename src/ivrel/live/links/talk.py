"""Talk: what is typed in a session over SSH, and what the device answers, as its dialect says."""

from __future__ import annotations

import asyncio
import contextlib
import re
import time
from collections.abc import Sequence

import asyncssh
from msgspec import Struct

from ivrel.core.delivery.dialog import (
    Exchange,
    answer,
    cleaned,
    configuration,
    error_in,
    reply,
    waits,
    without_questions,
)
from ivrel.core.dialects.session import SECONDS, WHOLE, Rise, Session
from ivrel.core.text.text import decode
from ivrel.core.vocabulary.errors import Refused, Unreachable
from ivrel.core.vocabulary.wording import plain, shorten, steers
from ivrel.live.links.link import Link, Sent, Target
from ivrel.live.links.ssh import Line, told
from ivrel.sources.packed import MIB, largest

CHUNK = 1 << 16
SHORT = MIB  # bytes; no answer to a typed line is longer
WIDE, HIGH = 500, 200  # columns and lines of the terminal: nothing is folded
SETTLED = 0.05  # seconds of silence behind what looks like the prompt in a long answer
PAUSES = (SETTLED, 0.5, 2.0)  # the same, each time that an answer went on all the same
MOST_RESTS = 20  # answers that are read until a device is quiet again
SPEAKING = 3  # signs of a prompt, from which on no line of a configuration begins with it
SLOWEST = 30  # times the patience: no answer takes longer, even if it comes drop by drop


class Idle(Struct, frozen=True):
    """What a device answers to an empty line: a text, if any, and its prompt."""

    said: bytes
    prompt: bytes

    def prompts_in(self, lines: Sequence[bytes]) -> int:
        """Return the first line of a text that begins with the prompt; 0 if none does."""
        prompt = self.prompt.rstrip()
        if len(prompt.strip()) < SPEAKING:
            return 0
        return next((n for n, line in enumerate(lines, 1) if line.startswith(prompt)), 0)


class Talk(Link):
    """A session in which lines are typed."""

    def __init__(self, target: Target) -> None:
        super().__init__(target)
        session = target.dialect.session
        if session is None or not session.is_talk:
            said = f"the dialect {target.dialect.name} does not say how one talks to it (session:)"
            raise Unreachable(said)
        self._said: Session = session
        self._connection: asyncssh.SSHClientConnection | None = None
        self._process: asyncssh.SSHClientProcess[bytes] | None = None
        self.has_trial = bool(session.trial)
        self._way = Line()

    async def open(self) -> None:
        self._connection = await self._way.device(self.target)
        try:
            self._process = await self._connection.create_process(
                term_type="vt100", term_size=(WIDE, HIGH), encoding=None
            )
        except (OSError, asyncssh.Error) as problem:
            raise self._lost(problem) from None
        await self._read("the login", SHORT)
        for line in self._said.start:
            await self._typed(line)
        if self._said.rise is not None:
            await self._rise(self._said.rise)

    async def _rise(self, rise: Rise) -> None:
        """Get the right to change things; Unreachable if it is not given."""
        target = self.target
        password = await asyncio.to_thread(
            target.access.second_password, target.reach, target.device
        )
        if password is None:
            said = f"it asks for a second password behind '{shorten(rise.say, 40)}'"
            raise Unreachable(f"{target.where}: {said}; the fleet names none (second-password)")
        self._write(self._line(rise.say))
        raw = await self._read(f"'{shorten(rise.say, 40)}'", SHORT, asks=rise.ask)
        if not re.search(rise.ask, decode(cleaned(raw)).rpartition("\n")[2]):
            # It does not ask: a password that is typed all the same would be a command.
            self._heard(rise.say, answer(self._said, rise.say, raw))
            return
        self._write(self._line(password))
        raw = await self._read("the second password", SHORT, asks=rise.ask)
        if not waits(self._said, raw) or error_in(self._said, cleaned(raw)):
            raise Unreachable(f"{target.where}: the second password is refused")
        self.exchanges.append(Exchange(rise.say))

    async def fetch(self) -> bytes:
        idle = await self._idle()
        raw = answer(self._said, self._said.show, await self._whole(self._said.show, idle))
        if error := error_in(self._said, raw[:SHORT].partition(b"\n")[0]):
            raise Unreachable(f"'{self._said.show}' is refused: {shorten(error)}")
        try:
            data = configuration(self._said, raw)
        except UnicodeDecodeError as problem:
            said = f"its configuration is not {self._said.encoding} at byte {problem.start}"
            raise Unreachable(f"{said}; the dialect can name another (session: encoding)") from None
        if not data.strip():
            raise Unreachable(f"'{self._said.show}' prints nothing")
        lines = data.split(b"\n")
        typed = self._said.show.encode()
        told = next((n for n, one in enumerate(lines, 1) if one.strip() == typed), 0)
        for number, what in ((idle.prompts_in(lines), "begins with the prompt"), (told, "is that")):
            if number:
                said = f"line {number} of what '{self._said.show}' prints {what}"
                raise Unreachable(f"{said}; something else was said in between: try again")
        self.hider.know(data)
        return data

    async def _idle(self) -> Idle:
        """Return what the device says to an empty line."""
        self._write(self._line(""))
        raw = await self._read("an empty line", largest(), settled=SETTLED)
        said, _, prompt = cleaned(raw).rpartition(b"\n")
        return Idle(said, prompt)

    async def _whole(self, line: str, idle: Idle) -> bytes:
        """Return the answer to a line whose answer is long: to its certain end.

        A pause behind what looks like the prompt is no end: the device must then answer an empty
        line as it did before.
        """
        for settled in PAUSES:
            self._write(self._line(line))
            about = f"'{shorten(line, 40)}'"
            raw = await self._read(about, largest(), settled=settled, prompt=idle.prompt)
            if await self._idle() == idle:
                return raw
            for _ in range(MOST_RESTS):  # the rest of the answer comes as answers to empty lines
                if await self._idle() == idle:
                    break
            else:
                said = (
                    "it answers an empty line in another way each time, so that no end is certain"
                )
                raise Unreachable(f"{self.target.where}: {said}")
        said = f"what it answers to '{shorten(line, 40)}' goes on behind what looks like its end"
        raise Unreachable(f"{self.target.where}: {said}")

    async def send(self, sent: Sent) -> None:
        said = self._said
        lines = [line for line in sent.change.splitlines() if line.strip()]
        steering = next((n for n, line in enumerate(lines, 1) if steers(line)), 0)
        if steering:
            # A line editor would take it for a command of its own.
            raise Refused("the line holds a control character; nothing was typed", steering)
        self.untouched = False
        if said.typed == WHOLE:
            await self._each(said.open[:-1])
            await self._begin_text(said.open[-1:])
            await self._text(lines)
        else:
            await self._each(said.open)
            await self._each(lines, changes=True)
            if said.end:
                await self._typed(said.end)
        await self._each(said.check)
        if said.trial and (sent.seconds or not said.hold):
            seconds = str(sent.seconds or self.target.reach.trial)
            self.effective_at = time.monotonic()
            await self._each([line.replace(SECONDS, seconds) for line in said.trial])
            await self._each(() if sent.seconds else said.keep)
        else:
            # Where nothing makes it hold, it does so with its last line.
            self.effective_at = time.monotonic() if said.hold else self.effective_at
            await self._each(said.hold)

    async def keep(self) -> None:
        await self._each(self._said.keep if self.has_trial else ())

    async def save(self) -> None:
        await self._each(self._said.save)

    async def drop(self) -> bool:
        if not self._said.drop:
            return False
        with contextlib.suppress(Refused):  # there may be nothing to give up
            await self._each(self._said.drop)
        return self.has_trial

    async def close(self) -> None:
        process, connection = self._process, self._connection
        self._process = self._connection = None
        with contextlib.suppress(OSError, asyncssh.Error, TimeoutError, ValueError):
            if process is not None and self._said.leave:
                process.stdin.write(self._line(self._said.leave))
                async with asyncio.timeout(1):
                    await process.wait_closed()
        if connection is not None:
            connection.abort()
        self._way.abort()

    async def _each(self, lines: Sequence[str], *, changes: bool = False) -> None:
        for number, line in enumerate(lines, 1):
            self.effective_at = time.monotonic() if changes else self.effective_at
            await self._typed(line, number if changes else 0)

    async def _begin_text(self, line: Sequence[str]) -> None:
        """Type the line behind which a text is expected: a device that then waits for a command
        takes none, and would take its lines for commands.
        """
        for one in line:
            self._write(self._line(one))
            raw = b""
            with contextlib.suppress(TimeoutError):
                async with asyncio.timeout(SETTLED * 4):
                    while not waits(self._said, raw):
                        raw += await self._part(one)
            said = answer(self._said, one, raw) if waits(self._said, raw) else raw
            error = error_in(self._said, cleaned(said))
            if error or waits(self._said, raw):
                self._heard(one, said)
                raise Refused(f"behind '{shorten(one, 40)}' it takes no text")
            self.exchanges.append(Exchange(one))

    async def _text(self, lines: Sequence[str]) -> None:
        """Type a text as a whole; the device answers when the line is there that ends it."""
        said = self._said
        text = "".join(f"{line}\n" for line in lines)
        self.effective_at = time.monotonic()
        self._write(text.encode(said.encoding, "replace"))
        raw = answer(said, said.end, await self._asked_raw(said.end, SHORT))
        # What was typed comes back as an echo; what the device says of it is behind that.
        typed = {line.strip() for line in [*lines, said.end]}
        rest = [one for one in decode(raw).splitlines() if one.strip() not in typed]
        self._heard("\n".join(lines), "\n".join(rest).encode())

    async def _typed(self, line: str, number: int = 0) -> None:
        """Type a line and read the answer; Refused if it tells of an error."""
        self._heard(line, await self._asked(line, SHORT), number)

    def _heard(self, typed: str, said: bytes, number: int = 0) -> None:
        self.exchanges.append(Exchange(typed, self.hider.shown(said)))
        error = error_in(self._said, said)
        if error:
            raise Refused(shorten(self.hider.hidden(plain(error)), 120), number)

    async def _asked(self, line: str, most: int) -> bytes:
        return answer(self._said, line, await self._asked_raw(line, most))

    async def _asked_raw(self, line: str, most: int) -> bytes:
        self._write(self._line(line))
        return await self._read(f"'{shorten(line, 40)}'", most)

    def _line(self, line: str) -> bytes:
        return f"{line}\n".encode(self._said.encoding, "replace")

    def _write(self, data: bytes) -> None:
        if self._process is None:
            raise Unreachable(f"{self.target.where}: the session is closed")
        try:
            self._process.stdin.write(data)
        except (OSError, asyncssh.Error) as problem:
            raise self._lost(problem) from None

    async def _read(
        self, about: str, most: int, *, settled: float = 0, prompt: bytes = b"", asks: str = ""
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
                    part = await self._part(about)
            except TimeoutError:
                if seconds == settled:
                    return without_questions(self._said, b"".join(parts))
                said = f"no prompt within {patience} s after {about}"
                raise Unreachable(f"{self.target.where}: {said}{self._last(tail)}") from None
            parts.append(part)
            size += len(part)
            if size > most or asyncio.get_running_loop().time() > end:
                said = f"the answer to {about} does not end; {size:,} bytes so far"
                raise Unreachable(f"{self.target.where}: {said}")
            tail = (tail + part)[-4096:]
            seconds = float(patience)
            question = reply(self._said, tail)
            if question is not None:
                # A sign goes on at once; an answer is a line.
                is_sign = question is self._said.pages
                self._write(question.say.encode() if is_sign else self._line(question.say))
                tail = b""
                continue
            last = cleaned(tail).rpartition(b"\n")[2]
            if asks and re.search(asks, decode(last)):
                return b"".join(parts)
            if last == prompt if prompt else waits(self._said, tail):
                if not settled:
                    return without_questions(self._said, b"".join(parts))
                seconds = settled  # a line of the configuration may look like the prompt

    def _last(self, tail: bytes) -> str:
        """Return the last line that was received, as it may be shown."""
        lines = decode(cleaned(tail)).strip("\n").splitlines()
        said = shorten(self.hider.hidden(plain(lines[-1])), 80) if lines else ""
        return f"; the last line is '{said.rstrip()}'" if said.strip() else "; nothing was received"

    async def _part(self, about: str) -> bytes:
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

    def _lost(self, problem: Exception) -> Unreachable:
        return Unreachable(f"{self.target.where}: {told(problem, self.target.reach)}")
