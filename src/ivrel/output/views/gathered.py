"""What was gathered, device by device."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

from msgspec import Struct

from ivrel.output.views.view import RowsView

# Worst first; `other layout`: every statement is as before, and comments or the layout are not.
STATES = ("not gathered", "kept beside", "new", "changed", "other layout", "as before")


class GatheredDevice(Struct, frozen=True):
    """One device: its state, the file, why it was not gathered, which statements of export settings
    are gone or have come, and what else is to be said of what it printed.
    """

    device: str
    platform: str
    state: str
    file: str = ""
    problem: str = ""
    gone: tuple[str, ...] = ()
    come: tuple[str, ...] = ()
    remark: str = ""


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


class HostKey(Struct, frozen=True):
    """The key that a host shows; `state`: 'learnt', 'known', 'another' or 'none'."""

    device: str
    address: str
    port: int
    kind: str = ""
    fingerprint: str = ""
    state: str = "none"
    problem: str = ""


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
