"""What was heard of devices, held against what the policy asks of them."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from typing import Any

from ivrel.core.evidence.anomalies import Anomaly
from ivrel.core.evidence.claims import CLAIMS, Claim
from ivrel.core.evidence.results import DeviceHeard
from ivrel.core.evidence.summary import ExampleMessage
from ivrel.core.evidence.witnesses import Comparison
from ivrel.output.views.messages import iso
from ivrel.output.views.view import RowsView, fields


class HeardView(RowsView, frozen=True, kw_only=True):
    """What messages prove and contradict, the most contradicted device first.

    `where`, `given`: the words that name the workspace and the messages.
    """

    fleet: str
    total: int
    devices: tuple[DeviceHeard, ...]
    anomalies: tuple[Anomaly, ...]
    every: bool = False
    where: str = ""
    given: str = ""

    @property
    def columns(self) -> tuple[str, ...]:
        return ("device", *CLAIM)

    def rows(self) -> Iterator[Mapping[str, Any]]:
        for one in self.devices:
            for c in one.claims:
                yield {"device": one.device.name, **claim_row(c)}

    def machine(self) -> Any:
        return {
            "fleet": self.fleet,
            "messages": self.total,
            "devices": [_device(one) for one in self.devices],
            "oddities": [
                {**fields(o, "kind about told number:messages"), **_where(o.example)}
                for o in self.anomalies
            ],
            "totals": {claim: sum(d.count(claim) for d in self.devices) for claim in CLAIMS},
        }


def _device(one: DeviceHeard) -> dict[str, Any]:
    """Return what was heard of one device, for machines."""
    return {
        "device": one.device.name,
        "messages": one.summary.number,
        "claims": [{**claim_row(c), "values": _values(c)} for c in one.claims],
        "shown": comparison_rows(one.comparisons),
    }


# The keys of a claim, as `claim_row` has them.
CLAIMED = "setting claim heard wanted rule why"
CLAIM = (*CLAIMED.split(), "first", "last", "file", "line", "time", "message")


def claim_row(c: Claim) -> dict[str, Any]:
    """Return a claim for machines, with the message that decides, and when the first and the last
    message came that show a value.
    """
    times = {"first": iso(c.first), "last": iso(c.last)}
    return {**fields(c, CLAIMED), **times, **_where(c.example)}


def comparison_rows(some: Iterable[Comparison]) -> list[dict[str, Any]]:
    """Return what three witnesses say, thing by thing, for machines."""
    keys = "setting of text:configured device:shown collector:heard state said where lost"
    return [fields(one, keys) for one in some]


def _values(c: Claim) -> list[dict[str, Any]]:
    """Return the values that were heard, for machines."""
    return [
        {**fields(v, "value number:messages"), "first": iso(v.first), "last": iso(v.last)}
        for v in c.values
    ]


def _where(example: ExampleMessage | None) -> dict[str, Any]:
    """Return the message that decides, for machines; its time is '' if it is not known."""
    if example is None:
        return {"file": "", "line": None, "time": "", "message": ""}
    return {
        "file": example.file,
        "line": example.line,
        "time": iso(example.when),
        "message": example.text,
    }
