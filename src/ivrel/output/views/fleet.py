"""The fleet: its devices, and whether each one's configuration is found."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from ivrel.core.fleet import Device
from ivrel.core.reach import Reach
from ivrel.output.views.view import View, fields

Row = tuple[Device, str | None]  # a device, and the file of its configuration if there is one


class FleetView(View, frozen=True, kw_only=True):
    """The devices of a fleet; `by`: what they are counted by, '' shows each; `ways`: how each is
    reached, by its name, where the fleet says so.
    """

    fleet: str
    rows: tuple[Row, ...]
    by: str = ""
    ways: Mapping[str, Reach] = {}

    def machine(self) -> Any:
        return {
            "fleet": self.fleet,
            "devices": [
                {
                    **fields(d, "name:device kind site platform groups identity rivals"),
                    "configuration": file,
                    "reached": _way(self.ways.get(d.name)),
                }
                for d, file in self.rows
            ],
        }


def _way(reach: Reach | None) -> dict[str, Any] | None:
    if reach is None:
        return None
    said: dict[str, Any] = {"via": reach.via, "address": reach.address}
    through = {"through": list(reach.through)} if reach.through else {}
    return said | ({"port": reach.port} if reach.port else {}) | through
