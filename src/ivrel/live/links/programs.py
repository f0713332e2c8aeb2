"""Programs of the user's own that print a configuration or take a change: for whatever else a site
has. They are called without a shell.
"""

from __future__ import annotations

import asyncio
import contextlib
import time
from collections.abc import Sequence

from ivrel.core.delivery.dialog import Exchange
from ivrel.core.reach import filled
from ivrel.core.vocabulary.errors import Refused, Unreachable
from ivrel.core.vocabulary.wording import plain, shorten
from ivrel.live.links.link import DisplayedState, Link, OutgoingChange, Target
from ivrel.sources.files import plain_text, reason
from ivrel.sources.packed import LIMITS

CHUNK = 1 << 16


class Programs(Link):
    """A device that programs of the user's speak to."""

    async def open(self) -> None:
        if not self.target.reach.fetch:
            raise Unreachable("the fleet names no program that prints it (reach: fetch)")

    async def fetch(self) -> bytes:
        words = self.target.reach.fetch
        code, out, err = await self._run(words)
        if code:
            raise Unreachable(f"{words[0]} ended with {code}: {self._first(err) or 'no word why'}")
        if not out.strip():
            raise Unreachable(f"{words[0]} prints nothing")
        data = plain_text(out, words[0])
        self.hider.know(data)
        return data

    async def display(self) -> DisplayedState | None:
        words = self.target.reach.state
        if not words:
            return None
        code, out, err = await self._run(words)
        if code:
            raise Unreachable(f"{words[0]} ended with {code}: {self._first(err) or 'no word why'}")
        return DisplayedState(plain_text(out, words[0]))

    async def send(self, sent: OutgoingChange) -> None:
        reach = self.target.reach
        # What is sent to take back is sent by the program for it, if there is one.
        words = (reach.back or reach.change) if sent.back else reach.change
        if not words:
            raise Refused("the fleet names no program that takes a change (reach: change)")
        self.effective_at = time.monotonic()
        self.untouched = False
        code, out, err = await self._run(words, sent.change.encode())
        shown = self.hider.shown(out + err)
        self.exchanges.append(Exchange(sent.change.rstrip("\n"), shown))
        if code:
            raise Refused(f"{words[0]} ended with {code}: {self._first(err) or 'no word why'}")

    async def save(self) -> None:
        words = self.target.reach.keep
        if words:
            code, _, err = await self._run(words)
            if code:
                raise Refused(f"{words[0]} ended with {code}: {self._first(err)}")

    def _first(self, err: bytes) -> str:
        lines = (line.strip() for line in err.decode("utf-8", "replace").splitlines())
        return shorten(self.hider.hidden(plain(next(filter(None, lines), ""))), 120)

    async def _run(self, words: Sequence[str], given: bytes = b"") -> tuple[int, bytes, bytes]:
        """Return the exit code of a program, and what it wrote."""
        return await called(self.target, words, given)


async def called(
    target: Target, words: Sequence[str], given: bytes = b""
) -> tuple[int, bytes, bytes]:
    """Call a program with the fields of a device in their places, and without a shell; return its
    exit code, and what it wrote to standard output and error.

    `given`: what it gets on standard input. Unreachable if it cannot be called, or does not end.
    """
    return await ended(filled(words, target.device, target.reach), given, target.reach.patience)


async def ended(words: Sequence[str], given: bytes, patience: int) -> tuple[int, bytes, bytes]:
    """Call a program as it is, and return the same as `called`; `patience`: seconds."""
    pipe = asyncio.subprocess.PIPE
    try:
        process = await asyncio.create_subprocess_exec(*words, stdin=pipe, stdout=pipe, stderr=pipe)
    except (OSError, ValueError) as problem:
        raise Unreachable(f"{words[0]} cannot be called: {reason(problem)}") from None
    assert process.stdin and process.stdout and process.stderr
    errors = asyncio.create_task(process.stderr.read(CHUNK))
    try:
        async with asyncio.timeout(patience):
            with contextlib.suppress(ConnectionError):
                process.stdin.write(given)
                await process.stdin.drain()
            process.stdin.close()
            out = await _all(process.stdout, words[0])
            err = await errors
            return await process.wait(), out, err
    except TimeoutError:
        said = f"{words[0]} does not end within {patience} s"
        raise Unreachable(said) from None
    finally:
        errors.cancel()
        if process.returncode is None:
            with contextlib.suppress(ProcessLookupError):
                process.kill()
            await process.wait()


async def _all(stream: asyncio.StreamReader, name: str) -> bytes:
    out = []
    size = 0
    while part := await stream.read(CHUNK):
        out.append(part)
        size += len(part)
        if size > LIMITS.largest:
            raise Unreachable(f"what {name} prints does not end after {size:,} bytes")
    return b"".join(out)
