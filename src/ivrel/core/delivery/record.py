"""The record of a delivery: the state of each device, and what was done, sent and answered."""

from __future__ import annotations

from collections.abc import Mapping

from msgspec import Struct

from ivrel.core.delivery.course import FAILED, HELD, WAITING
from ivrel.core.delivery.dialog import Exchange


class DeliveryStep(Struct, frozen=True):
    """One step of a delivery to a device: when, what, and what was typed and answered."""

    at: str
    step: str
    said: tuple[Exchange, ...] = ()


class DeviceDelivery(Struct, frozen=True):
    """The state of one device in a delivery.

    `before`, `after`: the verdicts, setting by setting; `computed_again`: how the change differs
    that was computed again; `prints`: the fingerprints of both texts; `seconds`: how long it took.
    """

    device: str
    platform: str
    wave: int
    state: str
    why: str = ""
    seconds: float = 0.0
    change: str = ""
    prints: tuple[str, str] = ("", "")
    before: Mapping[str, str] = {}
    after: Mapping[str, str] = {}
    steps: tuple[DeliveryStep, ...] = ()
    computed_again: tuple[str, ...] = ()


class DeliveryRecord(Struct, frozen=True):
    """A delivery: its time, its author, its folder, and its devices.

    `stopped`: why it ended before all devices were done; `called`: the user's programs that were
    called for the delivery as a whole.
    """

    fleet: str
    number: int
    begun: str
    ended: str
    who: str
    host: str
    folder: str
    devices: tuple[DeviceDelivery, ...]
    stopped: str = ""
    called: tuple[DeliveryStep, ...] = ()

    @property
    def is_unfinished(self) -> bool:
        """Whether a device still waits, is in progress or is in doubt."""
        return any(d.state in (*HELD, WAITING) for d in self.devices)

    @property
    def is_good(self) -> bool:
        """Whether no device failed, and none is left."""
        return not self.is_unfinished and not any(d.state in FAILED for d in self.devices)
