"""Talk: what is typed in a session over SSH, and what the device answers, as its dialect says."""

from __future__ import annotations

import asyncio
import contextlib
import re
import time
from collections.abc import Sequence

from ivrel.core.delivery.dialog import (
    Exchange,
    answer,
    cleaned,
    configuration,
    error_in,
    waits,
)
from ivrel.core.delivery.printed import DoubtfulLine, Prompt, doubts_of, staying
from ivrel.core.dialects.session import SECONDS, WHOLE, Rise, Session
from ivrel.core.text.text import decode
from ivrel.core.vocabulary.errors import Refused, Unreachable
from ivrel.core.vocabulary.wording import plain, shorten, steers
from ivrel.live.links.link import DisplayedState, Link, OutgoingChange, Rehearsal, Target
from ivrel.live.links.terminal import SETTLED, SHORT, Idle, Terminal

READINGS = 3  # attempts to fetch a configuration without doubtful lines
APART = 1.1  # seconds between two attempts, so that time stamps differ


class Talk(Link):
    """A session that lines are typed into."""

    def __init__(self, target: Target) -> None:
        super().__init__(target)
        session = target.dialect.session
        if session is None or not session.is_talk:
            said = f"the dialect {target.dialect.name} does not say how one talks to it (session:)"
            raise Unreachable(said)
        self._said: Session = session
        self._terminal = Terminal(target, session, self.hider)
        self.has_trial = bool(session.trial)

    async def open(self) -> None:
        await self._terminal.open()
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
        raw = await self._terminal.typed(rise.say, asks=rise.ask)
        if not re.search(rise.ask, decode(cleaned(raw)).rpartition("\n")[2]):
            # It does not ask: a password that is typed all the same would be a command.
            self._heard(rise.say, answer(self._said, rise.say, raw))
            return
        self._terminal.write(self._terminal.line(password))
        raw = await self._terminal.read("the second password", SHORT, asks=rise.ask)
        if not waits(self._said, raw) or error_in(self._said, cleaned(raw)):
            raise Unreachable(f"{target.where}: the second password was refused")
        self.exchanges.append(Exchange(rise.say))

    async def fetch(self) -> bytes:
        prompt, idle = await self._terminal.quiet()
        show = self._said.show
        before: tuple[DoubtfulLine, ...] | None = None
        doubts: tuple[DoubtfulLine, ...] = ()
        first: DoubtfulLine | None = None  # the reason for asking again
        for n in range(READINGS):
            if n:
                await asyncio.sleep(APART)
            data = await self._printed(show, prompt, idle)
            doubts = doubts_of(self.target.dialect, data, prompt, show)
            if not doubts or (before is not None and staying(before, doubts)):
                if first is not None and not doubts:
                    self.remarks.append(f"asked again: line {first.line} {first.why}")
                self.hider.know(data)
                return data
            first = first or doubts[0]
            before = doubts
        worst = next((d for d in doubts if not d.may_stay), doubts[0])
        said = f"line {worst.line} of what '{show}' prints {worst.why}"
        raise Unreachable(f"{said}; {worst.hint}")

    async def display(self) -> DisplayedState | None:
        display = self.target.dialect.display
        if display is None or not display.show:
            return None
        prompt, idle = await self._terminal.quiet()
        return DisplayedState(await self._printed(display.show, prompt, idle))

    async def _printed(self, show: str, prompt: Prompt, idle: Idle) -> bytes:
        """Return what the device prints, once: its configuration, or its state."""
        raw = answer(self._said, show, await self._terminal.whole(show, prompt, idle))
        if error := error_in(self._said, raw[:SHORT].partition(b"\n")[0]):
            raise Unreachable(f"'{show}' is refused: {shorten(error)}")
        try:
            data = configuration(self._said, raw)
        except UnicodeDecodeError as problem:
            said = f"what '{show}' prints is not {self._said.encoding} at byte {problem.start}"
            raise Unreachable(f"{said}; the dialect can name another (session: encoding)") from None
        if not data.strip():
            raise Unreachable(f"'{show}' prints nothing")
        return data

    async def rehearse(self, sent: OutgoingChange) -> Rehearsal | None:
        said = self._said
        if not (said.open and said.drop and (said.hold or said.trial)):
            return None
        lines = _lines(sent)
        try:
            await self._draft(lines)
            text = b""
            if said.preview:
                prompt, idle = await self._terminal.quiet()
                text = await self._printed(said.preview, prompt, idle)
        finally:
            with contextlib.suppress(Refused, Unreachable):
                await self._each(said.drop)
        how = f"checked there ('{said.check[-1]}')" if said.check else "taken there"
        return Rehearsal(how, text)

    async def send(self, sent: OutgoingChange) -> None:
        said = self._said
        lines = _lines(sent)
        self.untouched = False
        await self._draft(lines)
        if said.trial and (sent.seconds or not said.hold):
            seconds = str(sent.seconds or self.target.reach.trial)
            self.effective_at = time.monotonic()
            await self._each([line.replace(SECONDS, seconds) for line in said.trial])
            await self._each(() if sent.seconds else said.keep)
        else:
            # Where nothing makes it hold, it does so with its last line.
            self.effective_at = time.monotonic() if said.hold else self.effective_at
            await self._each(said.hold)

    async def _draft(self, lines: Sequence[str]) -> None:
        """Type the lines of a change, and have them checked."""
        said = self._said
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
        await self._terminal.close()

    async def _each(self, lines: Sequence[str], *, changes: bool = False) -> None:
        for number, line in enumerate(lines, 1):
            self.effective_at = time.monotonic() if changes else self.effective_at
            await self._typed(line, number if changes else 0)

    async def _begin_text(self, line: Sequence[str]) -> None:
        """Type the line behind which a text is expected: a device that then waits for a command
        takes none, and would take its lines for commands.
        """
        for one in line:
            self._terminal.write(self._terminal.line(one))
            raw = b""
            with contextlib.suppress(TimeoutError):
                async with asyncio.timeout(SETTLED * 4):
                    while not waits(self._said, raw):
                        raw += await self._terminal.part(one)
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
        self._terminal.write(text.encode(said.encoding, "replace"))
        raw = answer(said, said.end, await self._terminal.typed(said.end))
        # What was typed comes back as an echo; what the device says of it is behind that.
        typed = {line.strip() for line in [*lines, said.end]}
        rest = [one for one in decode(raw).splitlines() if one.strip() not in typed]
        self._heard("\n".join(lines), "\n".join(rest).encode())

    async def _typed(self, line: str, number: int = 0) -> None:
        """Type a line and read the answer; Refused if it reports an error."""
        self._heard(line, answer(self._said, line, await self._terminal.typed(line)), number)

    def _heard(self, typed: str, said: bytes, number: int = 0) -> None:
        self.exchanges.append(Exchange(typed, self.hider.shown(said)))
        error = error_in(self._said, said)
        if error:
            raise Refused(shorten(self.hider.hidden(plain(error)), 120), number)


def _lines(sent: OutgoingChange) -> list[str]:
    """Return the lines of a change; Refused if one of them would steer a line editor."""
    lines = [line for line in sent.change.splitlines() if line.strip()]
    steering = next((n for n, line in enumerate(lines, 1) if steers(line)), 0)
    if steering:
        # A line editor would take it for a command of its own.
        raise Refused("the line contains a control character; nothing was sent", steering)
    return lines
