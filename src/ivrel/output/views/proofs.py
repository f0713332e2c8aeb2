"""Changes that somebody wrote, held against the configurations of today."""

from __future__ import annotations

from typing import Any

import msgspec

from ivrel.core.correcting import MEANS, STATES, Judged
from ivrel.output.views.view import View

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
        """Return what was judged, the worst first."""
        return sorted(self.judged, key=lambda j: STATES.index(j.state))

    def machine(self) -> Any:
        return {
            "fleet": self.fleet,
            "devices": [_judged(j) for j in self.judged],
            "not_readable": [{"device": name, "problem": why} for name, why in self.unread],
        }


def _judged(j: Judged) -> dict[str, Any]:
    plain = msgspec.to_builtins
    return {
        "device": j.device,
        "platform": j.platform,
        "state": j.state,
        "problem": j.problem,
        "fingerprint": f"sha256:{j.fingerprint}",
        "stale": j.stale,
        "edited": j.edited,
        "lines": j.lines,
        "foreign": list(j.foreign),
        "proof": [
            {"property": p.name, "means": MEANS[p.name], "holds": p.holds, "why": p.why}
            for p in j.proof
        ],
        "gaps": [plain(gap) for gap in j.gaps],
        "remains": [plain(r) for r in j.remains],
    }
