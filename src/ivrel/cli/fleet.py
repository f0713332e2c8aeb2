"""`ivrel fleet`: the devices, and whether each one's configuration is found."""

from __future__ import annotations

import argparse

from ivrel.cli import common


def arguments(parser: argparse.ArgumentParser) -> None:
    common.workspace_argument(parser)
    common.choice_arguments(parser)
    common.format_argument(parser)
    common.example(parser, "ivrel fleet --kind firewall --site tarsk")
    parser.set_defaults(run=run)


def run(args: argparse.Namespace) -> int:
    workspace = common.open_workspace(args)
    rows = []
    for device in common.chosen(args, workspace):
        file = workspace.configuration(device)
        found = file is not None and (workspace.folder / file).exists()
        rows.append((device, file if found else None))
    if args.format == "json":
        from ivrel.output import json

        json.show(json.fleet(workspace.fleet.name, rows))
    else:
        from ivrel.output.lists import show_fleet

        show_fleet(workspace.fleet, rows, common.columns(args), common.workspace_words(args))
    return 0 if all(file for _, file in rows) else 1
