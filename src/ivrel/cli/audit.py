"""`ivrel audit`: verdicts as a matrix of devices and settings, then the findings."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from ivrel.cli import common

if TYPE_CHECKING:
    from collections.abc import Iterator

    from ivrel.core.judging import DeviceResult

# What --format knows besides tables, and the module of `output` that writes it.
FORMATS = {
    "json": "json",
    "jsonl": "jsonl",
    "csv": "csv",
    "md": "markdown",
    "sarif": "sarif",
    "junit": "junit",
    "openmetrics": "openmetrics",
}
BY = ("site", "kind", "platform", "rule")


def arguments(parser: argparse.ArgumentParser) -> None:
    common.workspace_argument(parser)
    common.choice_arguments(parser)
    common.setting_argument(parser)
    common.format_argument(parser, "table", *FORMATS)
    common.today_argument(parser)
    common.text_argument(parser)
    parser.add_argument("--by", choices=BY, help="count verdicts by this, and tell findings alike once")
    parser.add_argument("--all", action="store_true", help="show every device, also of a large fleet")
    common.example(
        parser,
        "ivrel audit",
        "ivrel audit 'mv-*' --setting level --setting stamp",
        "ivrel audit --by site",
        "zcat yesterday.gz | ivrel audit tarsk-fw2 --text -",
        "ivrel audit --kind firewall --format jsonl",
    )
    parser.set_defaults(run=run)


def run(args: argparse.Namespace) -> int:
    from msgspec.structs import replace

    from ivrel.cli.jobs import Auditing
    from ivrel.core.judging.remarks import ending
    from ivrel.core.vocabulary.errors import InputError
    from ivrel.runners import through

    if args.by and args.format != "table":
        raise InputError(f"--by counts in a table, and --format is {args.format}; leave one of them out")
    workspace = common.open_workspace(args)
    names = common.settings(args.setting)
    devices, policy = common.chosen(args, workspace), workspace.policy
    common.given_text(args, workspace, devices)
    kept = tuple(w for w in policy.waivers if any(w.covers(d, w.setting) for d in devices))
    waivers = tuple(ending(replace(policy, waivers=kept), common.day(args)))
    good = not any(w.wrong for w in waivers)

    def results() -> Iterator[DeviceResult]:
        nonlocal good
        audited = through(Auditing(workspace, common.day(args)), devices)
        for result in common.progress(audited, len(devices), "auditing"):
            if names:
                result = replace(result, verdicts=tuple(v for v in result.verdicts if v.setting in names))
            good = good and result.good
            yield result

    if args.format != "table":
        from ivrel.output.formats import Audit, show

        show(FORMATS[args.format], Audit(workspace.fleet.name, policy, results()))
    else:
        from ivrel.output.audit import show_audit
        from ivrel.sources.lines import LinesOf

        text_of = LinesOf(workspace, devices)
        width, where = common.columns(args), common.workspace_words(args)
        show_audit(workspace.fleet.name, results(), text_of, width, args.all, where, args.by, waivers)
    return 0 if good else 1
