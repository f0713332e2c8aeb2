"""`ivrel audit`: verdicts as a matrix of devices and settings, then the findings."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from ivrel.cli import common

if TYPE_CHECKING:
    from collections.abc import Iterator

    from ivrel.core.judging import DeviceResult


def arguments(parser: argparse.ArgumentParser) -> None:
    """Add the arguments of the command."""
    common.workspace_argument(parser)
    common.choice_arguments(parser)
    common.setting_argument(parser)
    from ivrel.output.machine.formats import FORMATS

    common.format_argument(parser, "table", *FORMATS)
    common.today_argument(parser)
    common.text_argument(parser)
    common.by_argument(parser, "rule")
    common.scheduler_arguments(parser)
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
    """Run the command and return its exit code."""
    from msgspec.structs import replace

    from ivrel.cli.jobs import Auditing
    from ivrel.core.judging.remarks import ending
    from ivrel.output.views.audit import AuditView
    from ivrel.runners import through
    from ivrel.sources.lines import LinesOf

    by, cluster = common.folding_of(args), common.cluster_of(args)
    workspace = common.open_workspace(args)
    names = common.settings(args.setting)
    devices, policy = common.chosen(args, workspace), workspace.policy
    common.given_text(args, workspace, devices)
    # Waivers of devices that are not chosen are no reason for an exit code.
    kept = tuple(w for w in policy.waivers if any(w.covers(d, w.setting) for d in devices))
    waivers = tuple(ending(replace(policy, waivers=kept), common.day(args)))
    good = not any(w.wrong for w in waivers)

    def results() -> Iterator[DeviceResult]:
        nonlocal good
        job = Auditing(workspace, common.day(args))
        audited = through(job, devices, cluster, send=args.send)
        for result in common.progress(audited, len(devices), "auditing"):
            if names:
                asked = tuple(v for v in result.verdicts if v.setting in names)
                result = replace(result, verdicts=asked)
            good = good and result.good
            yield result

    view = AuditView(
        fleet=workspace.fleet.name,
        policy=policy,
        results=results(),
        remarks=waivers,
        text_of=LinesOf(workspace, devices),
        by=by,
        every=args.all,
        where=common.workspace_words(args),
    )
    common.show(view, args)
    return 0 if good else 1
