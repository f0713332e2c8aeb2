"""`ivrel correct`: corrections, back-outs and the change sheet, each proved on the text at hand."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING

from ivrel.cli import common

if TYPE_CHECKING:
    from collections.abc import Sequence
    from datetime import date

    from ivrel.core.correcting import Correction
    from ivrel.core.delivery import Wave
    from ivrel.core.fleet import Device
    from ivrel.output.views.corrections import CorrectionsView
    from ivrel.sources.workspace import Workspace


def arguments(parser: argparse.ArgumentParser) -> None:
    """Add the arguments of the command."""
    common.workspace_argument(parser)
    common.choice_arguments(parser)
    common.setting_argument(parser)
    common.format_argument(parser)
    common.policy_argument(parser)
    common.today_argument(parser)
    common.text_argument(parser)
    parser.add_argument(
        "-o", "--output", metavar="DIR", help="write DIR/DEVICE/change.txt and the like"
    )
    parser.add_argument(
        "--replace", action="store_true", help="write into a folder that already holds something"
    )
    parser.add_argument(
        "--waves",
        action="store_true",
        help="split the devices into steps of a delivery, few that differ first",
    )
    parser.add_argument(
        "--first",
        type=common.whole_number,
        metavar="N",
        help="devices in the first wave (default: 5)",
    )
    parser.add_argument(
        "--apart",
        action=common.Words,
        default=[],
        metavar="GROUP",
        help="never two devices of this group in one wave, besides the fleet's own `apart:`",
    )
    parser.add_argument(
        "--prove",
        metavar="DIR",
        help="judge the changes that lie there (DIR/DEVICE/change.txt; or a file, for one device) "
        "on the configurations of today",
    )
    common.by_argument(parser)
    common.scheduler_arguments(parser)
    common.example(
        parser,
        "ivrel correct tarsk-fw2",
        "ivrel correct --site tarsk -o corrections",
        "ivrel correct --waves --first 3 --apart 'pair-*' -o corrections",
    )
    parser.set_defaults(run=run)


def run(args: argparse.Namespace) -> int:
    """Run the command and return its exit code."""
    if args.prove is not None:
        from ivrel.cli import proving

        return proving.run(args)
    return _correct(args)


def _correct(args: argparse.Namespace) -> int:
    """Write the corrections, or show them."""
    from msgspec.structs import replace

    from ivrel.cli.jobs import Correcting, NotCorrected
    from ivrel.core.vocabulary.errors import InputError
    from ivrel.output.views.corrections import CorrectionsView
    from ivrel.runners import through
    from ivrel.sources.corrections import BESIDE
    from ivrel.sources.files import claim_folder

    by, cluster = common.folding_of(args), common.cluster_of(args)
    workspace = common.open_workspace(args)
    names = common.settings(args.setting)
    devices, policy, today = common.chosen(args, workspace), workspace.policy, common.day(args)
    common.given_text(args, workspace, devices)
    if args.output:
        # Each device gets a folder of its own beside these files.
        clash = next((d.name for d in devices if d.name in BESIDE), None)
        if clash:
            raise InputError(
                f"a device is called '{clash}', as a file of the corrections is; give it another "
                "name"
            )
        # Before the work, which may be long: a folder that cannot be had is told at once.
        claim_folder(Path(args.output), args.replace)
    corrections: list[Correction] = []
    unread: list[tuple[str, str]] = []
    found = through(Correcting(workspace, today, names), devices, cluster, send=args.send)
    for done in common.progress(found, len(devices), "correcting"):
        if isinstance(done, NotCorrected):
            unread.append((done.device, done.problem))
        else:
            corrections.append(done)
    view = CorrectionsView(
        fleet=workspace.fleet.name,
        corrections=tuple(corrections),
        unread=tuple(unread),
        devices={d.name: d for d in devices},
        folder=args.output or "",
        by=by,
        every=args.all,
        waves=_waves(args, workspace, devices, corrections) if args.waves else None,
    )
    if args.output:
        write_folder(Path(args.output), view, policy.name, today)
    common.show(replace(view, next=_further(args, workspace, view)), args)
    # The exit code says whether the fleet will be as asked when all of this is sent.
    remains = any(r.verdict != "waived" for c in corrections for r in c.remains)
    return 1 if unread or remains or not all(c.proved for c in corrections) else 0


def _waves(
    args: argparse.Namespace,
    workspace: Workspace,
    devices: Sequence[Device],
    corrections: Sequence[Correction],
) -> tuple[Wave, ...]:
    """Return the steps of a delivery; what is not proved is in none."""
    from ivrel.core.delivery import FIRST, Candidate, Order, in_waves

    done = {c.device: c for c in corrections}
    candidates = [
        Candidate(d, len(c.changes) if c.proved else 0, c.sends, c.would_send)
        for d in devices
        if (c := done.get(d.name)) is not None
    ]
    sites = (collector.site for collector in workspace.policy.collectors.values())
    order = Order(
        first=args.first or FIRST,
        apart=(*workspace.fleet.apart, *args.apart),
        last=frozenset(site for site in sites if site),
    )
    return in_waves(candidates, order)


def _further(
    args: argparse.Namespace, workspace: Workspace, view: CorrectionsView
) -> tuple[str, ...]:
    """Return the commands to type next: to write the corrections, or to look at what was
    written.
    """
    if not view.changed:
        return ()
    if not view.folder:
        words = common.judging_words(args) + common.chosen_words(args)
        return (f"ivrel correct{words} -o corrections",)
    from ivrel.sources.corrections import CHANGE, SHEETS, UNPROVED

    first = view.changed[0]
    file = workspace.configuration(view.devices[first.device]) or ""
    name = CHANGE if first.proved else f"{UNPROVED}{CHANGE}"
    change = f"{view.folder}/{first.device}/{name}"
    return (
        f"less {view.folder}/{SHEETS[0]}",
        f"ivrel dialect apply {first.platform} {workspace.folder / file} {change}",
    )


def write_folder(folder: Path, view: CorrectionsView, policy: str, today: date) -> None:
    """Write the corrections, each device in a folder of its own.

    What is not proved has another name.
    """
    from ivrel.output.machine import json
    from ivrel.output.machine.sheet import change_sheet
    from ivrel.sources.corrections import BACKOUT, CHANGE, SHEETS, SUMMARY, UNPROVED, is_own
    from ivrel.sources.files import NewFolder, write_text

    with NewFolder(folder, is_own) as new:
        for c in view.changed:
            mark = "" if c.proved else UNPROVED
            for name, text in ((CHANGE, c.change), (BACKOUT, c.backout)):
                write_text(new / c.device / f"{mark}{name}", text)
        write_text(new / SUMMARY, json.text(view.machine()))
        write_text(new / SHEETS[0], change_sheet(view, policy, today))
