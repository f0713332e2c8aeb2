"""Corrections: the changes and their reasons, the proof, what remains."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from ivrel.core.correcting import MEANS, Correction, Property
from ivrel.core.delivery.corrections import CorrectionSet
from ivrel.output.views.view import View, fields


class CorrectionsView(View, frozen=True, kw_only=True):
    """The corrections of some devices.

    `by`: what devices are counted by; `every`: whether each device is shown, also of a large fleet.
    """

    result: CorrectionSet
    by: str = ""
    every: bool = False

    def machine(self) -> Any:
        return {
            "fleet": self.result.fleet,
            "devices": [correction_for_machines(c) for c in self.result.corrections],
            **rest_for_machines(self.result),
        }


def rest_for_machines(result: CorrectionSet) -> dict[str, Any]:
    """Return the machine form of everything but the corrections."""
    out: dict[str, Any] = {
        "not_readable": [{"device": name, "problem": why} for name, why in result.unread]
    }
    if result.waves is not None:
        out["waves"] = [fields(wave, "number:wave devices why held") for wave in result.waves]
    return out


def correction_for_machines(c: Correction) -> dict[str, Any]:
    """Return the machine form of one correction."""
    return {
        **fields(c, "device platform"),
        "fingerprint": f"sha256:{c.fingerprint}",
        "statements": f"sha256:{c.statements}" if c.statements else "",
        **fields(c, "proved changes change backout"),
        "proof": proof_for_machines(c.proof),
        **fields(c, "gaps no_longer_sent remains"),
    }


def proof_for_machines(proof: Iterable[Property]) -> list[dict[str, Any]]:
    """Return the machine form of a proof."""
    return [
        {
            "property": p.name,
            "means": MEANS[p.name],
            "holds": p.holds,
            "why": p.why,
            **({"by": p.by} if p.by else {}),
        }
        for p in proof
    ]
