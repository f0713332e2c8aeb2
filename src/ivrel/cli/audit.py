"""`ivrel audit`: verdicts as a matrix of devices and settings, then the findings."""

from __future__ import annotations

import argparse

from ivrel.cli import common


def arguments(parser: argparse.ArgumentParser) -> None:
    common.workspace_argument(parser)
    common.choice_arguments(parser)
    common.setting_argument(parser)
    common.format_argument(parser)
    common.today_argument(parser)
    parser.add_argument("--all", action="store_true", help="show every device, also of a large fleet")
    common.example(
        parser,
        "ivrel audit",
        "ivrel audit 'mv-*' --setting level --setting stamp",
        "ivrel audit --kind firewall --format json",
    )
    parser.set_defaults(run=run)


def run(args: argparse.Namespace) -> int:
    from msgspec.structs import replace

    workspace = common.open_workspace(args)
    names = common.settings(args.setting)
    devices = common.chosen(args, workspace)
    results = []
    audited = workspace.audit(devices, common.day(args))
    for result in common.progress(audited, len(devices), "auditing"):
        if names:
            kept = tuple(v for v in result.verdicts if v.setting in names)
            result = replace(result, verdicts=kept)
        results.append(result)
    if args.format == "json":
        from ivrel.output import json

        json.show(json.audit(workspace.fleet.name, results))
    else:
        from ivrel.output.audit import show_audit
        from ivrel.sources.lines import LinesOf

        text_of = LinesOf(workspace, devices)
        width, where = common.columns(args), common.workspace_words(args)
        show_audit(workspace.fleet.name, results, text_of, width, args.all, where)
    return 0 if all(r.good for r in results) else 1
