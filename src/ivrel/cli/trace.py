"""`ivrel trace FILE`: one message through every decision."""

from __future__ import annotations

import argparse

from ivrel.cli import common, message_arguments
from ivrel.cli.parsing import Parser


def arguments(parser: Parser) -> None:
    """Add the arguments of the command."""
    common.workspace_argument(parser)
    parser.add_argument("file", help="message file; '-' reads standard input")
    which = parser.add_mutually_exclusive_group(required=True)
    which.add_argument("--line", type=_number, metavar="N", help="show the message in this line")
    which.add_argument("--last", action="store_true", help="show the last message")
    parser.add_argument(
        "--device", metavar="NAME", help="with --last: the last message of this device"
    )
    message_arguments.record_arguments(parser)
    common.format_argument(parser)
    common.example(
        parser,
        "ivrel trace collector.log --line 17",
        "ivrel trace collector.log --last --device tarsk-fw2",
    )
    parser.set_defaults(run=run)


def _number(text: str) -> int:
    if not (text.isascii() and text.isdigit()) or not int(text[:12]) > 0:
        raise argparse.ArgumentTypeError(f"'{text[:40]}' is not the number of a line")
    return int(text)


def run(args: argparse.Namespace) -> int:
    """Run the command and return its exit code."""
    from ivrel.core.vocabulary.errors import InputError
    from ivrel.output.views.messages import TraceView
    from ivrel.work.messages import traced

    if args.device and not args.last:
        raise InputError("--device says whose last message is meant; give it with --last")
    workspace = message_arguments.workspace_of(args)
    within = workspace.files if workspace is not None else None
    files = message_arguments.message_files(args, (args.file,))
    found = traced(within, files, args.line, args.device or "")
    code = common.problems_told(found.problems)
    if found.message is None:
        if code:
            return code
        of = f" of {args.device}" if args.device else ""
        what = f"line {args.line} holds no message" if args.line else f"no message{of} in it"
        raise InputError(f"{args.file}: {what}")
    view = TraceView(seen=found.message, claims=found.claims, collector=found.collector)
    common.show(view, args)
    return code
