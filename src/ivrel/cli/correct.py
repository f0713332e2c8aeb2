"""`ivrel correct`: corrections, back-outs and the change sheet, each proved on the text at hand."""

from __future__ import annotations

import argparse
import sys
from typing import TYPE_CHECKING

from ivrel.cli import common
from ivrel.cli.parsing import Parser

if TYPE_CHECKING:
    from collections.abc import Sequence

    from ivrel.core.correcting import Correction
    from ivrel.core.delivery import Order, Wave
    from ivrel.core.fleet import Device
    from ivrel.output.views.corrections import CorrectionsView
    from ivrel.sources.workspace import Workspace


def arguments(parser: Parser) -> None:
    """Add the arguments of the command."""
    common.workspace_argument(parser)
    common.choice_arguments(parser)
    common.setting_argument(parser)
    common.format_argument(parser)
    common.policy_argument(parser)
    common.today_argument(parser)
    common.text_argument(parser)
    _outlet_arguments(parser)
    parser.add_argument(
        "--replace", action="store_true", help="write into the folder even if it is not empty"
    )
    _wave_arguments(parser)
    common.by_argument(parser)
    common.scheduler_arguments(parser)
    common.example(
        parser,
        "ivrel correct tarsk-fw2",
        "ivrel correct --site tarsk -o corrections",
        "ivrel correct --waves --first 3 --apart 'pair-*' -o corrections",
    )
    parser.set_defaults(run=run)


def _outlet_arguments(parser: Parser) -> None:
    """Add the options that say where corrections go, or what is done with others."""
    does = parser.add_mutually_exclusive_group()
    does.add_argument(
        "-o",
        "--output",
        metavar="DIR",
        help="write the corrections to this folder: DIR/DEVICE/change.txt, "
        "backout.txt, a change sheet",
    )
    does.add_argument(
        "--as",
        dest="form",
        choices=("patch",),
        help="patch: one patch over the configurations, for `git apply`",
    )
    does.add_argument(
        "--in-place",
        action="store_true",
        help="apply proved corrections to the configuration files of the "
        "workspace; --undo reverts this",
    )
    does.add_argument("--undo", action="store_true", help="revert the last --in-place")
    does.add_argument(
        "--prove",
        metavar="DIR",
        help="prove existing changes (DIR/DEVICE/change.txt, or one file for one "
        "device) against today's configurations",
    )


def _wave_arguments(parser: Parser) -> None:
    """Add the options of the steps of a delivery."""
    parser.add_argument(
        "--waves",
        action="store_true",
        help="plan delivery waves: a few dissimilar devices first",
    )
    parser.add_argument(
        "--first",
        type=common.whole_number,
        metavar="N",
        help="with --waves: number of devices in the first wave (default: 5)",
    )
    parser.add_argument(
        "--apart",
        action=common.Words,
        default=[],
        metavar="GROUP",
        help="with --waves: never put two devices of this group into one wave, "
        "in addition to `apart:` of the fleet; can be repeated",
    )


def run(args: argparse.Namespace) -> int:
    """Run the command and return its exit code."""
    if args.prove is not None:
        from ivrel.cli import proving

        return proving.run(args)
    return _taken_back(args) if args.undo else _correct(args)


def _taken_back(args: argparse.Namespace) -> int:
    """Take back what `--in-place` wrote last."""
    from ivrel.sources.in_place import undo

    files = undo(common.open_workspace(args).folder)
    for file in files:
        print(f"{file} is as it was")
    if not files:
        print("every file is as it was already")
    return 0


def _correct(args: argparse.Namespace) -> int:
    """Write the corrections, or show them."""
    from msgspec.structs import replace

    from ivrel.cli.deciding import Deciding, left_open
    from ivrel.cli.jobs import Correcting, NotCorrected
    from ivrel.cli.outlets import outlet_of
    from ivrel.output.views.corrections import CorrectionsView

    by, cluster = common.folding_of(args), common.cluster_of(args)
    workspace = common.open_workspace(args)
    names = common.settings(args.setting)
    devices, today = common.chosen(args, workspace), common.day(args)
    common.given_text(args, workspace, devices)
    apart = _apart(args, workspace)
    outlet = outlet_of(args, workspace, devices, today)
    corrections: list[Correction] = []
    unread: list[tuple[str, str]] = []
    with outlet:
        run = Deciding(
            workspace,
            today,
            lambda usual: Correcting(workspace, today, names, usual, needs_text=outlet.needs_text),
            left_open([workspace.policy], names),
            doing="correcting",
            scheduler=cluster,
            send=args.send,
        )
        for done in run.through(devices):
            if isinstance(done, NotCorrected):
                unread.append((done.device, done.problem))
            else:
                corrections.append(outlet.take(done))
        view = CorrectionsView(
            fleet=workspace.fleet.name,
            corrections=tuple(corrections),
            unread=tuple(unread),
            devices={d.name: d for d in devices},
            folder=args.output or "",
            in_place=args.in_place,
            by=by,
            every=args.all,
            waves=_waves(args, workspace, apart, devices, corrections) if args.waves else None,
        )
        outlet.done(view)
    if args.form:
        for name, problem in unread:
            print(f"ivrel correct: {name} is not in it: {problem}", file=sys.stderr)
    else:
        common.show(replace(view, next=_further(args, workspace, view)), args)
    # The exit code says whether the fleet will be as asked when all of this is sent.
    remains = any(r.verdict != "waived" for c in corrections for r in c.remains)
    left = unread or remains or outlet.left or not all(c.proved for c in corrections)
    return 1 if left else 0


def _apart(args: argparse.Namespace, workspace: Workspace) -> tuple[str, ...]:
    """Return the groups of which no two devices are in one wave; InputError if there is none of
    them, or no wave is asked for.
    """
    from fnmatch import fnmatchcase

    from ivrel.core.vocabulary.errors import InputError, Mistake
    from ivrel.core.vocabulary.wording import not_one_of

    for option in ("first", "apart"):
        if getattr(args, option) and not args.waves:
            raise InputError(f"--{option} is about waves; give it with --waves")
    there = sorted({group for d in workspace.fleet.devices for group in d.groups})
    wrong = [word for word in args.apart if not any(fnmatchcase(g, word) for g in there)]
    if wrong:
        raise InputError([Mistake("", f"group {not_one_of(word, there)}") for word in wrong])
    return (*workspace.fleet.apart, *args.apart)


def _waves(
    args: argparse.Namespace,
    workspace: Workspace,
    apart: tuple[str, ...],
    devices: Sequence[Device],
    corrections: Sequence[Correction],
) -> tuple[Wave, ...]:
    """Return the steps of a delivery; what is not proved is in none."""
    from ivrel.core.delivery import WaveCandidate, in_waves

    done = {c.device: c for c in corrections}
    candidates = [
        WaveCandidate(d, len(c.changes) if c.proved else 0, c.sends, c.would_send)
        for d in devices
        if (c := done.get(d.name)) is not None
    ]
    return in_waves(candidates, order_of(workspace, apart, args.first))


def order_of(workspace: Workspace, apart: tuple[str, ...], first: int | None = None) -> Order:
    """Return what the waves of a workspace heed: the collectors' own sites come last."""
    from ivrel.core.delivery import FIRST, Order

    sites = (collector.site for collector in workspace.policy.collectors.values())
    last = frozenset(site for site in sites if site)
    return Order(first=first or FIRST, apart=apart, last=last)


def _further(
    args: argparse.Namespace, workspace: Workspace, view: CorrectionsView
) -> tuple[str, ...]:
    """Return the commands to type next: to write the corrections, or to look at what was
    written.
    """
    if not view.changed:
        return ()
    if view.in_place:
        where = common.judging_words(args)
        return (f"ivrel audit{where}", f"ivrel correct{common.workspace_words(args)} --undo")
    if not view.folder:
        words = common.judging_words(args) + common.chosen_words(args)
        return (f"ivrel correct{words} -o corrections",)
    from ivrel.sources.corrections import CHANGE, SHEETS, UNPROVED

    first = view.changed[0]
    file = workspace.configuration(view.devices[first.device]) or ""
    name = CHANGE if first.proved else f"{UNPROVED}{CHANGE}"
    change = f"{view.folder}/{first.device}/{name}"
    sheet = f"less {view.folder}/{SHEETS[0]}"
    if workspace.fleet.ways.rules or any(d.reach is not None for d in view.devices.values()):
        words = "".join(f" --setting {name}" for name in args.setting)
        where = common.judging_words(args)
        return sheet, f"ivrel deliver{where} {view.folder}{words} --dry-run"
    return (
        sheet,
        f"ivrel dialect apply {first.platform} {workspace.folder / file} {change}",
    )
