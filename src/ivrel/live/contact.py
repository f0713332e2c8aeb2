"""Contact: the link to one device of a delivery, made again when it was lost, and the steps that
are written down with what was typed and answered at them.
"""

from __future__ import annotations

import asyncio
import time

from ivrel.core.delivery.course import IN_DOUBT
from ivrel.core.delivery.dialog import Exchange
from ivrel.core.delivery.standing import Standing, standing
from ivrel.core.vocabulary.errors import Unreachable
from ivrel.live.journal import Journal
from ivrel.live.links import Link, Target, open_link

PAUSES = (0.2, 5.0)  # seconds between two attempts to reach a device, at first and at most


class Ended(Exception):
    """The course of a delivery is over: the state of the device, and why."""

    def __init__(self, state: str, why: str = "") -> None:
        super().__init__(state)
        self.state = state
        self.why = why


class Contact:
    """The link to one device, and its part of the journal.

    `link`: None while there is none; `last`: the step that was written down last; `now`: what the
    device said last; `texts`: what it said before the change, and what it says with it.
    """

    def __init__(self, target: Target, journal: Journal, number: int) -> None:
        self._target = target
        self._journal = journal
        self._number = number
        self.link: Link | None = None
        self.last = ""
        self.now = b""
        self.texts = (b"", b"")
        self._told = 0  # exchanges of the link that are in the journal already

    async def open(self) -> Link:
        """Return a new link; Unreachable tells why there is none."""
        self.link = await open_link(self._target)
        self._told = 0
        return self.link

    async def again(self, why: str) -> Link:
        """Return a new link to a device that was lost, as soon as it is there again; Ended if it
        is not for longer than a trial. `why`: why it was lost.
        """
        await self.close()
        reach = self._target.reach
        end = time.monotonic() + max(reach.trial, reach.patience)
        pause = PAUSES[0]
        while True:
            try:
                return await self.open()
            except Unreachable as problem:
                if time.monotonic() > end:
                    said = f"{why}; not reachable since: {problem}"
                    raise Ended(IN_DOUBT, said) from None
            await asyncio.sleep(pause)
            pause = min(pause * 2, PAUSES[1])

    async def stands(self, link: Link) -> Standing:
        """Return the state of the device by its current configuration."""
        self.now = await link.fetch()
        return await asyncio.to_thread(standing, self._target.dialect, self.now, *self.texts)

    def note(self, step: str) -> None:
        """Write a step down, with what was typed and answered since the last."""
        self.last = step
        self._journal.note(self._number, self._target.device.name, step, self._exchanges())

    async def close(self) -> None:
        """End the link; what was typed and answered last is written down."""
        said = self._exchanges()
        link = self.link
        self.link = None
        if link is not None:
            await link.close()
        if said and self.last:
            self._journal.note(self._number, self._target.device.name, self.last, said)

    def _exchanges(self) -> tuple[Exchange, ...]:
        """Return the lines typed and answered since the last call."""
        if self.link is None:
            return ()
        said = tuple(self.link.exchanges[self._told :])
        self._told = len(self.link.exchanges)
        return said
