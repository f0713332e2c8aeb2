"""Changes that somebody wrote, held against the configurations of today."""

from __future__ import annotations

from typing import Any

from ivrel.core.correcting import STATES, Judged
from ivrel.output.views.corrections import proof_for_machines
from ivrel.output.views.view import View, fields

Unread = tuple[tuple[str, str], ...]  # devices whose change or configuration is none, and why


class ProofsView(View, frozen=True, kw_only=True):
    """What is to be said of each change. `folder`: where they lie; `unread`: what could not be
    judged.
    """

    fleet: str
    folder: str
    judged: tuple[Judged, ...]
    unread: Unread = ()

    def ranked(self) -> list[Judged]:
        """Return the judgements, the worst first."""
        return sorted(self.judged, key=lambda j: STATES.index(j.state))

    def machine(self) -> Any:
        return {
            "fleet": self.fleet,
            "devices": [_judged(j) for j in self.judged],
            "not_readable": [{"device": name, "problem": why} for name, why in self.unread],
        }


def _judged(j: Judged) -> dict[str, Any]:
    return {
        **fields(j, "device platform state problem"),
        "fingerprint": f"sha256:{j.fingerprint}",
        **fields(j, "stale edited lines foreign"),
        "proof": proof_for_machines(j.proof),
        **fields(j, "gaps no_longer_sent remains"),
    }
