"""`ivrel fleet`: the devices, and whether each one's configuration is found."""

from __future__ import annotations

import argparse

from ivrel.cli import common
from ivrel.cli.parsing import Parser


def arguments(parser: Parser) -> None:
    """Add the arguments of the command."""
    common.workspace_argument(parser)
    common.choice_arguments(parser)
    common.format_argument(parser)
    common.by_argument(parser)
    common.example(parser, "ivrel fleet --kind firewall --site tarsk", "ivrel fleet --by platform")
    parser.set_defaults(run=run)


def run(args: argparse.Namespace) -> int:
    """Run the command and return its exit code."""
    from ivrel.output.views.fleet import FleetView
    from ivrel.output.views.folding import ONE_BY_ONE

    workspace = common.open_workspace(args)
    devices = common.chosen(args, workspace)
    rows = [(device, workspace.configuration(device)) for device in devices]
    by = common.folding_of(args)
    if not by and len(rows) > ONE_BY_ONE and not args.all:
        by = "site"
    where = common.workspace_words(args)
    ways = workspace.reaches(devices)
    missing = any(file is None for _, file in rows)
    further = f"ivrel {'gather' if ways and missing else 'audit'}{where}"
    view = FleetView(
        fleet=workspace.fleet.name, rows=tuple(rows), by=by, ways=ways, next=(further,)
    )
    common.show(view, args)
    return 0 if all(file for _, file in rows) else 1
