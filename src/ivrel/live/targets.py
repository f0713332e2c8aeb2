"""Targets: the devices of a workspace, each with how it is reached."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path

from msgspec.structs import replace

from ivrel.core.fleet import Device
from ivrel.core.reach import reach_of
from ivrel.live.access import Access
from ivrel.live.links import Target
from ivrel.sources.workspace import WorkspaceFiles

OWN = ".ivrel"


def own_folder(workspace: WorkspaceFiles) -> Path:
    """Return where what Ivrel keeps for itself lies."""
    return workspace.folder / OWN


def hosts_between(targets: Iterable[Target]) -> list[Target]:
    """Return the hosts that devices are reached through, as devices of their own, those that are
    reached through others behind these.
    """
    out: dict[tuple[str, int], Target] = {}
    for target in targets:
        for n, reach in enumerate(target.between):
            host = replace(target.device, name=target.reach.through[n])
            one = replace(target, device=host, reach=reach, between=target.between[:n])
            out.setdefault((reach.address, reach.port), one)
    return sorted(out.values(), key=lambda one: len(one.between))


def targets_of(workspace: WorkspaceFiles, devices: Iterable[Device]) -> list[Target]:
    """Return devices with how they are reached.

    Passwords are asked for now, and private keys read: InputError tells what is not to be had.
    """
    access = Access(own_folder(workspace))
    out = []
    for device in devices:
        reach = reach_of(workspace.fleet.ways.rules, device)
        between = workspace.fleet.ways.between(reach)
        dialect = workspace.dialects.of(device)
        out.append(
            Target(device=device, dialect=dialect, reach=reach, access=access, between=between)
        )
    every = [one for t in out for one in (t.reach, *t.between) if one.via]
    ways = {(one.user, one.password, one.second_password, one.key): one for one in every}
    for one in ways.values():
        access.key(one)
        access.password(one)
        access.second_password(one)
    return out
