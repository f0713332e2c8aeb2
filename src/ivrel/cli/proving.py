"""`ivrel correct --prove`: changes that lie in a folder or a file, held against the configurations
of today.
"""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING

from ivrel.cli import common

if TYPE_CHECKING:
    from collections.abc import Mapping

    from ivrel.core.correcting import Judged, Written
    from ivrel.core.fleet import Device
    from ivrel.sources.workspace import Workspace


def run(args: argparse.Namespace) -> int:
    """Judge the changes; return 0 if each holds or is there already."""
    from msgspec.structs import replace

    from ivrel.cli.jobs import NotCorrected, Proving
    from ivrel.output.views.proofs import ProofsView
    from ivrel.runners import through

    workspace = common.open_workspace(args)
    names = common.settings(args.setting)
    devices, changes, unread = _changes(args, workspace)
    common.given_text(args, workspace, devices)
    judged: list[Judged] = []
    job = Proving(workspace, common.day(args), changes, names)
    found = through(job, devices, common.cluster_of(args), send=args.send)
    for done in common.progress(found, len(devices), "proving"):
        if isinstance(done, NotCorrected):
            unread.append((done.device, done.problem))
        else:
            judged.append(done)
    view = ProofsView(
        fleet=workspace.fleet.name,
        folder=args.prove,
        judged=tuple(judged),
        unread=tuple(unread),
    )
    # What does not hold is set beside what would.
    worst = next((j for j in view.ranked() if j.state in ("refused", "fails")), None)
    where = common.judging_words(args)
    further = (f"ivrel correct{where} {worst.device}",) if worst is not None else ()
    common.show(replace(view, next=further), args)
    return 0 if worst is None and not unread else 1


def _changes(
    args: argparse.Namespace, workspace: Workspace
) -> tuple[tuple[Device, ...], Mapping[str, Written], list[tuple[str, str]]]:
    """Return the devices whose changes are judged, the changes, and what is no change of any."""
    from ivrel.core.vocabulary.errors import InputError
    from ivrel.sources.corrections import read_change, read_corrections

    devices = common.chosen(args, workspace)
    path = Path(args.prove)
    if path.is_file():
        if len(devices) != 1:
            raise InputError(
                f"{args.prove} is one change, and {len(devices)} devices are chosen; expected one"
            )
        return devices, {devices[0].name: read_change(path)}, []
    found = read_corrections(path)
    fleet = {d.name for d in workspace.fleet.devices}
    chosen = {d.name for d in devices}
    unread = [(name, "no device of the fleet is called so") for name in found if name not in fleet]
    unread += [(n, said) for n, said in found.items() if n in chosen and isinstance(said, str)]
    changes = {
        name: one for name, one in found.items() if name in chosen and not isinstance(one, str)
    }
    if not changes and not unread:
        raise InputError(f"{args.prove} holds no change of the devices that are chosen")
    return tuple(d for d in devices if d.name in changes), changes, unread
