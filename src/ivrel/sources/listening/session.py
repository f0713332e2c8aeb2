"""One session of listening: messages are taken, kept and counted until it is time to end."""

from __future__ import annotations

import asyncio
import contextlib
import signal
import ssl
import time
from collections import Counter
from collections.abc import Callable, Sequence
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import msgspec
from msgspec import Struct

from ivrel.core.syslog import parse
from ivrel.core.syslog.framing import Frame
from ivrel.core.syslog.record import Record, RecordingLines
from ivrel.core.vocabulary.errors import InputError
from ivrel.sources.files import write_bytes
from ivrel.sources.listening.keeping import Keeper, RotationLimits
from ivrel.sources.listening.sockets import ListenCounts, ListenPort, Sockets

TICK = 0.5  # seconds between two looks at what was heard
_COUNTS_EVERY = 10.0  # seconds between two times that the counts are written
_TOLD_AT_ONCE = 3  # senders of whose connections something is told at a look
_JUMP = 1.0  # a clock that goes back by this many seconds or more is reported


class ListenOptions(Struct, frozen=True):
    """What a session is asked for.

    `ways` and `addresses`: where it listens; `folder`: where recordings are kept, if they are;
    `seconds`, `number`: after which it ends, 0 is never.
    """

    ways: tuple[ListenPort, ...]
    addresses: tuple[str, ...] = ("0.0.0.0", "::")
    folder: Path | None = None
    limits: RotationLimits = RotationLimits()
    seconds: float = 0.0
    number: int = 0


class ListenSession:
    """Listens, and tells what it hears.

    `heard`: is given each message as it comes, with the sender; `looked`: is called now and then,
    and ends the session by returning True; `noticed`: is given what goes wrong, in words, as it
    happens.
    """

    def __init__(
        self,
        asked: ListenOptions,
        context: ssl.SSLContext | None = None,
        heard: Callable[[Record], None] | None = None,
        looked: Callable[[ListenSession], bool] = lambda session: False,
        noticed: Callable[[str], None] = lambda said: None,
    ) -> None:
        self.asked = asked
        self._noticed = noticed
        self._notices: Counter[tuple[str, str]] = Counter()
        self._was_failing = ""
        self._recorded = RecordingLines()
        self._context = context
        self._heard = heard
        self._looked = looked
        self.counts = ListenCounts()
        self.senders: dict[str, int] = {}  # messages by the address they came from
        self.others = 0  # messages of senders that are too many to be counted one by one
        self.jumps = 0  # how often the clock went back
        self.ways: list[ListenPort] = []
        self.buffers: list[int] = []
        self.keeper: Keeper | None = None
        self._last = 0.0
        self._begun = time.time()
        self._written = time.monotonic()
        self._done = asyncio.Event()

    MOST_SENDERS = 20_000

    def run(self) -> None:
        """Listen until it is time to end; InputError tells what went wrong."""
        with asyncio.Runner(loop_factory=_loop_factory()) as runner:
            runner.run(self._run())

    async def _run(self) -> None:
        loop = asyncio.get_running_loop()
        loop.set_exception_handler(self._stumbled)
        for number in (signal.SIGINT, signal.SIGTERM):
            with contextlib.suppress(NotImplementedError, ValueError):
                loop.add_signal_handler(number, self._done.set)
        await self.serve()

    async def serve(self, ready: Callable[[], None] = lambda: None) -> None:
        """Listen in the loop that runs, beside what else it does; `ready` is called when it can be
        heard.
        """
        sockets = Sockets(self._take, self.counts, self._context, self._note)
        if self.asked.folder is not None:
            self.keeper = Keeper(self.asked.folder, self.asked.limits, _now, time.monotonic)
        try:
            await sockets.open(self.asked.ways, self.asked.addresses)
            self.ways = sockets.ways
            self.buffers = sockets.buffers
            self._looked(self)
            ready()
            await self._ticking()
        finally:
            await sockets.close()
            if self.keeper is not None:
                self.keeper.close()
            self._tell()
            self._write_counts()
        self._looked(self)

    async def _ticking(self) -> None:
        """Look at what was heard now and then, until it is time to end."""
        end = time.monotonic() + self.asked.seconds if self.asked.seconds else None
        while not self._done.is_set():
            left = TICK if end is None else min(TICK, end - time.monotonic())
            with contextlib.suppress(TimeoutError):
                await asyncio.wait_for(self._done.wait(), max(left, 0.01))
            if self.keeper is not None:
                self.keeper.flush()
            self._tell()
            if self._looked(self) or (end is not None and time.monotonic() >= end):
                return

    def _write_counts(self) -> None:
        """Write what was counted so far beside the recordings; `why` reports it."""
        if self.keeper is None or self.asked.folder is None:
            return
        counts = self.counts
        said = {
            "begun": self._begun,
            "ended": time.time(),
            "received": counts.received,
            "dropped": counts.dropped,
            "shortened": counts.shortened,
            "cut": counts.cut,
            "refused": counts.refused,
            "idle": counts.ended,
            "failed": counts.failed,
            "unkept": self.keeper.unkept,
        }
        when = datetime.fromtimestamp(self._begun, UTC).strftime("%Y%m%dT%H%M%S")
        with contextlib.suppress(InputError, OSError):  # as on a full disk
            write_bytes(self.asked.folder / f"listened-{when}Z.json", msgspec.json.encode(said))

    def _note(self, what: str, sender: str) -> None:
        self._notices[what, sender] += 1

    def _tell(self) -> None:
        """Tell what went wrong since the last look."""
        for (what, sender), number in self._notices.most_common(_TOLD_AT_ONCE):
            of = "a connection" if number == 1 else f"{number:,} connections"
            why = "too many are open" if what == "refused" else "idle, to make room for others"
            self._noticed(f"{what} {of} of {sender}: {why}")
        self._notices.clear()
        failing = self.keeper.failing if self.keeper is not None else ""
        if failing and failing != self._was_failing:
            self._noticed(f"{failing}; messages are counted, and not kept")
        elif self._was_failing and not failing and self.keeper is not None:
            self._noticed(f"keeping messages again; {self.keeper.unkept:,} were not kept")
        self._was_failing = failing
        if time.monotonic() - self._written >= _COUNTS_EVERY:
            self._written = time.monotonic()
            self._write_counts()

    def _stumbled(self, loop: asyncio.AbstractEventLoop, context: dict[str, Any]) -> None:
        """Count what fails of one stream; the others go on."""
        if isinstance(context.get("exception"), ssl.SSLError | ConnectionError):
            self.counts.failed += 1

    def _take(self, frame: Frame, sender: str, way: ListenPort) -> None:
        """Take one message as it comes."""
        now = time.time()
        if now < self._last - _JUMP:
            self.jumps += 1
        self._last = now
        if sender in self.senders or len(self.senders) < self.MOST_SENDERS:
            self.senders[sender] = self.senders.get(sender, 0) + 1
        else:
            self.others += 1
        if self.keeper is not None:
            is_cut = frame.cut or frame.dropped > 0
            came = (sender, way.port, way.transport, frame.framing)
            self.keeper.add(self._recorded.line(frame.data, now, came, is_cut=is_cut))
        if self._heard is not None:
            received = datetime.fromtimestamp(now, UTC)
            where = str(self.keeper.path) if self.keeper is not None else "live"
            self._heard(
                Record(
                    parse(frame.data), frame.data, where, self.counts.received,
                    received, sender, way.port, way.transport, frame.framing,
                    is_cut=frame.cut or frame.dropped > 0,
                )
            )  # fmt: skip
        if self.asked.number and self.counts.received >= self.asked.number:
            self._done.set()


def _now() -> datetime:
    return datetime.now(UTC)


def _loop_factory() -> Callable[[], asyncio.AbstractEventLoop] | None:
    """Return the constructor of a faster event loop, if uvloop is installed."""
    try:
        import uvloop
    except ImportError:
        return None
    return uvloop.new_event_loop  # type: ignore[no-any-return]


def in_words(ways: Sequence[ListenPort]) -> str:
    """Return ways in words: 'udp 514, tcp 601'."""
    return ", ".join(dict.fromkeys(f"{way.transport} {way.port}" for way in ways))
