"""A delivery: the state of each device, and what was done, sent and answered."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

from ivrel.core.delivery.course import STATES
from ivrel.core.delivery.record import DeliveryRecord, DeviceDelivery
from ivrel.output.views.view import RowsView, fields, keys

_ROW = "device platform wave state why"


class DeliveryView(RowsView, frozen=True, kw_only=True):
    """A delivery; `is_record`: it is shown step by step, for a ticket."""

    record: DeliveryRecord
    is_record: bool = False

    def ranked(self) -> list[DeviceDelivery]:
        """Return the devices, the worst first."""
        order = {state: n for n, state in enumerate(STATES)}
        return sorted(self.record.devices, key=lambda d: (order[d.state], d.wave))

    @property
    def columns(self) -> tuple[str, ...]:
        return (*keys(_ROW), "seconds")

    def rows(self) -> Iterator[Mapping[str, Any]]:
        for d in self.record.devices:
            yield {**fields(d, _ROW), "seconds": round(d.seconds, 3)}

    def machine(self) -> Any:
        names = "fleet number:delivery begun ended who host folder stopped called"
        devices = [_device(d) for d in self.record.devices]
        return {**fields(self.record, names), "devices": devices}


def _device(d: DeviceDelivery) -> dict[str, Any]:
    before, proved = d.prints
    return {
        **fields(d, "device platform wave state why change"),
        "fingerprint": f"sha256:{before}" if before else "",
        "proved": f"sha256:{proved}" if proved else "",
        **fields(d, "before after steps"),
    }
