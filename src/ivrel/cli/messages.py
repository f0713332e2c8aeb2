"""`ivrel messages FILE…`: messages of all files in one order of time, or counted."""

from __future__ import annotations

import argparse
import re
from datetime import date
from typing import TYPE_CHECKING

from ivrel.cli import common, message_arguments
from ivrel.cli.parsing import Parser
from ivrel.output.machine.formats import ROWS

if TYPE_CHECKING:
    from ivrel.work.messages import MessageList, Wanted
    from ivrel.work.workspace import Workspace

MOST = 100  # messages or rows that a terminal shows, unless more are asked for
BY = ("device", "severity", "facility", "kind", "sender", "departure")


def arguments(parser: Parser) -> None:
    """Add the arguments of the command."""
    common.workspace_argument(parser)
    parser.add_argument("file", nargs="+", help="message files; '-' reads standard input")
    message_arguments.device_arguments(parser)
    parser.add_argument(
        "--severity",
        metavar="SEVERITY",
        help="only messages of this severity or more urgent",
    )
    parser.add_argument("--facility", metavar="A,B", help="only messages of these facilities")
    parser.add_argument("--text", metavar="WORDS", help="only messages whose text contains this")
    parser.add_argument(
        "--pattern",
        metavar="REGEX",
        help="only messages whose text matches this regular expression",
    )
    message_arguments.period_arguments(parser)
    parser.add_argument(
        "--own-address",
        action="append",
        default=[],
        metavar="ADDRESS",
        help="leave out messages that mention this address, such as those about your own sessions",
    )
    parser.add_argument("--by", choices=BY, default="", help="count messages by this")
    parser.add_argument(
        "--most", type=int, metavar="N", help=f"rows of a table (default: {MOST}; 0 is all)"
    )
    message_arguments.record_arguments(parser)
    common.format_argument(parser, ROWS)
    common.example(
        parser,
        "ivrel messages collector.log --severity warning --since 2026-11-23T10:00",
        "ivrel messages beacon-a.log.gz beacon-b.log.gz --by kind --site tarsk",
        "zcat old.gz | ivrel messages - --device 'mv-*' --format jsonl",
    )
    parser.set_defaults(run=run)


def run(args: argparse.Namespace) -> int:
    """Run the command and return its exit code."""
    from ivrel.output.views.messages import CountsView, MessagesView
    from ivrel.work.messages import counted, messages_of
    from ivrel.work.run import RunOptions

    workspace = message_arguments.workspace_of(args)
    files = message_arguments.message_files(args, args.file)
    within = workspace.files if workspace is not None else None
    wanted = _wanted(args, workspace)
    most = (MOST if args.format == "table" else 0) if args.most is None else args.most
    if args.by:
        options = workspace.options if workspace is not None else RunOptions(date.today())
        counts = counted(within, files, wanted, args.by, options)
        view = CountsView(by=args.by, counts=counts.groups, total=counts.total, most=most)
        common.show(view, args)
        return common.problems_told(counts.problems)
    found = messages_of(within, files, wanted)
    common.show(
        MessagesView(
            messages=found.messages, total=found.total, most=most, next=_next(args, found)
        ),
        args,
    )
    return common.problems_told(found.problems)


def _wanted(args: argparse.Namespace, workspace: Workspace | None) -> Wanted:
    """Return which messages a call asks for."""
    from ivrel.core.vocabulary.addresses import address
    from ivrel.core.vocabulary.errors import InputError
    from ivrel.core.vocabulary.severity import FACILITIES, SEVERITIES
    from ivrel.work.messages import Wanted

    devices = None
    if args.device or args.kind or args.site or args.group:
        if workspace is None:
            raise InputError("there is no fleet here to choose devices of; name it with -w")
        devices = frozenset(d.name for d in common.chosen(args, workspace))
    try:
        own = tuple(address(one) for one in args.own_address)
        pattern = re.compile(re.escape(args.text) if args.text else args.pattern or "")
    except ValueError as problem:
        raise InputError(f"--own-address: {problem}") from None
    except re.error as problem:
        raise InputError(f"--pattern: not a regular expression: {problem}") from None
    if args.text and args.pattern:
        raise InputError("--text and --pattern both say what the text holds; leave one of them out")
    named = [word for word in (args.facility or "").split(",") if word]
    return Wanted(
        devices,
        _code(args.severity, "severity", SEVERITIES) if args.severity else None,
        frozenset(_code(word, "facility", FACILITIES) for word in named),
        pattern if args.text or args.pattern else None,
        own,
    )


def _code(word: str, what: str, words: tuple[str, ...]) -> int:
    from ivrel.core.vocabulary.errors import InputError
    from ivrel.core.vocabulary.wording import not_one_of

    if word not in words:
        raise InputError(f"--{what}: {not_one_of(word, words)}")
    return words.index(word)


def _next(args: argparse.Namespace, found: MessageList) -> tuple[str, ...]:
    """Return the command that shows the last message through every decision."""
    if not found.messages or found.messages[-1].record.file == "standard input":
        return ()
    record = found.messages[-1].record
    where = common.workspace_words(args)
    return (f"ivrel trace{where} {record.file} --line {record.line}",)
