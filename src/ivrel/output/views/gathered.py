"""What was gathered, device by device."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

import msgspec

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
        return GatheredDevice.__struct_fields__

    def rows(self) -> Iterator[Mapping[str, Any]]:
        return map(msgspec.to_builtins, self.devices)


class HostKeysView(RowsView, frozen=True, kw_only=True):
    """The keys of hosts; `file`: where they were recorded; `every`: each is shown."""

    keys: tuple[HostKey, ...]
    file: str
    every: bool = False

    @property
    def columns(self) -> tuple[str, ...]:
        return HostKey.__struct_fields__

    def rows(self) -> Iterator[Mapping[str, Any]]:
        return map(msgspec.to_builtins, self.keys)
