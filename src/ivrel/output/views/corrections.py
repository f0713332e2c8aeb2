"""Corrections: the changes and their reasons, the proof, what remains."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import msgspec

from ivrel.core.correcting import MEANS, Correction
from ivrel.core.delivery import Wave
from ivrel.core.fleet import Device
from ivrel.output.views.view import View

Unread = tuple[tuple[str, str], ...]  # devices that could not be read, and why


class CorrectionsView(View, frozen=True, kw_only=True):
    """The corrections of some devices.

    `folder`: where they have been written, if they have; `in_place`: whether the workspace's own
    files have been changed; `devices`: by name; `by`: what devices are
    counted by; `every`: whether each device is shown, also of a large fleet; `waves`: the steps of
    a delivery; None if they were not asked for.
    """

    fleet: str
    corrections: tuple[Correction, ...]
    unread: Unread
    devices: Mapping[str, Device] = {}
    folder: str = ""
    in_place: bool = False
    by: str = ""
    every: bool = False
    waves: tuple[Wave, ...] | None = None

    @property
    def changed(self) -> list[Correction]:
        """The corrections that change anything."""
        return [c for c in self.corrections if c.changes]

    def machine(self) -> Any:
        return {
            "fleet": self.fleet,
            "devices": [correction_for_machines(c) for c in self.corrections],
            **self.rest(),
        }

    def rest(self) -> dict[str, Any]:
        """Return what machines get behind the devices."""
        out: dict[str, Any] = {
            "not_readable": [{"device": name, "problem": why} for name, why in self.unread]
        }
        if self.waves is not None:
            out["waves"] = [
                {
                    "wave": w.number,
                    "devices": w.devices,
                    "why": w.why,
                    "held": msgspec.to_builtins(w.held),
                }
                for w in self.waves
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
