"""The corrections of several devices, and the waves of their delivery."""

from __future__ import annotations

from collections.abc import Mapping

from msgspec import Struct

from ivrel.core.correcting import Correction
from ivrel.core.delivery.waves import Wave
from ivrel.core.fleet import Device


class CorrectionSet(Struct, frozen=True, kw_only=True):
    """The corrections of some devices.

    `unread`: devices whose configuration could not be read, and why; `devices`: by name; `folder`:
    where the corrections were written, or empty; `in_place`: whether the workspace's configurations
    were changed; `left_out`: corrections that were not written, with the reason; `waves`: the steps
    of a delivery, or None if they were not asked for.
    """

    fleet: str
    corrections: tuple[Correction, ...]
    unread: tuple[tuple[str, str], ...]
    devices: Mapping[str, Device] = {}
    folder: str = ""
    in_place: bool = False
    left_out: tuple[tuple[str, str], ...] = ()
    waves: tuple[Wave, ...] | None = None

    @property
    def changed(self) -> list[Correction]:
        """The corrections that change anything."""
        return [c for c in self.corrections if c.changes]

    @property
    def is_complete(self) -> bool:
        """Whether all devices will meet the policy, or are waived, once this is delivered."""
        remaining = [r for c in self.corrections for r in c.remains if r.verdict != "waived"]
        proved = all(c.proved for c in self.corrections)
        return proved and not (self.unread or remaining or self.left_out)
