"""`ivrel deliver CORRECTIONS`: brings corrections to the devices in waves, with a way back."""

from __future__ import annotations

import argparse
import asyncio
import contextlib
import signal
import sys
from collections import Counter
from pathlib import Path
from typing import TYPE_CHECKING

from ivrel.cli import care, common, message_arguments
from ivrel.cli.bar import Bar
from ivrel.cli.parsing import Parser
from ivrel.output.machine.formats import DELIVERY

if TYPE_CHECKING:
    from collections.abc import Callable, Sequence

    from ivrel.core.delivery.record import DeliveryRecord
    from ivrel.work.delivery import Deliveries, DeliveryCall, DeliveryResult, DeliveryWatch
    from ivrel.work.workspace import Workspace


def arguments(parser: Parser) -> None:
    """Add the arguments of the command."""
    parser.add_argument(
        "corrections", nargs="?", metavar="CORRECTIONS", help="folder written by `ivrel correct -o`"
    )
    common.workspace_argument(parser)
    message_arguments.device_arguments(parser)
    common.format_argument(parser, DELIVERY)
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

    is_of_begun = args.record is not None or args.resume or args.release is not None
    if not is_of_begun and not args.corrections:
        raise InputError("no folder of corrections; expected what 'ivrel correct -o DIR' wrote")
    if is_of_begun and args.corrections:
        said = "--resume, --release and --record are about a delivery that was begun"
        raise InputError(f"{said}; leave the folder out")
    if (args.release is None) != (not (args.because or "").strip()):
        raise InputError("--release DEVICE and --because TEXT belong together")
    with Bar() as bar:
        workspace = common.open_workspace(args, bar)
        with workspace.deliveries(_watch(args, bar)) as deliveries:
            if args.record is not None:
                return _record(args, workspace, deliveries)
            if args.release is not None:
                return _release(args, deliveries)
            if args.resume:
                return _resume(args, deliveries, bar)
            return _new(args, workspace, deliveries, bar)


def _record(args: argparse.Namespace, workspace: Workspace, deliveries: Deliveries) -> int:
    """Show what a delivery did."""
    from msgspec.structs import replace

    from ivrel.output.views.delivered import DeliveryView

    record = deliveries.record(args.record)
    if args.device or args.kind or args.site or args.group:
        names = {d.name for d in common.chosen(args, workspace)}
        some = tuple(d for d in record.devices if d.device in names)
        record = replace(record, devices=some)
    common.show(DeliveryView(record=record, is_record=True), args)
    return 0


def _release(args: argparse.Namespace, deliveries: Deliveries) -> int:
    """Release a device in doubt, in the words of the person who checked it."""
    number = deliveries.release(args.release, args.because)
    print(f"{args.release} is released from delivery {number}; another may take it now.")
    print(f"\nnext  ivrel deliver{common.workspace_words(args)} --record {number}")
    return 0


def _new(args: argparse.Namespace, workspace: Workspace, deliveries: Deliveries, bar: Bar) -> int:
    """Begin a delivery, and carry it out."""
    devices = common.chosen(args, workspace)
    record = deliveries.deliver(args.corrections, devices, _call(args))
    bar.pause()
    return _show(args, record)


def _resume(args: argparse.Namespace, deliveries: Deliveries, bar: Bar) -> int:
    """Continue a delivery that was interrupted."""
    record, problem = deliveries.resume()
    bar.pause()
    if problem:
        print(f"{problem}\nOnly devices in progress are settled.", file=sys.stderr)
    if record is None:
        print("No delivery was interrupted.")
        return 0
    return _show(args, record)


def _show(args: argparse.Namespace, record: DeliveryRecord) -> int:
    """Show a delivery after its run, and return the exit code."""
    from ivrel.output.views.delivered import DeliveryView

    where = common.workspace_words(args)
    is_dry = args.dry_run or args.rehearse
    further = []
    if record.is_unfinished:
        further.append(f"ivrel deliver{where} --resume")
    elif is_dry:
        words = "".join(f" --setting {name}" for name in args.setting)
        further.append(f"ivrel deliver{where} {args.corrections}{words}")
    if not is_dry:
        further.append(f"ivrel deliver{where} --record")
        further.append(f"ivrel gather{where} --since")
    common.show(DeliveryView(record=record, next=tuple(further)), args)
    sys.stdout.flush()
    return 0 if record.is_good else 1


def _call(args: argparse.Namespace) -> DeliveryCall:
    """Return the options of a delivery."""
    from ivrel.work.delivery import DeliveryCall
    from ivrel.work.workspace import known_settings

    return DeliveryCall(
        dry=args.dry_run,
        rehearse=args.rehearse,
        stop_after=args.stop_after,
        at_once=args.at_once,
        last_look=args.last_look,
        again=args.prove_again,
        expect=args.expect,
        within=args.within,
        heard=_absolute(args.heard),
        udp=tuple(args.udp),
        tcp=tuple(args.tcp),
        tls=tuple(args.tls),
        on=tuple(args.on),
        certificate=args.certificate or "",
        key=args.key or "",
        clients=args.clients or "",
        settings=known_settings(args.setting),
        policy=args.policy,
        approved=_absolute(args.approved),
        signers=_absolute(args.signers),
        between=(args.between or "", args.until or ""),
    )


def _absolute(path: str | None) -> str:
    """Return a path from the root: a delivery may be resumed from another folder."""
    return str(Path(path).absolute()) if path else ""


def _watch(args: argparse.Namespace, bar: Bar) -> DeliveryWatch:
    """Return who is asked between waves, and what an interrupt does."""
    from ivrel.work.delivery import DeliveryWatch

    is_terminal = sys.stdin.isatty() and sys.stdout.isatty()
    asks = args.ask if args.ask is not None else is_terminal

    async def between(
        wave: int, devices: int, waves: int, results: Sequence[DeliveryResult]
    ) -> bool:
        bar.pause()
        return await _ask(f"wave {wave} of {waves}", devices, results)

    return DeliveryWatch(between=between if asks else None, begun=_heed_interrupts)


def _heed_interrupts(stop: Callable[[str], None]) -> None:
    """Let the first interrupt end the delivery gently, and the second at once."""
    loop = asyncio.get_running_loop()

    def interrupted() -> None:
        stop("you interrupted it")
        print("No further devices are started; those in progress are finished.", file=sys.stderr)
        loop.remove_signal_handler(signal.SIGINT)

    with contextlib.suppress(NotImplementedError):
        loop.add_signal_handler(signal.SIGINT, interrupted)


async def _ask(wave: str, devices: int, results: Sequence[DeliveryResult]) -> bool:
    """Show the results so far, and ask whether to continue."""
    from ivrel.core.vocabulary.wording import counted

    for one in results:
        if one.why:
            print(f"{one.device}  {one.state}: {one.why}")
    states = Counter(one.state for one in results)
    so_far = ", ".join(f"{number} {state}" for state, number in states.items())
    question = f"So far: {so_far}. Go on with {wave}, {counted(devices, 'device')}? [y/N] "
    try:
        answer = await asyncio.to_thread(input, question)
    except EOFError:
        return False
    return answer.strip().lower() in ("y", "yes")
