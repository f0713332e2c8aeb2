"""What every link to a device offers."""

from __future__ import annotations

from typing import ClassVar

from msgspec import Struct

from ivrel.core.delivery.dialog import Exchange, Hider
from ivrel.core.dialects.dialect import Dialect
from ivrel.core.fleet import Device
from ivrel.core.reach import Reach
from ivrel.live.access import Access


class Route(Struct, frozen=True, kw_only=True):
    """How a device is reached, and what lets one in; `between`: the hosts that it is reached
    through, the first one first.
    """

    device: Device
    reach: Reach
    access: Access
    between: tuple[Reach, ...] = ()

    @property
    def where(self) -> str:
        """Address and port, for people."""
        return f"{self.reach.address} port {self.reach.port}"


class Target(Route, frozen=True, kw_only=True):
    """A device that is to be reached, and its platform's dialect."""

    dialect: Dialect


class OutgoingChange(Struct, frozen=True):
    """A change on its way: its text, the configuration it is made for, and the one that comes of
    it. `seconds`: how long it holds unless it is confirmed, where the platform can; 0 is for good.
    `back`: it takes back what was sent before; `renews`: what is sent has to take effect at once.
    """

    change: str
    before: bytes
    target: bytes
    seconds: int = 0
    back: bool = False
    renews: bool = True


class Rehearsal(Struct, frozen=True):
    """What a device that tried a change said of it: how it was tried, and the text that it would
    say then, where it tells.
    """

    how: str
    text: bytes = b""


class DisplayedState(Struct, frozen=True):
    """What a device showed of its present state; `age`: seconds since it counted."""

    data: bytes
    age: float = 0.0


class Link:
    """A way to one device, open until it is closed.

    What the device does not take raises Refused, and Unreachable tells that it does not answer.
    `exchanges`: what was typed and answered so far; `untouched`: whether it is certain that nothing
    was changed by this link; `has_trial`: whether the platform takes a
    change back by itself unless `keep` confirms it; `effective_at`: when what was sent last took
    effect at the earliest, by the clock that never goes back; `remarks`: what there is to say of
    what it printed, although it was taken.
    """

    BY_TEXT: ClassVar[bool] = True  # a change is sent as text, and not as the outcome

    def __init__(self, target: Target) -> None:
        self.target = target
        self.exchanges: list[Exchange] = []
        self.remarks: list[str] = []
        self.untouched = True
        self.has_trial = False
        self.effective_at = 0.0
        self.hider = Hider(target.dialect, "", target.access.secrets)

    async def open(self) -> None:
        """Log in."""
        raise NotImplementedError

    async def fetch(self) -> bytes:
        """Return the configuration that is in effect."""
        raise NotImplementedError

    async def display(self) -> DisplayedState | None:
        """Return what the device shows of its present state; None if nobody said how to ask it."""
        return None

    async def send(self, sent: OutgoingChange) -> None:
        """Have a change take effect, on trial if the platform can and the change may be."""
        raise NotImplementedError

    async def rehearse(self, sent: OutgoingChange) -> Rehearsal | None:
        """Have the device try a change and drop it; None if it cannot, and nothing was sent.

        Refused if it does not take it.
        """
        return None

    async def keep(self) -> None:
        """Confirm what is on trial; Refused if that cannot be done, or nothing is."""

    async def save(self) -> None:
        """Make what is in effect outlast a restart."""

    async def drop(self) -> bool:
        """Give up what was begun, and take back what is on trial; False if the platform cannot."""
        return False

    async def look(self) -> None:
        """Make sure that what runs on the device still runs; NotServed if it does not."""

    async def renew(self) -> None:
        """Make sure that what the configuration says is in effect, after a session was lost."""

    async def close(self) -> None:
        """End the session; never raises."""
