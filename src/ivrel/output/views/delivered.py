"""A delivery: the state of each device, and what was done, sent and answered."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from typing import Any

from msgspec import Struct

from ivrel.core.delivery.course import STATES
from ivrel.output.views.view import RowsView


class ShownExchange(Struct, frozen=True):
    """What was typed to a device and what it answered, as far as it may be shown."""

    typed: str
    answered: tuple[str, ...]


class Done(Struct, frozen=True):
    """One step: when, what, and what was said at it."""

    at: str
    step: str
    said: tuple[ShownExchange, ...] = ()


class Delivered(Struct, frozen=True):
    """How it stands with one device. `before`, `after`: what the policy finds, setting by setting;
    `again`: how the change that was computed again differs; `prints`: the fingerprints of both
    texts.
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
    steps: tuple[Done, ...] = ()
    anew: tuple[str, ...] = ()


class DeliveryView(RowsView, frozen=True, kw_only=True):
    """A delivery: when, by whom, from which folder, and its devices; `stopped`: why it ended before
    all were done; `called`: the user's programs for the whole of it; `is_record`: it is reported
    for a ticket, step by step.
    """

    fleet: str
    number: int
    begun: str
    ended: str
    who: str
    host: str
    folder: str
    devices: tuple[Delivered, ...]
    stopped: str = ""
    called: tuple[Done, ...] = ()
    is_record: bool = False

    def ranked(self) -> list[Delivered]:
        """Return the devices, the worst first."""
        order = {state: n for n, state in enumerate(STATES)}
        return sorted(self.devices, key=lambda d: (order[d.state], d.wave))

    @property
    def columns(self) -> tuple[str, ...]:
        return ("device", "platform", "wave", "state", "why", "seconds")

    def rows(self) -> Iterator[Mapping[str, Any]]:
        for d in self.devices:
            yield {
                "device": d.device,
                "platform": d.platform,
                "wave": d.wave,
                "state": d.state,
                "why": d.why,
                "seconds": round(d.seconds, 3),
            }

    def machine(self) -> Any:
        return {
            "fleet": self.fleet,
            "delivery": self.number,
            "begun": self.begun,
            "ended": self.ended,
            "who": self.who,
            "host": self.host,
            "folder": self.folder,
            "stopped": self.stopped,
            "called": _steps(self.called),
            "devices": [_device(d) for d in self.devices],
        }


def _device(d: Delivered) -> dict[str, Any]:
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


def _steps(steps: Iterable[Done]) -> list[dict[str, Any]]:
    return [
        {
            "at": s.at,
            "step": s.step,
            "said": [{"typed": x.typed, "answered": list(x.answered)} for x in s.said],
        }
        for s in steps
    ]
