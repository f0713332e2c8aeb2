"""The fleet: its devices, and whether each one's configuration is found."""

from __future__ import annotations

from typing import Any

from ivrel.core.fleet import Device
from ivrel.output.views.view import View

Row = tuple[Device, str | None]  # a device, and the file of its configuration if there is one


class FleetView(View, frozen=True, kw_only=True):
    """The devices of a fleet; `by`: what they are counted by, '' shows each."""

    fleet: str
    rows: tuple[Row, ...]
    by: str = ""

    def machine(self) -> Any:
        return {
            "fleet": self.fleet,
            "devices": [
                {
                    "device": d.name,
                    "kind": d.kind,
                    "site": d.site,
                    "platform": d.platform,
                    "groups": d.groups,
                    "identity": d.identity,
                    "rivals": d.rivals,
                    "configuration": file,
                }
                for d, file in self.rows
            ],
        }
