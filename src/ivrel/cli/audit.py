"""`ivrel audit`: verdicts as a matrix of devices and settings, then the findings."""

from __future__ import annotations

import argparse

from ivrel.cli import common, message_arguments
from ivrel.cli.parsing import Parser
from ivrel.output.machine.formats import AUDIT


def arguments(parser: Parser) -> None:
    """Add the arguments of the command."""
    common.workspace_argument(parser)
    common.choice_arguments(parser)
    common.setting_argument(parser)
    common.format_argument(parser, AUDIT)
    common.policy_argument(parser)
    common.today_argument(parser)
    common.text_argument(parser)
    common.by_argument(parser, "rule")
    common.scheduler_arguments(parser)
    message_arguments.beside_arguments(parser)
    common.example(
        parser,
        "ivrel audit",
        "ivrel audit 'mv-*' --setting level --setting stamp",
        "ivrel audit --by site",
        "ivrel audit --policy tighter.yaml",
        "zcat yesterday.gz | ivrel audit tarsk-fw2 --text -",
        "ivrel audit --kind firewall --format jsonl",
        "ivrel audit --at beacon-a=heard/beacon-a.jsonl",
    )
    parser.set_defaults(run=run)


def run(args: argparse.Namespace) -> int:
    """Run the command and return its exit code."""
    from ivrel.output.views.audit import AuditView

    by = common.folding_of(args)
    workspace = common.open_workspace(args)
    devices = common.chosen(args, workspace)
    common.given_text(args, workspace, devices)
    messages = message_arguments.message_files(args, args.heard)
    audit = workspace.audit(args.setting, messages=messages, devices=devices)
    results = iter(audit)
    view = AuditView(
        fleet=workspace.fleet.name,
        policy=workspace.policy,
        results=results,
        remarks=audit.remarks,
        text_of=audit.text_of,
        by=by,
        every=args.all,
        where=common.judging_words(args),
        proved=audit.proved,
    )
    common.show(view, args)
    # If nobody reads on, the exit code still depends on the devices that are left.
    for _ in results:
        pass
    code = common.problems_told(audit.problems)
    common.remarks_told(audit.message_remarks)
    return code or int(not audit.is_good)
