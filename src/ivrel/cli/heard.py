"""`ivrel heard FILE…`: what the messages of each device prove and contradict."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from ivrel.cli import common, message_arguments
from ivrel.cli.parsing import Parser
from ivrel.output.machine.formats import ROWS

if TYPE_CHECKING:
    from ivrel.work.workspace import Workspace

KEPT_SHOWN = 12  # messages of a state that a terminal shows, unless all are asked for


def arguments(parser: Parser) -> None:
    """Add the arguments of the command."""
    common.workspace_argument(parser)
    parser.add_argument("file", nargs="*", help="message files; '-' reads standard input")
    message_arguments.at_argument(parser)
    message_arguments.period_arguments(parser)
    parser.add_argument(
        "--own",
        action="append",
        default=[],
        metavar="DEVICE=FILE",
        help="the log this device kept itself, as text: report what became of "
        "each message; can be repeated",
    )
    message_arguments.device_arguments(parser)
    common.setting_argument(parser)
    message_arguments.record_arguments(parser)
    common.scheduler_arguments(parser, "records")
    common.format_argument(parser, ROWS)
    parser.add_argument(
        "--all", action="store_true", help="list everything, even for a large fleet"
    )
    common.example(
        parser,
        "ivrel heard --at beacon-a=beacon-a.log --at beacon-b=beacon-b.log.gz",
        "ivrel heard recording.jsonl --site tarsk --setting level --setting stamp",
        "ivrel heard --at beacon-a=beacon-a.jsonl --own tarsk-fw2=memory.txt",
        "zcat old.gz | ivrel heard - --format csv",
    )
    parser.set_defaults(run=run)


def run(args: argparse.Namespace) -> int:
    """Run the command and return its exit code."""
    from ivrel.core.vocabulary.errors import InputError
    from ivrel.output.views.heard import HeardView

    workspace = common.open_workspace(args)
    devices = common.chosen(args, workspace)
    messages = message_arguments.message_files(args, args.file)
    if not messages:
        raise InputError("no file of messages is given; name one, or one of a collector with --at")
    if args.own:
        return _own(args, workspace)
    found = workspace.heard(messages=messages, settings=args.setting, devices=devices)
    code = common.problems_told(found.problems)
    common.remarks_told(found.remarks)
    if code and not found.total:
        return code
    view = HeardView(
        fleet=workspace.fleet.name,
        total=found.total,
        devices=found.devices,
        anomalies=found.anomalies,
        every=args.all,
        where=common.workspace_words(args),
        given=message_arguments.further_words(args),
    )
    common.show(view, args)
    return code or int(any(d.count("contradicted") or d.differing for d in found.devices))


def _own(args: argparse.Namespace, workspace: Workspace) -> int:
    """Compare the messages that devices kept themselves with what arrived."""
    from ivrel.output.views.own import OwnView

    found = workspace.kept(_logs(args), message_arguments.message_files(args, args.file))
    code = common.problems_told(found.problems)
    if code and not found.devices:
        return code
    view = OwnView(
        devices=found.devices,
        most=0 if args.all else KEPT_SHOWN,
        where=common.workspace_words(args),
    )
    common.show(view, args)
    return code or int(view.is_odd)


def _logs(args: argparse.Namespace) -> dict[str, list[str]]:
    """Return the files of the logs that devices kept, by device."""
    from ivrel.core.vocabulary.errors import InputError

    files: dict[str, list[str]] = {}
    for word in args.own:
        name, equals, file = word.partition("=")
        if not equals or not file:
            raise InputError(f"--own: '{word[:60]}' is not DEVICE=FILE")
        files.setdefault(name, []).append(file)
    return files
