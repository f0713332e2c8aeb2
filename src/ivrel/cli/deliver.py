"""`ivrel deliver CORRECTIONS`: brings corrections to the devices in waves, with a way back."""

from __future__ import annotations

import argparse
import sys
from pathlib import Path
from typing import TYPE_CHECKING

from ivrel.cli import care, common, evidence
from ivrel.cli.parsing import Parser

if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence

    from ivrel.cli.delivering import Call, Run
    from ivrel.core.correcting import Written
    from ivrel.live.journal import Journal
    from ivrel.sources.workspace import Workspace


def arguments(parser: Parser) -> None:
    """Add the arguments of the command."""
    parser.add_argument(
        "corrections", nargs="?", metavar="CORRECTIONS", help="folder written by `ivrel correct -o`"
    )
    common.workspace_argument(parser)
    evidence.device_arguments(parser)
    common.format_argument(parser, "table", "json", "jsonl", "csv", "md")
    common.setting_argument(parser)
    common.policy_argument(parser)
    common.today_argument(parser)
    care.care_arguments(parser)
    care.hearing_arguments(parser)
    does = parser.add_mutually_exclusive_group()
    does.add_argument(
        "--dry-run",
        action="store_true",
        help="connect, fetch, compare and prove, but change nothing",
    )
    does.add_argument(
        "--rehearse",
        action="store_true",
        help="like --dry-run, and let each device that can do so try the change and discard it",
    )
    does.add_argument(
        "--resume", action="store_true", help="go on with the delivery that was cut off"
    )
    does.add_argument(
        "--record",
        nargs="?",
        type=common.whole_number,
        const=0,
        metavar="N",
        help="show the record of the last delivery, or of delivery N: what was sent and answered",
    )
    does.add_argument(
        "--release",
        metavar="DEVICE",
        help="release a device in doubt after you checked it by hand; requires --because",
    )
    parser.add_argument(
        "--because", metavar="TEXT", help="with --release: what you found, for the record"
    )
    common.example(
        parser,
        "ivrel deliver corrections --dry-run",
        "ivrel deliver corrections --rehearse --site tarsk",
        "ivrel deliver corrections --expect --udp 514 --tcp 601",
        "ivrel deliver corrections --between 22:00 --and 04:00",
        "ivrel deliver --resume",
        "ivrel deliver --release tarsk-fw2 --because 'restored by hand'",
        "ivrel deliver --record --format md > ticket.md",
    )
    parser.set_defaults(run=run)


def run(args: argparse.Namespace) -> int:
    """Run the command and return its exit code."""
    from ivrel.core.vocabulary.errors import InputError
    from ivrel.live.journal import Journal
    from ivrel.live.targets import own_folder

    workspace = common.open_workspace(args)
    is_of_begun = args.record is not None or args.resume or args.release is not None
    if not is_of_begun and not args.corrections:
        raise InputError("no folder of corrections; expected what 'ivrel correct -o DIR' wrote")
    if is_of_begun and args.corrections:
        said = "--resume, --release and --record are about a delivery that was begun"
        raise InputError(f"{said}; leave the folder out")
    if (args.release is None) != (not (args.because or "").strip()):
        raise InputError("--release DEVICE and --because TEXT belong together")
    folder = own_folder(workspace)
    journal = Journal(folder)
    try:
        if args.record is not None:
            return _record(args, workspace, journal)
        if args.release is not None:
            return _release(args, journal)
        return _resume(args, workspace, journal) if args.resume else _new(args, workspace, journal)
    finally:
        journal.close()


def _record(args: argparse.Namespace, workspace: Workspace, journal: Journal) -> int:
    """Show what a delivery did."""
    from msgspec.structs import replace

    from ivrel.cli.recorded import view_of
    from ivrel.core.vocabulary.errors import InputError

    one = journal.delivery(args.record) if args.record else journal.last()
    if one is None:
        said = f"there is no delivery {args.record}" if args.record else "there is no delivery yet"
        raise InputError(said)
    view = view_of(workspace, journal, one, is_record=True)
    names = {d.name for d in common.chosen(args, workspace)}
    if args.device or args.kind or args.site or args.group:
        view = replace(view, devices=tuple(d for d in view.devices if d.device in names))
    common.show(view, args)
    return 0


def _release(args: argparse.Namespace, journal: Journal) -> int:
    """Give up a device in doubt, in the words of the person who looked at it."""
    from ivrel.core.vocabulary.wording import plain

    number = journal.release(args.release, plain(args.because).strip())
    print(f"{args.release} is released from delivery {number}; another may take it now.")
    print(f"\nnext  ivrel deliver{common.workspace_words(args)} --record {number}")
    return 0


def _new(args: argparse.Namespace, workspace: Workspace, journal: Journal) -> int:
    """Begin a delivery, and carry it out."""
    from ivrel.cli.delivering import Call, deliver
    from ivrel.core.vocabulary.errors import InputError

    folder = Path(args.corrections)
    call = Call.of(args)
    approved = _approved(call, workspace, folder)
    written, refused = _written(args, workspace, folder)
    _approved(call, workspace, folder)  # what was read is what was signed
    waves = _waves(workspace, folder, list(written))
    wave_of = {name: n for n, wave in enumerate(waves, 1) for name in wave}
    platforms = {d.name: d.platform for d in workspace.fleet.devices}
    rows = [(name, wave_of[name], platforms[name]) for wave in waves for name in wave]
    rows += [(name, 0, platforms.get(name, "")) for name in refused]
    number = journal.begin(
        str(folder.absolute()), call.encoded, rows, dry=call.dry, approved=approved
    )
    for name, why in refused.items():
        journal.settle(number, name, "not begun", why)
    try:
        stopped, outcomes = deliver(call, workspace, journal, number, written, waves)
    except InputError:
        journal.withdraw(number)  # if nothing was begun, there was no delivery
        raise
    return _told(args, workspace, journal, number, stopped, outcomes)


def _resume(args: argparse.Namespace, workspace: Workspace, journal: Journal) -> int:
    """Go on with a delivery that was cut off."""
    from ivrel.cli.delivering import Call, deliver
    from ivrel.core.delivery.course import HELD, WAITING
    from ivrel.core.vocabulary.errors import InputError

    one = journal.last(unfinished=True)
    if one is None:
        print("No delivery was interrupted.")
        return 0
    journal.take_over(one.number)
    call = Call.read(one.options, args)
    if call.policy and not args.policy:
        args.policy = call.policy
        workspace = common.open_workspace(args)
    folder = Path(one.folder)
    args.device, args.kind, args.site, args.group = [], [], [], []
    try:
        _approved(call, workspace, folder)
        written, _ = _written(args, workspace, folder)
        _approved(call, workspace, folder)
    except InputError as problem:
        written = {}  # what is in flight can be settled without the folder
        print(f"{problem}\nOnly devices in progress are settled.", file=sys.stderr)
    entries = journal.entries(one.number)
    held = [e for e in entries if e.state in HELD]
    waiting: dict[int, list[str]] = {}
    for e in entries:
        if e.state == WAITING and e.device in written:
            waiting.setdefault(e.wave, []).append(e.device)
    # What an older delivery left waiting has had its turn in a later one.
    last = journal.last()
    is_last = last is not None and last.number == one.number
    waves = [waiting[n] for n in sorted(waiting)] if is_last or not one.ended else []
    stopped, outcomes = deliver(call, workspace, journal, one.number, written, waves, held)
    return _told(args, workspace, journal, one.number, stopped, outcomes)


def _approved(call: Call, workspace: Workspace, folder: Path) -> str:
    """Return who has signed the folder; '' where nobody need have."""
    from ivrel.sources.approval import SIGNERS, approved_by

    if not call.approved:
        return ""
    signers = Path(call.signers) if call.signers else workspace.folder / SIGNERS
    return approved_by(folder, Path(call.approved), signers)


def _written(
    args: argparse.Namespace, workspace: Workspace, folder: Path
) -> tuple[Mapping[str, Written], Mapping[str, str]]:
    """Return the changes of a folder for the chosen devices, and why others are not sent."""
    from ivrel.core.vocabulary.errors import InputError
    from ivrel.sources.corrections import CHANGE, read_corrections

    chosen = {d.name for d in common.chosen(args, workspace)}
    fleet = {d.name for d in workspace.fleet.devices}
    written: dict[str, Written] = {}
    refused: dict[str, str] = {}
    for name, one in read_corrections(folder).items():
        if name not in fleet:
            refused[name] = "no device of the fleet is called so"
        elif name not in chosen:
            continue
        elif isinstance(one, str):
            refused[name] = one
        elif not (folder / name / CHANGE).is_file():
            refused[name] = "its change is not proved"
        else:
            written[name] = one
    if not written and not refused:
        raise InputError(f"{folder} holds no change of the devices that are chosen")
    return written, refused


def _waves(workspace: Workspace, folder: Path, names: Sequence[str]) -> list[list[str]]:
    """Return the waves of the change sheet; where the folder has none, those that are made here."""
    from ivrel.cli.correct import order_of
    from ivrel.core.delivery import WaveCandidate, in_waves
    from ivrel.sources.corrections import read_waves

    wanted = set(names)
    waves = [[n for n in wave if n in wanted] for wave in read_waves(folder)]
    left = wanted - {name for wave in waves for name in wave}
    if left:
        order = order_of(workspace, workspace.fleet.apart)
        some = [WaveCandidate(d, 1, True, True) for d in workspace.fleet.devices if d.name in left]
        waves += [list(wave.devices) for wave in in_waves(some, order)]
    return [wave for wave in waves if wave]


def _told(
    args: argparse.Namespace,
    workspace: Workspace,
    journal: Journal,
    number: int,
    stopped: str,
    outcomes: Mapping[str, Run],
) -> int:
    """Show how a delivery stands, and return the exit code."""
    from msgspec.structs import replace

    from ivrel.cli.recorded import view_of
    from ivrel.core.delivery.course import FAILED, HELD, WAITING

    one = journal.delivery(number)
    assert one is not None
    view = view_of(workspace, journal, one, stopped=stopped, outcomes=outcomes)
    where = common.workspace_words(args)
    states = {d.state for d in view.devices}
    if WAITING not in states:  # nothing was left to begin with
        view = replace(view, stopped="")
    further = []
    if states & {*HELD, WAITING}:
        further.append(f"ivrel deliver{where} --resume")
    elif args.dry_run or args.rehearse:
        words = "".join(f" --setting {name}" for name in args.setting)
        further.append(f"ivrel deliver{where} {args.corrections}{words}")
    if not (args.dry_run or args.rehearse):
        further.append(f"ivrel deliver{where} --record")
        further.append(f"ivrel gather{where} --since")
    common.show(replace(view, next=tuple(further)), args)
    sys.stdout.flush()
    return 1 if states & {*FAILED, *HELD, WAITING} else 0
