"""What was gathered, device by device."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

from ivrel.core.delivery.gathering import GatheredDevice, HostKey
from ivrel.output.views.view import RowsView


class GatheredView(RowsView, frozen=True, kw_only=True):
    """What was gathered; `tells_how`: what changed is shown, too; `every`: so is what did not."""

    fleet: str
    devices: tuple[GatheredDevice, ...]
    tells_how: bool = False
    seconds: float = 0.0
    every: bool = False

    @property
    def columns(self) -> tuple[str, ...]:
        return ("device", "platform", "state", "file", "problem", "gone", "come", "remark")

    def rows(self) -> Iterator[Mapping[str, Any]]:
        for d in self.devices:
            yield {
                "device": d.device,
                "platform": d.platform,
                "state": d.state,
                "file": d.file,
                "problem": d.problem,
                "gone": list(d.gone),
                "come": list(d.come),
                "remark": d.remark,
            }


class HostKeysView(RowsView, frozen=True, kw_only=True):
    """The keys of hosts; `file`: where they were recorded; `every`: each is shown."""

    keys: tuple[HostKey, ...]
    file: str
    every: bool = False

    @property
    def columns(self) -> tuple[str, ...]:
        return HostKey.__struct_fields__

    def rows(self) -> Iterator[Mapping[str, Any]]:
        for k in self.keys:
            yield {name: getattr(k, name) for name in HostKey.__struct_fields__}
