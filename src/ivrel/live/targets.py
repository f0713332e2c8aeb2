"""Targets: the devices of a workspace, each with how it is reached."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path

from ivrel.core.fleet import Device
from ivrel.core.reach import reach_of
from ivrel.live.access import Access
from ivrel.live.links import Target
from ivrel.sources.workspace import Workspace

OWN = ".ivrel"


def own_folder(workspace: Workspace) -> Path:
    """Return where what Ivrel keeps for itself lies."""
    return workspace.folder / OWN


def targets_of(workspace: Workspace, devices: Iterable[Device]) -> list[Target]:
    """Return devices with how they are reached.

    Passwords are asked for now, and private keys read: InputError tells what is not to be had.
    """
    access = Access(own_folder(workspace))
    out = []
    for device in devices:
        reach = reach_of(workspace.fleet.reach, device)
        out.append(Target(device, workspace.dialects[device.platform], reach, access))
    ways = {(t.reach.user, t.reach.password, t.reach.key): t.reach for t in out if t.reach.via}
    for reach in ways.values():
        access.password(reach)
        access.key(reach)
    return out
