"""Delivering: a wave of devices after the other, so many at once, until all are done or too many
have failed.
"""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import AsyncIterator, Awaitable, Callable, Coroutine, Mapping, Sequence
from datetime import datetime
from typing import Any, TypeVar

from msgspec import Struct

from ivrel.core.correcting import Written
from ivrel.core.delivery.course import FAILED, TO_LAST, WAITING
from ivrel.core.delivery.window import Window
from ivrel.live.course import Course, DeliveryOptions, DeliveryResult
from ivrel.live.hearing import Hearing
from ivrel.live.hooks import Hooks
from ivrel.live.journal import DeviceEntry, Journal
from ivrel.live.links import Target
from ivrel.live.proving import Prover

T = TypeVar("T")

# Is asked between two waves, with the number of the next one and what came of the last.
Between = Callable[[int, Sequence[DeliveryResult]], Awaitable[bool]]


class DeliveryLimits(Struct, frozen=True):
    """How carefully it is gone about: `stop_after`: failures that end the delivery; `at_once`:
    devices that are talked to at a time; `window`: the hours when devices are begun.
    """

    stop_after: int = 1
    at_once: int = 10
    window: Window | None = None


class Delivering:
    """One run of a delivery that the journal knows by its number."""

    def __init__(
        self,
        journal: Journal,
        number: int,
        targets: Mapping[str, Target],
        written: Mapping[str, Written],
        prover: Prover,
        asked: DeliveryOptions,
        limits: DeliveryLimits,
        hearing: Hearing | None = None,
        hooks: Hooks | None = None,
    ) -> None:
        self._hooks, self._longest = hooks, 0.0  # seconds that one device took
        self.begun = False  # whether any device was to be begun
        self._journal = journal
        self._number = number
        self._targets = targets
        self._written = written
        self._prover = prover
        self._asked = asked
        self._limits = limits
        self._hearing = hearing
        self._failures = 0
        self._courses: list[Course] = []  # of devices that have to be looked at once more
        self._stopped = ""

    def stop(self, why: str) -> None:
        """Begin with no more devices; those that are begun are finished."""
        self._stopped = self._stopped or why

    @property
    def stopped(self) -> str:
        """Why no more devices are begun; '' if they are."""
        return self._stopped

    async def settle(
        self, entries: Sequence[DeviceEntry], done: Callable[[DeliveryResult], None]
    ) -> None:
        """Go on with devices at which an earlier run was cut off."""

        async def one(entry: DeviceEntry) -> DeliveryResult:
            course = self._course(entry.device)
            outcome = await course.resume(entry, self._written.get(entry.device))
            self._courses.append(course)
            return outcome

        kept = [entry for entry in entries if entry.state == TO_LAST]
        for entry in kept:
            course = self._course(entry.device)
            course.recall(entry)
            self._courses.append(course)
        others = [entry for entry in entries if entry.state != TO_LAST]
        await self._at_once(others, one, done, may_stop=False)

    async def deliver(
        self,
        waves: Sequence[Sequence[str]],
        between: Between,
        done: Callable[[DeliveryResult], None],
    ) -> None:
        """Deliver wave by wave. `between`: is asked before each but the first, and says whether to
        go on.
        """
        came: list[DeliveryResult] = []
        for n, wave in enumerate(waves, 1):
            self._heed_window(wave[:1])
            if not self.begun and not self._stopped:
                self.begun = True
                await self._call("begin", waves=[list(one) for one in waves])
            if self._stopped:
                return
            if came and not await between(n, came):
                self.stop("you chose not to continue")
                return
            await self._call("wave", wave=n, waves=len(waves), devices=list(wave))
            came = []

            async def one(name: str) -> DeliveryResult:
                course = self._course(name)
                outcome = await course.deliver(self._written[name])
                self._courses.append(course)
                return outcome

            def took(outcome: DeliveryResult, came: list[DeliveryResult] = came) -> None:
                came.append(outcome)
                done(outcome)

            await self._at_once(wave, one, took)

    async def last_look(self, done: Callable[[DeliveryResult], None]) -> None:
        """Look again at the devices whose change was on trial, when no trial can be on any more."""
        left = [course for course in self._courses if course.lasts_from]

        async def one(course: Course) -> None:
            done(await course.look_again())

        for n in range(0, len(left), self._limits.at_once):
            await asyncio.gather(*map(one, left[n : n + self._limits.at_once]))

    @property
    def waits(self) -> float:
        """When the last trial is over, by the clock that never goes back; 0 if there was none."""
        return max((course.lasts_from for course in self._courses), default=0.0)

    async def _at_once(
        self,
        items: Sequence[T],
        do: Callable[[T], Awaitable[DeliveryResult]],
        done: Callable[[DeliveryResult], None],
        *,
        may_stop: bool = True,
    ) -> None:
        """Do something with several devices at a time, and begin with no more when too many have
        failed.
        """
        left = list(reversed(items))

        async def worker() -> None:
            while left:
                if may_stop:
                    self._heed_window([str(left[-1])])
                    if self._stopped:
                        return
                outcome = await do(left.pop())
                self._longest = max(self._longest, outcome.seconds)
                self._failures += outcome.state in FAILED
                if outcome.state in FAILED and self._hooks is not None:
                    told = {"device": outcome.device, "state": outcome.state, "why": outcome.why}
                    await self._hooks.call("failure", **told)
                if self._failures >= self._limits.stop_after and outcome.state in FAILED:
                    self.stop(f"{outcome.device} failed")
                done(outcome)

        workers = min(self._limits.at_once, len(items))
        async with asyncio.TaskGroup() as group:
            for _ in range(workers):
                group.create_task(worker())

    async def _call(self, moment: str, **more: object) -> None:
        """Call the user's program of a moment; what says no ends the delivery."""
        if self._hooks is None or self._stopped:
            return
        no = await self._hooks.call(moment, **more)
        if no:
            self.stop(no)

    def _heed_window(self, names: Sequence[str]) -> None:
        """Begin with no more devices where one could not be done before the window is shut."""
        window = self._limits.window
        if window is None or self._stopped:
            return
        left = window.left(datetime.now())
        reaches = [self._targets[name].reach for name in names]
        trials = (max(r.trial, self._asked.trial) + 2 * r.patience for r in reaches)
        needs = max(self._longest, *trials)
        if not left:
            self.stop(f"outside the maintenance window {window}")
        elif left < needs:
            said = f"a device can take {needs:.0f} s"
            self.stop(f"{said}, and the maintenance window {window} closes in {left:.0f} s")

    def _course(self, name: str) -> Course:
        return Course(
            self._targets[name],
            self._journal,
            self._number,
            self._prover,
            self._asked,
            self._hearing,
        )

    def finish(self) -> None:
        """Note that the run is over; a device that was not begun stays as it waits."""
        waiting = [e for e in self._journal.entries(self._number) if e.state == WAITING]
        if not waiting or self._stopped:
            self._journal.end(self._number)


@contextlib.asynccontextmanager
async def beside(ready: asyncio.Event, *tasks: Coroutine[Any, Any, None]) -> AsyncIterator[None]:
    """Have tasks run beside what is done in the context, until that is done. Nothing is begun
    before they are `ready`; what keeps them from that is raised.
    """
    running = [asyncio.create_task(task) for task in tasks]
    try:
        waits = asyncio.create_task(ready.wait())
        await asyncio.wait([waits, *running], return_when=asyncio.FIRST_COMPLETED)
        waits.cancel()
        for task in running:
            if task.done():
                task.result()
        yield
    finally:
        for task in running:
            task.cancel()
        await asyncio.gather(*running, return_exceptions=True)
