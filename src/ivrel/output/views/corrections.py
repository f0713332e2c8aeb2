"""Corrections: the changes and their reasons, the proof, what remains."""

from __future__ import annotations

from typing import Any

import msgspec

from ivrel.core.correcting import MEANS, Correction
from ivrel.core.delivery.corrections import CorrectionSet
from ivrel.output.views.view import View


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
    """Return what machines get behind the devices."""
    out: dict[str, Any] = {
        "not_readable": [{"device": name, "problem": why} for name, why in result.unread]
    }
    if result.waves is not None:
        out["waves"] = [
            {
                "wave": w.number,
                "devices": w.devices,
                "why": w.why,
                "held": msgspec.to_builtins(w.held),
            }
            for w in result.waves
        ]
    return out


def correction_for_machines(c: Correction) -> dict[str, Any]:
    """Return what machines get of one correction."""
    plain = msgspec.to_builtins
    return {
        "device": c.device,
        "platform": c.platform,
        "fingerprint": f"sha256:{c.fingerprint}",
        "statements": f"sha256:{c.statements}" if c.statements else "",
        "proved": c.proved,
        "changes": [plain(change) for change in c.changes],
        "change": c.change,
        "backout": c.backout,
        "proof": [
            {"property": p.name, "means": MEANS[p.name], "holds": p.holds, "why": p.why}
            for p in c.proof
        ],
        "gaps": [plain(gap) for gap in c.gaps],
        "remains": [plain(r) for r in c.remains],
    }
