"""`ivrel read DEVICE…`: what was understood of configurations."""

from __future__ import annotations

import argparse

from ivrel.cli import common
from ivrel.cli.parsing import Parser


def arguments(parser: Parser) -> None:
    """Add the arguments of the command."""
    common.workspace_argument(parser)
    parser.add_argument("device", nargs="+", help="device names or globs (default: all devices)")
    common.choice_arguments(parser, devices=False)
    common.setting_argument(parser)
    common.format_argument(parser)
    common.by_argument(parser)
    common.text_argument(parser)
    common.example(
        parser,
        "ivrel read tarsk-fw2",
        "ivrel read tarsk-fw2 --setting level --format json",
        "ivrel read '*' --by platform --setting stamp",
    )
    parser.set_defaults(run=run)


def run(args: argparse.Namespace) -> int:
    """Run the command and return its exit code."""
    from ivrel.core.vocabulary.errors import Unreadable
    from ivrel.output.views.reading import ReadingsView, ReadingView

    workspace = common.open_workspace(args)
    devices = common.chosen(args, workspace)
    by = common.folding_of(args)
    common.given_text(args, workspace, devices)
    where = common.workspace_words(args)
    if len(devices) == 1 and not by:
        reading = workspace.read(devices[0], args.setting)
        further = f"ivrel explain{where} {devices[0].name}"
        common.show(ReadingView(reading=reading, next=(further,)), args)
        return 0
    readings = []
    unread = []
    for device in workspace.options.reported(devices, len(devices), "reading"):
        try:
            readings.append(workspace.read(device, args.setting))
        except Unreadable as problem:
            unread.append((device.name, str(problem)))
    view = ReadingsView(
        fleet=workspace.fleet.name,
        readings=tuple(readings),
        unread=tuple(unread),
        by=by,
        every=args.all,
        next=(f"ivrel audit{where}{common.chosen_words(args)}",),
    )
    common.show(view, args)
    return 1 if unread else 0
