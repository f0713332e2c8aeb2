"""`ivrel standin`: a fleet of simulated devices on this machine, to try things on."""

from __future__ import annotations

import argparse
import os
import sys
from pathlib import Path
from typing import TYPE_CHECKING

from ivrel.cli import common
from ivrel.cli.parsing import Parser

if TYPE_CHECKING:
    from ivrel.standin.faults import Fault
    from ivrel.work.workspace import Workspace


def arguments(parser: Parser) -> None:
    """Add the arguments of the command."""
    common.workspace_argument(parser)
    common.choice_arguments(parser)
    does = parser.add_mutually_exclusive_group()
    does.add_argument(
        "--new", metavar="DIR", help="write the example workspace, with loopback addresses"
    )
    does.add_argument(
        "--make",
        nargs=3,
        metavar=("DEVICE", "SEVERITY", "TEXT"),
        help="let a running device log this event",
    )
    does.add_argument(
        "--trouble",
        nargs=2,
        metavar=("DEVICE", "FAULT"),
        help="give a running device a fault, or 'none': drop, hang, slow, "
        "refuse, ignore, restart, late, drip, fold, chat, clock, silent; "
        "drop:4 strikes at the fourth line of a change",
    )
    does.add_argument("--restart", metavar="DEVICE", help="restart a running device")
    does.add_argument("--stop", action="store_true", help="stop all running devices")
    parser.add_argument(
        "--fault",
        action="append",
        default=[],
        metavar="DEVICE=FAULT",
        help="start the device with this fault; can be repeated",
    )
    parser.add_argument(
        "--faults",
        type=_share,
        default=0.0,
        metavar="SHARE",
        help="share of sessions that get a random fault, such as 0.1",
    )
    parser.add_argument(
        "--seed", type=int, default=1, metavar="N", help="seed for the random faults (default: 1)"
    )
    parser.add_argument(
        "--every",
        type=_seconds,
        default=0.0,
        metavar="SECONDS",
        help="let each device log an event this often",
    )
    parser.add_argument(
        "--processes",
        type=common.whole_number,
        default=1,
        metavar="N",
        help="number of processes to spread the devices over (default: 1)",
    )
    common.example(
        parser,
        "ivrel standin --new skerry",
        "ivrel standin -w skerry --every 5",
        "ivrel standin -w skerry --make holmsay-gw1 warning 'fan 2 stopped'",
        "ivrel standin -w skerry --trouble tarsk-fw2 drop",
    )
    parser.set_defaults(run=run)


def _share(text: str) -> float:
    try:
        share = float(text)
    except ValueError:
        share = -1
    if not 0 <= share <= 1:
        raise argparse.ArgumentTypeError(
            f"'{text[:40]}' is not a share; write a number from 0 to 1"
        )
    return share


def _seconds(text: str) -> float:
    try:
        seconds = float(text)
    except ValueError:
        seconds = -1
    if not 0 < seconds < 1e6:
        raise argparse.ArgumentTypeError(
            f"'{text[:40]}' is not a number of seconds; write for example 5"
        )
    return seconds


def run(args: argparse.Namespace) -> int:
    """Run the command and return its exit code."""
    if args.new:
        return _new(Path(args.new))
    request = _request(args)
    workspace = common.open_workspace(args)
    if request:
        from ivrel.standin.running import asked

        print(asked(workspace.folder, request))
        return 0
    return _serve(args, workspace)


def _new(folder: Path) -> int:
    from ivrel.standin.example import new_example

    new_example(folder)
    print(f"{folder}: the example, each device on an address of loopback")
    print(f"next  ivrel standin -w {folder}")
    return 0


def _request(args: argparse.Namespace) -> list[str]:
    """Return the request to running stand-ins; nothing if the call starts them."""
    from ivrel.core.vocabulary.errors import InputError
    from ivrel.core.vocabulary.severity import SEVERITIES
    from ivrel.core.vocabulary.wording import not_one_of

    if args.make:
        if args.make[1] not in SEVERITIES:
            raise InputError(f"severity {not_one_of(args.make[1], SEVERITIES)}")
        return ["make", *args.make]
    if args.trouble:
        if args.trouble[1] != "none":
            _fault(args.trouble[1])
        return ["fault", *args.trouble]
    if args.restart:
        return ["restart", args.restart]
    return ["stop"] if args.stop else []


def _serve(args: argparse.Namespace, workspace: Workspace) -> int:
    """Serve the chosen devices until told to end."""
    from ivrel.standin.running import serve
    from ivrel.standin.serving import StandinOptions

    devices = workspace.files.with_dialect(common.chosen(args, workspace))
    plan = StandinOptions(args.faults, args.seed, _faults(args, workspace), args.every)

    def ready(number: int) -> None:
        where = common.workspace_words(args)
        print(f"{number} stand-ins are running; Ctrl-C ends them", flush=True)
        print(f"next  ivrel gather{where} --learn-keys", flush=True)

    serve(
        workspace.files,
        devices,
        plan,
        min(args.processes, os.cpu_count() or 1, len(devices)),
        ready,
    )
    sys.stdout.flush()
    return 0


def _fault(word: str) -> Fault:
    from ivrel.core.vocabulary.errors import InputError
    from ivrel.standin.faults import fault_of

    try:
        return fault_of(word)
    except ValueError as problem:
        raise InputError(str(problem)) from None


def _faults(args: argparse.Namespace, workspace: Workspace) -> dict[str, Fault]:
    out = {}
    for word in args.fault:
        name, _, fault = word.partition("=")
        workspace.select(devices=[name])
        out[name] = _fault(fault)
    return out
