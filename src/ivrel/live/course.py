"""The delivery to one device: reached, proved, sent, read back, heard, kept; or taken back.

What comes next is decided by `core.delivery.course`, from what the journal says and from what the
device says. So a lost connection, and a program that was killed, are the same case.
"""

from __future__ import annotations

import asyncio
import time
from collections.abc import Awaitable, Callable
from typing import NoReturn

from msgspec import Struct

from ivrel.core.correcting import Written
from ivrel.core.delivery import course as step
from ivrel.core.delivery.standing import BEFORE, PROVED, Standing, way_back
from ivrel.core.vocabulary.errors import InputError, IvrelError, NotServed, Refused, Unreachable
from ivrel.core.vocabulary.wording import own_error
from ivrel.live.contact import Contact, Ended
from ivrel.live.hearing import Hearing
from ivrel.live.hooks import objection
from ivrel.live.journal import DeviceEntry, Journal, Verdicts
from ivrel.live.links import Link, OutgoingChange, Target
from ivrel.live.proving import Prover, Ready
from ivrel.live.rehearsing import rehearsed

ATTEMPTS = 4  # times that it is tried to take a change back
MARGIN = 2  # seconds behind the end of a trial, before it is believed to be over


class DeliveryOptions(Struct, frozen=True):
    """Options of a delivery to one device.

    `trial`: seconds after which an unconfirmed change is reverted; `within`: seconds to wait for a
    message; `dry`: stop before the change; `rehearse`: let the device try it; `last_look`: check
    devices again after their trial has expired.
    """

    trial: int = 0
    within: float = 30.0
    dry: bool = False
    rehearse: bool = False
    last_look: bool = True


class DeliveryResult(Struct, frozen=True):
    """How a delivery to one device ended: a state of `core.delivery.course`, and the reason.

    `again`: how a newly computed change differs from the given one; `seconds`: duration.
    """

    device: str
    state: str
    why: str = ""
    computed_again: tuple[str, ...] = ()
    seconds: float = 0.0


class Course:
    """The delivery to one device, by one run."""

    def __init__(
        self,
        target: Target,
        journal: Journal,
        number: int,
        prover: Prover,
        asked: DeliveryOptions,
        hearing: Hearing | None = None,
    ) -> None:
        self._target = target
        self._journal = journal
        self._number = number
        self._prover = prover
        self._asked = asked
        self._hearing = hearing
        self._name = target.device.name
        self._contact = Contact(target, journal, number)
        self._sent_at = 0.0  # when a trial may have begun, by the clock that never goes back
        self._why = ""  # why the change is taken back
        self._hangs = ""  # the restart that does not end
        self._took = 0.0  # seconds
        self.lasts_from = 0.0  # when no trial can be on any more; 0 where there was none
        self._computed_again: tuple[str, ...] = ()

    async def deliver(self, written: Written) -> DeliveryResult:
        """Bring a change to the device."""
        return await self._guarded(lambda: self._begun(written))

    async def resume(self, entry: DeviceEntry, written: Written | None) -> DeliveryResult:
        """Go on where an earlier run was cut off."""
        steps = self._journal.steps(self._number, self._name)
        self._contact.last = steps[-1].step if steps else ""

        async def go_on() -> None:
            if step.next_move(self._contact.last, PROVED) == step.BEGIN:
                if written is None:
                    raise Ended(
                        step.REFUSED, "nothing was sent, and its correction no longer exists"
                    )
                await self._begun(written)
            self._recall(entry)
            # A trial that the run before began is over after its time, seen from now.
            self._sent_at = time.monotonic()
            await self._settled("the delivery was interrupted")

        return await self._guarded(go_on)

    async def _guarded(self, run: Callable[[], Awaitable[None]]) -> DeliveryResult:
        """Run a delivery to its end. Whatever goes wrong, its state is written to the journal."""
        begun = time.monotonic()
        try:
            await run()
            state = step.IN_DOUBT
            why = "the course has no end"
        except Ended as end:
            state = end.state
            why = end.why
        except IvrelError as problem:
            state = self._unclear()
            why = str(problem)
        except Exception as problem:  # one device never stops the others
            state = self._unclear()
            why = own_error(problem)
        finally:
            await self._contact.close()
        self._took = time.monotonic() - begun
        return self._outcome(state, why)

    def _outcome(self, state: str, why: str) -> DeliveryResult:
        """Write down how it ended, and return it."""
        became: Verdicts = ()
        if state in (step.DELIVERED, step.AS_BEFORE, step.TO_LAST):
            device = self._target.device
            dialect = self._target.dialect
            became = self._prover.verdicts(device, dialect, self._contact.now)
        try:
            self._journal.settle(self._number, self._name, state, why, became)
        except InputError as problem:  # the device is told of all the same
            state, why = step.IN_DOUBT, f"{state}, and not in the journal: {problem}"
        return DeliveryResult(self._name, state, why, self._computed_again, self._took)

    def _unclear(self) -> str:
        """Return the state of a device about which nothing more can be found out now."""
        return step.REFUSED if self._contact.last in ("", step.REACHED) else step.IN_DOUBT

    async def _begun(self, written: Written) -> None:
        """Reach the device and prove the change on what it says; send it."""
        target = self._target
        try:
            link = await self._contact.open()
            now = self._contact.now = await link.fetch()
        except Unreachable as problem:
            raise Ended(step.REFUSED, str(problem)) from None
        device = target.device
        dialect = target.dialect
        ready = await asyncio.to_thread(self._prover.ready, device, dialect, now, written)
        self._computed_again = ready.computed_again
        if ready.problem:
            raise Ended(step.REFUSED, ready.problem)
        if ready.is_there:
            raise Ended(step.THERE)
        if self._asked.dry:
            raise Ended(*await rehearsed(link, ready) if self._asked.rehearse else (step.WOULD,))
        refused = self._journal.hold(self._number, self._name)
        if refused:
            raise Ended(step.REFUSED, refused)
        texts = self._contact.texts = (ready.before, ready.proved)
        self._journal.prepared(self._number, self._name, ready.change, texts, ready.verdicts)
        self._contact.note(step.REACHED)
        await self._send(link, ready)

    async def _send(self, link: Link, ready: Ready) -> None:
        sent = OutgoingChange(ready.change, ready.before, ready.proved, self._trial)
        if self._hearing is not None:
            self._hearing.begin(self._name)
        words = self._target.reach.before
        if words and (no := await objection(link, words, "before", ready.change)):
            raise Ended(step.REFUSED, no)
        self._contact.note(step.SENDING)
        self._sent_at = time.monotonic()
        try:
            await link.send(sent)
            self._contact.note(step.SENT)
            await self._go_on(link)
        except Refused as problem:
            at = f"line {problem.line}: " if problem.line else ""
            if link.untouched:
                raise Ended(step.REFUSED, f"{at}{problem}") from None
            if isinstance(problem, NotServed) and problem.hangs:
                self._hangs = str(problem)
            await self._back(f"{at}{problem}")
        except Unreachable as problem:
            await self._settled(str(problem))
        except (Ended, IvrelError):
            raise
        except Exception as problem:  # whatever it is: the device must not be left alone with it
            await self._settled(own_error(problem))

    async def _go_on(self, link: Link) -> None:
        """Verify, wait for a message, confirm and save, on a device that has the change."""
        found = await self._contact.stands(link)
        if found.where != PROVED:
            await self._back(f"it is not as proved: {found.why}")
        self._contact.note(step.READ)
        try:
            await link.look()
        except NotServed as problem:
            await self._back(f"the service does not run with the change: {problem}")
        if self._hearing is not None:
            against = await self._hearing.heard(self._name, link.effective_at, self._asked.within)
            if against:
                await self._back(against)
            self._contact.note(step.HEARD)
        words = self._target.reach.after
        change = self._journal.entry(self._number, self._name).change
        if words and (no := await objection(link, words, "after", change)):
            await self._back(no)
        self._contact.note(step.KEEPING)
        try:
            await link.keep()
        except Refused as problem:
            await self._outlast(link, f"it refuses to confirm the change: {problem}")
        await link.save()
        found = await self._contact.stands(link)
        if found.where != PROVED:
            await self._back(f"it is no longer as proved: {found.why}")
        self._contact.note(step.KEPT)
        self._kept(link)

    def _kept(self, link: Link) -> NoReturn:
        """End with a device that keeps the change, as far as it says so."""
        if link.has_trial and self._asked.last_look:
            self.lasts_from = self._sent_at + self._trial + MARGIN
            raise Ended(step.TO_LAST)
        raise Ended(step.DELIVERED)

    @property
    def _trial(self) -> int:
        return max(self._target.reach.trial, self._asked.trial)

    def recall(self, entry: DeviceEntry) -> None:
        """Take over a device whose change is confirmed and that needs a last check."""
        self._recall(entry)
        self.lasts_from = time.monotonic() + self._trial + MARGIN

    def _recall(self, entry: DeviceEntry) -> None:
        journal = self._journal
        self._contact.texts = journal.text(entry.before), journal.text(entry.proved)

    async def look_again(self) -> DeliveryResult:
        """Read the device after its trial has expired: it may have claimed to confirm the change
        without doing so.
        """
        await asyncio.sleep(max(0.0, self.lasts_from - time.monotonic()))
        state = step.DELIVERED
        why = ""
        try:
            link = await self._contact.again("a last check was due")
            found = await self._contact.stands(link)
            if found.where == PROVED:
                self._contact.note(step.LASTS)
            else:
                state = step.AS_BEFORE if found.where == BEFORE else step.IN_DOUBT
                why = f"it confirmed the change but did not keep it: {found.why}"
            if found.where == BEFORE:
                await link.save()  # what was saved is what it does not keep
        except Ended as end:
            state = end.state
            why = end.why
        except IvrelError as problem:
            state = step.IN_DOUBT
            why = str(problem)
        finally:
            await self._contact.close()
        return self._outcome(state, why)

    async def _outlast(self, link: Link, why: str) -> None:
        """Wait until no trial can be on any more: what the device then says, lasts."""
        found = await self._stands_at_last(link)
        if found.where != PROVED:
            await self._back(why)

    async def _stands_at_last(self, link: Link) -> Standing:
        """Return the device's standing after its trial has expired."""
        await asyncio.sleep(max(0.0, self._sent_at + self._trial + MARGIN - time.monotonic()))
        return await self._contact.stands(link)

    async def _settled(self, why: str) -> None:
        """Find out the device's standing after a lost session, and continue from there."""
        for _ in range(ATTEMPTS):
            try:
                link = await self._contact.again(why)
                found = await self._contact.stands(link)
                move = step.next_move(self._contact.last, found.where)
                if move == step.IS_DELIVERED:
                    self._kept(link)
                if move == step.IS_BEFORE:
                    self._why = self._why or why
                    await self._renewed(link)
                    if self._contact.last in (step.KEEPING, step.KEPT):
                        await link.save()  # what was saved may be the change
                    raise Ended(step.AS_BEFORE, self._why)
                if move == step.GO_ON:
                    await link.renew()
                    await self._go_on(link)
                await self._back(self._why or why)
            except Unreachable as problem:
                why = str(problem)
            except Refused as problem:
                why = f"it does not go on: {problem}"
                await self._back(why)
        raise Ended(step.IN_DOUBT, why)

    async def _back(self, why: str) -> None:
        """Take the change back, by the device itself or by what leads back, and verify it."""
        self._why = why
        last = why
        for _ in range(ATTEMPTS):
            try:
                link = self._contact.link or await self._contact.again(why)
                self._contact.note(step.TAKING_BACK)
                await self._taken_back(link)
            except Unreachable as problem:
                last = str(problem)
                await self._contact.close()
            except Refused as problem:
                last = f"it refuses the back-out: {problem}"
        raise Ended(step.IN_DOUBT, f"{why}; {last}" if last != why else why)

    async def _renewed(self, link: Link) -> None:
        """Have a device that reads as before do as it did; Ended if its service does not."""
        try:
            if self._hangs:
                raise NotServed(self._hangs)
            await link.renew()
            await link.look()
        except NotServed as problem:
            said = f"{self._why}; the files are as before, but the service may not run: {problem}"
            raise Ended(step.IN_DOUBT, said) from None

    async def _taken_back(self, link: Link) -> None:
        await link.drop()
        found = await self._contact.stands(link)
        if found.where == PROVED and link.has_trial:
            # A session that was lost may hold the trial yet, and would end it later.
            found = await self._stands_at_last(link)
        if step.next_move(step.TAKING_BACK, found.where) == step.IS_BEFORE:
            await self._renewed(link)
        else:
            (before, proved), now = self._contact.texts, self._contact.now
            change = ""
            target = before
            # Files that hold what was delivered and nothing else are put back as they were.
            if link.BY_TEXT or now != proved:
                way = await asyncio.to_thread(way_back, self._target.dialect, now, before)
                if way.problem:
                    raise Ended(step.IN_DOUBT, f"{self._why}; cannot revert: {way.problem}")
                change = way.change
                target = way.target
            await link.send(OutgoingChange(change, now, target, back=True, renews=False))
            found = await self._contact.stands(link)
            if step.next_move(step.TAKING_BACK, found.where) != step.IS_BEFORE:
                raise Refused(f"it is not as before: {found.why}")
            await self._renewed(link)
        await link.save()
        self._contact.note(step.TAKEN_BACK)
        raise Ended(step.AS_BEFORE, self._why)
