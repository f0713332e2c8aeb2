"""`ivrel listen`: takes messages, shows who speaks, keeps what it hears."""

from __future__ import annotations

import argparse
import sys
from pathlib import Path
from typing import TYPE_CHECKING

from ivrel.cli import common, listen_arguments, message_arguments
from ivrel.cli.parsing import Parser

if TYPE_CHECKING:
    from collections.abc import Callable

    from ivrel.core.attribution.senders import Directory
    from ivrel.core.syslog.record import Record
    from ivrel.work.listening import Expectation, ListenOptions
    from ivrel.work.workspace import Workspace


def arguments(parser: Parser) -> None:
    """Add the arguments of the command."""
    common.workspace_argument(parser)
    listen_arguments.port_arguments(parser)
    _kept_arguments(parser)
    _end_arguments(parser)
    common.example(
        parser,
        "ivrel listen --udp 5514 --tcp 5601 -o heard --for 10m",
        "ivrel listen --udp 514 --follow",
        "ivrel listen --udp 514 --expect --site tarsk --for 10m",
        "ivrel listen --tls 6514 --certificate collector.pem --clients ca.pem -o heard",
    )
    parser.set_defaults(run=run)


def _kept_arguments(parser: Parser) -> None:
    """Add the options that say what is kept."""
    parser.add_argument(
        "-o", "--output", metavar="DIR", help="write the messages to recordings in this folder"
    )
    parser.add_argument(
        "--rotate-size",
        type=_mib,
        default=64,
        metavar="MIB",
        help="with -o: start a new recording after this size (default: 64)",
    )
    parser.add_argument(
        "--rotate-every",
        type=listen_arguments.span,
        default=3600.0,
        metavar="TIME",
        help="with -o: start a new recording after this time (default: 1h)",
    )
    parser.add_argument(
        "--most-disk",
        type=_mib,
        default=1024,
        metavar="MIB",
        help="with -o: delete the oldest recordings when all exceed this size (default: 1024)",
    )


def _end_arguments(parser: Parser) -> None:
    """Add the options that say what is shown, and when it ends."""
    parser.add_argument(
        "--for",
        dest="seconds",
        type=listen_arguments.span,
        default=0.0,
        metavar="TIME",
        help="stop after this time: 30s, 10m",
    )
    parser.add_argument(
        "--count", type=_number, default=0, metavar="N", help="stop after this many messages"
    )
    parser.add_argument("--follow", action="store_true", help="print each message as it arrives")
    parser.add_argument(
        "--expect",
        action="store_true",
        help="stop when every chosen device was heard as the policy asks; exit "
        "code 1 if one was not",
    )
    parser.add_argument(
        "--quiet-before",
        type=listen_arguments.span,
        default=0.0,
        metavar="TIME",
        help="with --expect: first check for this long that none of the devices sends",
    )
    message_arguments.device_arguments(parser)


def _mib(text: str) -> int:
    return _number(text, 1_000_000)


def _number(text: str, most: int = 10**12) -> int:
    if not (text.isascii() and text.isdigit()) or not 0 < int(text[:13]) <= most:
        raise argparse.ArgumentTypeError(f"'{text[:40]}' is not a number from 1 to {most}")
    return int(text)


def run(args: argparse.Namespace) -> int:
    """Run the command and return its exit code."""
    from ivrel.output.terminal.listening import Screen, expected, told
    from ivrel.work.listening import ListenState, listen
    from ivrel.work.messages import directory_of

    options = _options(args)
    workspace = message_arguments.workspace_of(args)
    directory = directory_of(workspace.files if workspace is not None else None)
    expectation = _expectation(args, workspace, directory)
    columns = common.columns(argparse.Namespace(width=None))
    screen = Screen(directory, live=not args.follow, columns=columns)

    def look(state: ListenState) -> None:
        screen.look(state, expectation.states.values() if expectation is not None else ())

    try:
        state = listen(
            options,
            certificate=args.certificate or "",
            key=args.key or "",
            clients=args.clients or "",
            expectation=expectation,
            heard=_follower(directory) if args.follow else None,
            looked=look,
            noticed=screen.notice,
        )
    finally:
        screen.end()
    for line in told(state):
        print(line)
    if expectation is None:
        _next(args, workspace)
        return int(state.unkept > 0)
    for line in expected(expectation.states.values()):
        print(line)
    if expectation.early:
        print(f"{expectation.early} spoke before; nothing was to be heard yet")
    return 0 if expectation.is_met and not state.unkept else 1


def _expectation(
    args: argparse.Namespace, workspace: Workspace | None, directory: Directory
) -> Expectation | None:
    """Return the devices that are to be heard; None if none is expected."""
    from ivrel.core.vocabulary.errors import InputError
    from ivrel.work.listening import Expectation

    if not args.expect:
        if args.device or args.kind or args.site or args.group or args.quiet_before:
            said = "devices and --quiet-before say what is expected; give --expect with them"
            raise InputError(said)
        return None
    if args.follow:
        raise InputError("--expect shows devices, and --follow messages; leave one of them out")
    if workspace is None:
        raise InputError("there is no fleet here to expect devices of; name it with -w")
    devices = common.chosen(args, workspace)
    today = workspace.options.today
    return Expectation(workspace.files, devices, directory, today, args.quiet_before)


def _options(args: argparse.Namespace) -> ListenOptions:
    """Return where a call listens, what it keeps, and when it ends."""
    from ivrel.core.vocabulary.errors import InputError
    from ivrel.work.listening import ListenOptions, RotationLimits, listen_addresses, listen_ports

    ports = listen_ports(args.udp, args.tcp, args.tls)
    if not ports:
        raise InputError("there is no port to listen on; give --udp, --tcp or --tls")
    return ListenOptions(
        ports,
        listen_addresses(args.on),
        Path(args.output) if args.output else None,
        RotationLimits(
            args.rotate_size * common.MIB, args.rotate_every, args.most_disk * common.MIB
        ),
        args.seconds,
        args.count,
    )


def _follower(directory: Directory) -> Callable[[Record], None]:
    """Return a function that prints each message as it arrives."""
    from ivrel.core.vocabulary.wording import plain
    from ivrel.output.views.messages import iso
    from ivrel.work.listening import attributed_message

    def follow(record: Record) -> None:
        one = attributed_message(record, directory)
        message = record.message
        level = f"{one.facility}.{one.severity}" if message.pri is not None else "-"
        tag = f"{message.app}: " if message.app else ""
        said = (iso(one.when), one.named or "-", level, f"{tag}{message.text}")
        sys.stdout.write(plain("  ".join(said)).replace("\n", "·") + "\n")
        sys.stdout.flush()

    return follow


def _next(args: argparse.Namespace, workspace: Workspace | None) -> None:
    """Print the command that judges what was heard."""
    if args.output:
        where = common.workspace_words(args)
        what = "heard" if workspace is not None else "messages"
        print(f"next  ivrel {what}{where} {args.output}/heard-*")
