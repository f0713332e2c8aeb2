"""The terminal of a stand-in: line editor, echo, pager, and terminal faults."""

from __future__ import annotations

import asyncio
import re
from collections.abc import Iterator
from datetime import UTC, datetime

import asyncssh

from ivrel.core.dialects.session import Session
from ivrel.standin.talk import text_like

ROWS, COLUMNS = 24, 80  # of the least page, and of a terminal that does not heed its width
ERASE, WORD, ALL, BREAK = (8, 127), 23, 21, 3  # what a line editor obeys: ^H and DEL, ^W, ^U, ^C
CHUNK = 1 << 12
DRIPS = 400  # bytes at the begin and the end of an answer that come one by one


class Editor:
    """A line editor: turns typed bytes into lines and obeys control characters."""

    def __init__(self) -> None:
        self._line = bytearray()
        self._after_return = False

    def fed(self, data: bytes) -> Iterator[str]:
        """Yield the lines that `data` completes."""
        for sign in data:
            after_return = self._after_return
            self._after_return = sign == 13
            if sign in (10, 13):
                if sign == 13 or not after_return:  # both together end one line
                    yield self._line.decode("utf-8", "replace")
                self._line.clear()
            elif sign in ERASE:
                del self._line[-1:]
            elif sign == WORD:
                del self._line[self._line.rstrip().rfind(b" ") + 1 :]
            elif sign in (ALL, BREAK):
                self._line.clear()
            elif sign >= 32 or sign == 9:
                self._line.append(sign)


class StandinTerminal:
    """The terminal of one session.

    habit: the terminal fault of this session (drip, fold, chat, clock), or empty.
    """

    def __init__(
        self, process: asyncssh.SSHServerProcess[bytes], session: Session, name: str, habit: str
    ) -> None:
        self._process = process
        self._name = name
        self._habit = habit
        self._prompt = session.prompt
        self._page = text_like(session.pages.seen) if session.pages is not None else ""
        self._typed = b""  # and not looked at yet
        self._editor = Editor()
        self._lines = list[str]()
        self._chats = 2  # messages that are yet to be said

    async def line(self) -> str | None:
        """Return the next typed line, or None at the end of the input."""
        while not self._lines:
            data = self._typed or await self._process.stdin.read(CHUNK)
            self._typed = b""
            if not data:
                return None
            self._lines += self._editor.fed(data)
        return self._lines.pop(0)

    async def show(self, typed: str, said: bytes, prompt: str) -> None:
        """Print the echo of a line (empty if hidden), its answer, and the prompt."""
        lines = (
            [typed.encode(), *said.removesuffix(b"\n").split(b"\n")] if said else [typed.encode()]
        )
        if self._habit == "chat" and self._chats and len(lines) > 1:
            self._chats -= 1
            message = f"{datetime.now(UTC):%b %e %H:%M:%S} {self._name} link: port up"
            lines.insert(1 + len(lines) // 2, message.encode())
        if self._habit == "fold":
            lines = [piece for line in lines for piece in _folded(line)]
        if self._page and not self._lines:
            rows = max(self._process.term_size[1], ROWS) - 1
            for n in range(0, len(lines), rows):
                await self._send(b"".join(one + b"\r\n" for one in lines[n : n + rows]))
                if n + rows < len(lines):
                    await self._turned()
        else:
            await self._send(b"".join(one + b"\r\n" for one in lines))
        await self.ask(prompt)

    async def ask(self, prompt: str) -> None:
        """Print a prompt."""
        with_time = f"{datetime.now(UTC):%H:%M:%S.%f} {prompt}"
        if self._habit == "clock" and re.search(self._prompt, with_time):
            prompt = with_time
        await self._send(prompt.encode())

    async def _turned(self) -> None:
        """Wait until any key turns the page."""
        await self._send(self._page.encode())
        if not self._typed:
            self._typed = await self._process.stdin.read(1)
        if not self._typed:
            raise ConnectionAbortedError
        self._typed = self._typed[1:]
        await self._send(b"\r" + b" " * len(self._page) + b"\r")

    async def _send(self, data: bytes) -> None:
        if self._habit != "drip":
            self._process.stdout.write(data)
            await self._process.stdout.drain()
            return
        at = 0
        while at < len(data):
            size = 1 if min(at, len(data) - at) <= DRIPS else 97
            self._process.stdout.write(data[at : at + size])
            at += size
            await self._process.stdout.drain()
            await asyncio.sleep(0)


def _folded(line: bytes) -> list[bytes]:
    return [line[n : n + COLUMNS] for n in range(0, len(line), COLUMNS)] or [b""]
