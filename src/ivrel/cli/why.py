"""`ivrel why DEVICE [SETTING]`: all that is known of one device, on one page."""

from __future__ import annotations

import argparse

from ivrel.cli import common, message_arguments
from ivrel.cli.parsing import Parser


def arguments(parser: Parser) -> None:
    """Add the arguments of the command."""
    common.workspace_argument(parser)
    parser.add_argument("device", help="the name of one device")
    parser.add_argument("setting", nargs="?", help="verdicts and claims about this setting alone")
    common.format_argument(parser)
    common.policy_argument(parser)
    common.today_argument(parser)
    message_arguments.beside_arguments(parser)
    common.scheduler_arguments(parser, "records")
    common.example(
        parser,
        "ivrel why tarsk-fw2 --at beacon-a=beacon-a.jsonl",
        "ivrel why holmsay-gw1 facility --heard heard/*.jsonl",
    )
    parser.set_defaults(run=run)


def run(args: argparse.Namespace) -> int:
    """Run the command and return its exit code."""
    from ivrel.output.views.why import WhyView

    workspace = common.open_workspace(args)
    device = workspace.device(args.device)
    messages = message_arguments.message_files(args, args.heard)
    found = workspace.why(device, [args.setting] if args.setting else [], messages)
    where = common.judging_words(args)
    settings = workspace.policy.settings
    wrong = next((x for x in found.lines if x.state == "bad" and x.about in settings), None)
    at = next((x.where for x in found.lines if x.part == "messages" and x.where), "")
    further = [f"ivrel explain{where} {device.name} {wrong.about}"] if wrong else []
    if at:
        file, _, line = at.rpartition(":")
        further.append(f"ivrel trace{common.workspace_words(args)} {file} --line {line}")
    if not any(x.part == "messages" and x.state == "good" for x in found.lines):
        further.append(f"ivrel gather{common.workspace_words(args)} --device {device.name} --since")
    view = WhyView(device=device, lines=found.lines, next=tuple(further))
    common.show(view, args)
    return common.problems_told(found.problems) or int(not found.is_good)
