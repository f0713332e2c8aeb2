"""A unit: one simulated device, without its sessions: what it is configured to do, what is on
trial, what it says.
"""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import Callable, Mapping, Sequence
from datetime import UTC, datetime, timedelta

from ivrel.core.correcting.changes import apply_change, unknown_lines
from ivrel.core.dialects.dialect import Dialect
from ivrel.core.evidence.displaying import Counters, displayed
from ivrel.core.evidence.emitters import Emitter, Event, emitters, written
from ivrel.core.fleet import Device
from ivrel.core.policy import Collector
from ivrel.core.reading import read_records
from ivrel.core.settings import Scope
from ivrel.core.vocabulary.errors import InputError, Refused, Unreadable
from ivrel.standin.faults import Chance, Fault
from ivrel.standin.speaking import Mouth

# What a device has to say when its configuration has changed: something of each severity that
# matters, for a policy may let only some of them leave.
_AFTER = (
    Event(5, "change", "configuration changed"),
    Event(3, "route", "neighbours lost and found again after the change"),
    Event(4, "env", "fans at another speed than expected"),
    Event(6, "link", "all ports up"),
)


class Unit:
    """One device: `running` is in effect, `saved` outlasts a restart.

    `fault`: what is wrong with it whatever the session.
    """

    def __init__(
        self,
        device: Device,
        dialect: Dialect,
        text: bytes,
        collectors: Mapping[str, Collector],
        mouth: Mouth,
        chance: Chance,
    ) -> None:
        self.device = device
        self.dialect = dialect
        self.running = self.saved = text
        self.fault: Fault | None = None
        self._collectors = collectors
        self._mouth = mouth
        self._chance = chance
        self._before: bytes | None = None  # what holds again when a trial ends
        self._timer: asyncio.TimerHandle | None = None
        self._enders: set[Callable[[], None]] = set()  # what ends each session
        self._booted = datetime.now(UTC) - timedelta(days=3)
        self._number = 0
        self.held = 0  # messages in its own memory
        self._counters: dict[tuple[str, int, str], Counters] = {}
        self._voices: tuple[bytes, Sequence[Emitter]] = (b"", ())
        self._tasks: set[asyncio.Task[None]] = set()

    def session(self, end: Callable[[], None]) -> Fault | None:
        """Note a session, and return what befalls it; `end` ends it when the device restarts."""
        self._enders.add(end)
        return self.fault or self._chance.fault(self.device.name)

    def left(self, end: Callable[[], None]) -> None:
        """Note that a session has ended."""
        self._enders.discard(end)

    def changed(self, text: bytes, change: str) -> bytes:
        """Return a text after a change; Refused tells why the platform does not take it."""
        try:
            for line, said in unknown_lines(self.dialect, change, "change"):
                raise Refused(f"line {line}: '{said}' is not understood", line)
            out = apply_change(self.dialect, text, change, "change")
            read_records(self.dialect, out)
        except InputError as problem:
            mistake = problem.mistakes[0]
            raise Refused(f"line {mistake.line}: {mistake.said}", mistake.line) from None
        except Unreadable as problem:
            raise Refused(str(problem)) from None
        return out

    @property
    def on_trial(self) -> bool:
        """Whether what is in effect takes itself back unless it is confirmed."""
        return self._before is not None

    def take(self, text: bytes, seconds: float = 0) -> None:
        """Have a text take effect, for this many seconds unless it is confirmed, or else for
        good."""
        before = self._before if self._before is not None else self.running
        self._settle()
        self.running = text
        if seconds:
            self._before = before
            self._timer = asyncio.get_running_loop().call_later(seconds, self.withdraw)
        self._tell()

    def confirm(self) -> bool:
        """Confirm what is on trial, which is then saved; False if nothing is."""
        if self._before is None:
            return False
        self._settle()
        self.saved = self.running
        return True

    def withdraw(self) -> bool:
        """Take back what is on trial; False if nothing is."""
        if self._before is None:
            return False
        self.running = self._before
        self._settle()
        self._tell()
        return True

    def restart(self) -> None:
        """Restart: every session ends, and what was not saved is gone."""
        self._settle()
        self.running = self.saved
        self._booted = datetime.now(UTC)
        self._number = self.held = 0
        self._counters.clear()
        for end in list(self._enders):
            end()
        self.say(Event(4, "system", "restarted"))

    def _settle(self) -> None:
        if self._timer is not None:
            self._timer.cancel()
        self._timer = self._before = None

    def _tell(self) -> None:
        """Say what there is to say after a change, one thing after the other."""

        async def tell() -> None:
            for event in _AFTER:
                await asyncio.sleep(0.05)
                self.say(event)

        with contextlib.suppress(RuntimeError):  # there is no loop where nobody listens
            task = asyncio.get_running_loop().create_task(tell())
            self._tasks.add(task)
            task.add_done_callback(self._tasks.discard)

    def say(self, event: Event) -> int:
        """Send an event to all collectors that it is for, as the configuration says; return how
        many there were.
        """
        if self._has("silent"):
            return 0
        self._number += 1
        self.held += 1
        sent = 0
        for emitter in self._speaks():
            if not emitter.lets(event.severity, event.tag):
                continue
            counters = self._counters_of(emitter.address, emitter.port, emitter.transport)
            if counters.is_down:
                counters.dropped += 1
                continue
            now = datetime.now(UTC)
            data = written(self.device, emitter, event, now, self._booted, self._number)
            self._mouth.send(emitter, data)
            sent += 1
            if not self._has("stuck"):
                counters.sent += 1
        return sent

    def displayed(self) -> bytes:
        """Return what the device shows of its state; Refused if there is nothing to be shown."""
        try:
            return displayed(self.scope(), self._counters_of, self.held)
        except Unreadable as problem:
            raise Refused(str(problem)) from None

    def _counters_of(self, address: str, port: int, transport: str) -> Counters:
        """Return what the device counts for a destination."""
        at = (address, port, transport)
        counters = self._counters.setdefault(at, Counters())
        first = next(iter(self._speaks()), None)
        is_first = first is not None and (first.address, first.port, first.transport) == at
        counters.is_down = is_first and self._has("down")
        return counters

    def _has(self, fault: str) -> bool:
        return self.fault is not None and self.fault.kind == fault

    def scope(self) -> Scope:
        """Return what its configuration says. Raise Unreadable if it cannot be read."""
        return Scope(self.device, read_records(self.dialect, self.running), self._collectors)

    def _speaks(self) -> Sequence[Emitter]:
        if self._voices[0] != self.running:
            try:
                nearest = self.device.identity or "127.0.0.1"
                found = tuple(emitters(self.device, self.scope(), lambda d: nearest))
            except Unreadable:
                found = ()
            self._voices = self.running, found
        return self._voices[1]
