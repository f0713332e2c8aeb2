"""What another policy would change for a fleet."""

from __future__ import annotations

from typing import Any

from ivrel.core.correcting import Otherwise, WhatIf
from ivrel.output.views.view import View, fields

# What is said of a setting: asked now and then, or the verdict now and then.
Turn = tuple[str, str, str]


class WhatIfView(View, frozen=True, kw_only=True):
    """What another policy would change: `files`, today's and the other; `outcomes` in the order of
    the fleet; `every`: whether each device is shown, also of a large fleet.
    """

    fleet: str
    files: tuple[str, str]
    outcomes: tuple[WhatIf, ...]
    every: bool = False

    def asked(self) -> list[tuple[str, Turn]]:
        """Return the devices with other requirements, and these."""
        return [
            (device, (s.setting, s.asked, s.would_ask))
            for device, s in self._settings()
            if s.asked != s.would_ask
        ]

    def judged(self) -> list[tuple[str, Turn]]:
        """Return the devices that would be judged otherwise, with the verdicts."""
        return [
            (device, (s.setting, s.verdict, s.would_be))
            for device, s in self._settings()
            if s.is_judged_otherwise
        ]

    def _settings(self) -> list[tuple[str, Otherwise]]:
        return [(one.device, s) for one in self.outcomes for s in one.settings]

    def machine(self) -> Any:
        return {
            "fleet": self.fleet,
            "policies": list(self.files),
            "devices": [
                fields(one, "device platform settings lines dropped added")
                for one in self.outcomes
                if one.differs
            ],
            "not_readable": [fields(one, "device problem") for one in self.outcomes if one.problem],
        }
