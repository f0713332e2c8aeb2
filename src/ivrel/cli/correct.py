"""`ivrel correct`: corrections, back-outs and the change sheet, each proved on the text at hand."""

from __future__ import annotations

import argparse
import sys
from typing import TYPE_CHECKING

from ivrel.cli import common
from ivrel.cli.parsing import Parser

if TYPE_CHECKING:
    from ivrel.core.delivery.corrections import CorrectionSet
    from ivrel.work.correction import Corrections, WaveOptions
    from ivrel.work.workspace import Workspace


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
    parser.add_argument(
        "--carry-out",
        action="store_true",
        help="have rsyslogd itself run what is corrected, in a network of its own, "
        "with a message of each facility and severity; needs rsyslogd here, and "
        "the right to make namespaces",
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
    if args.carry_out and (args.undo or args.prove is not None):
        from ivrel.core.vocabulary.errors import InputError

        raise InputError("--carry-out is about corrections that are written now; leave it out")
    if args.prove is not None:
        return _prove(args)
    return _undo(args) if args.undo else _correct(args)


def _undo(args: argparse.Namespace) -> int:
    """Revert what `--in-place` wrote last."""
    files = common.open_workspace(args).undo()
    for file in files:
        print(f"{file} is as it was")
    if not files:
        print("every file is as it was already")
    return 0


def _prove(args: argparse.Namespace) -> int:
    """Prove existing changes; return 0 if each holds or is in the configuration already."""
    from ivrel.output.views.proofs import ProofsView

    workspace = common.open_workspace(args)
    devices = common.chosen(args, workspace)
    if args.text is not None:
        common.given_text(args, workspace, devices)
    found = workspace.prove(args.prove, args.setting, devices=devices)
    # Beside a change that fails, the next command shows one that would hold.
    where = common.judging_words(args)
    further = (f"ivrel correct{where} {found.failing[0].device}",) if found.failing else ()
    view = ProofsView(
        fleet=workspace.fleet.name,
        folder=args.prove,
        judged=found.judged,
        unread=found.unread,
        next=further,
    )
    common.show(view, args)
    return 0 if found.holds else 1


def _correct(args: argparse.Namespace) -> int:
    """Write the corrections, or show them."""
    from ivrel.output.views.corrections import CorrectionsView

    by = common.folding_of(args)
    workspace = common.open_workspace(args)
    devices = common.chosen(args, workspace)
    common.given_text(args, workspace, devices)
    _check_places(args)
    corrections = workspace.correct(
        args.setting, _waves(args), carry_out=args.carry_out, devices=devices
    )
    if args.form:
        return _patch(workspace, corrections)
    if args.output:
        keeps = args.format != "table"
        result = corrections.write(args.output, replace=args.replace, keep_text=keeps)
    else:
        result = corrections.apply() if args.in_place else corrections.collect()
    for device, problem in result.left_out:
        print(f"ivrel correct: {device} is not in it: {problem}", file=sys.stderr)
    further = _next(args, workspace, result)
    common.show(CorrectionsView(result=result, by=by, every=args.all, next=further), args)
    # The exit code says whether the fleet will be as asked when all of this is sent.
    return 0 if result.is_complete else 1


def _patch(workspace: Workspace, corrections: Corrections) -> int:
    """Write one patch to standard output."""
    from ivrel.core.vocabulary.wording import counted

    result, patch = corrections.patch(sys.stdout.buffer)
    for device, problem in (*result.left_out, *result.unread):
        print(f"ivrel correct: {device} is not in it: {problem}", file=sys.stderr)
    if patch.deltas:
        said = "written as Git deltas: lines beside their changes must not be shown"
        print(f"ivrel correct: {counted(patch.deltas, 'file')} {said}", file=sys.stderr)
    if result.changed:
        call = "git apply" if patch.is_held else "git apply --unidiff-zero"
        print(f"next  (cd {workspace.folder} && {call}) < PATCH", file=sys.stderr)
    return 0 if result.is_complete else 1


def _check_places(args: argparse.Namespace) -> None:
    """Raise InputError if the options say two things about where corrections go."""
    from ivrel.core.vocabulary.errors import InputError

    if args.form and args.format != "table":
        raise InputError(
            f"--as {args.form} writes a diff, not {args.format}; leave one of them out"
        )
    if (args.form or args.in_place) and args.text is not None:
        raise InputError("--text gives a text that is no file of the workspace; leave it out")


def _waves(args: argparse.Namespace) -> WaveOptions | None:
    """Return how a delivery is divided into waves; None if no waves are asked for."""
    from ivrel.core.vocabulary.errors import InputError
    from ivrel.work.correction import WaveOptions

    if args.waves:
        apart = tuple(args.apart)
        return WaveOptions(args.first, apart) if args.first else WaveOptions(apart=apart)
    for option in ("first", "apart"):
        if getattr(args, option):
            raise InputError(f"--{option} is about waves; give it with --waves")
    return None


def _next(args: argparse.Namespace, workspace: Workspace, result: CorrectionSet) -> tuple[str, ...]:
    """Return the commands to type next: write the corrections, or look at what was written."""
    from ivrel.work.correction import files_to_read

    if not result.changed:
        return ()
    where = common.judging_words(args)
    if result.in_place:
        return (f"ivrel audit{where}", f"ivrel correct{common.workspace_words(args)} --undo")
    if not result.folder:
        return (f"ivrel correct{where}{common.chosen_words(args)} -o corrections",)
    sheet, change = files_to_read(result)
    if workspace.reaches(result.devices.values()):
        words = "".join(f" --setting {name}" for name in args.setting)
        return f"less {sheet}", f"ivrel deliver{where} {result.folder}{words} --dry-run"
    first = result.changed[0]
    file = workspace.files.configuration(result.devices[first.device]) or ""
    words = f"{first.platform} {workspace.folder / file} {change}"
    return f"less {sheet}", f"ivrel dialect apply {words}"
