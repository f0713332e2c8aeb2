"""A delivery: the state of each device, and what was done, sent and answered."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from typing import Any

from ivrel.core.delivery.course import STATES
from ivrel.core.delivery.record import DeliveryRecord, DeliveryStep, DeviceDelivery
from ivrel.output.views.view import RowsView


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
        return ("device", "platform", "wave", "state", "why", "seconds")

    def rows(self) -> Iterator[Mapping[str, Any]]:
        for d in self.record.devices:
            yield {
                "device": d.device,
                "platform": d.platform,
                "wave": d.wave,
                "state": d.state,
                "why": d.why,
                "seconds": round(d.seconds, 3),
            }

    def machine(self) -> Any:
        r = self.record
        return {
            "fleet": r.fleet,
            "delivery": r.number,
            "begun": r.begun,
            "ended": r.ended,
            "who": r.who,
            "host": r.host,
            "folder": r.folder,
            "stopped": r.stopped,
            "called": _steps(r.called),
            "devices": [_device(d) for d in r.devices],
        }


def _device(d: DeviceDelivery) -> dict[str, Any]:
    return {
        "device": d.device,
        "platform": d.platform,
        "wave": d.wave,
        "state": d.state,
        "why": d.why,
        "change": d.change,
        "fingerprint": f"sha256:{d.prints[0]}" if d.prints[0] else "",
        "proved": f"sha256:{d.prints[1]}" if d.prints[1] else "",
        "before": dict(d.before),
        "after": dict(d.after),
        "steps": _steps(d.steps),
    }


def _steps(steps: Iterable[DeliveryStep]) -> list[dict[str, Any]]:
    return [
        {
            "at": s.at,
            "step": s.step,
            "said": [{"typed": x.typed, "answered": list(x.answered)} for x in s.said],
        }
        for s in steps
    ]
