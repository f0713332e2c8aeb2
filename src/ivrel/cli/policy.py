"""`ivrel policy [DEVICE]`: checks the policy; shows it as it holds for one device; tells what
another would change.
"""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from ivrel.cli import common
from ivrel.cli.parsing import Parser

if TYPE_CHECKING:
    from ivrel.work.workspace import Workspace


def arguments(parser: Parser) -> None:
    """Add the arguments of the command."""
    common.workspace_argument(parser)
    parser.add_argument("device", nargs="*", help="device name; with --compare, names or globs")
    common.choice_arguments(parser, devices=False)
    common.setting_argument(parser)
    common.format_argument(parser)
    common.policy_argument(parser)
    parser.add_argument(
        "--compare",
        metavar="OTHER",
        help="show which verdicts and correction lines this policy would change",
    )
    parser.add_argument(
        "--all", action="store_true", help="list everything, even for a large fleet"
    )
    common.today_argument(parser)
    common.example(
        parser,
        "ivrel policy",
        "ivrel policy tarsk-fw2",
        "ivrel policy --compare tighter.yaml --kind firewall",
    )
    parser.set_defaults(run=run)


def run(args: argparse.Namespace) -> int:
    """Run the command and return its exit code."""
    from ivrel.core.vocabulary.errors import InputError

    workspace = common.open_workspace(args)
    if args.compare is not None:
        return _compare(args, workspace)
    for option in ("kind", "site", "group", "setting", "all"):
        if getattr(args, option):
            raise InputError(f"--{option} chooses what is compared; give it with --compare OTHER")
    if len(args.device) > 1:
        raise InputError(f"{len(args.device)} devices; expected one, or --compare OTHER")
    return _of_device(args, workspace) if args.device else _whole(args, workspace)


def _of_device(args: argparse.Namespace, workspace: Workspace) -> int:
    """Show what the policy asks of one device."""
    from ivrel.output.views.policy import RequirementsView

    device = workspace.device(args.device[0])
    view = RequirementsView(
        device=device,
        policy=workspace.policy,
        asked=workspace.requirements(device),
        next=(f"ivrel explain{common.judging_words(args)} {device.name}",),
    )
    common.show(view, args)
    return 0


def _whole(args: argparse.Namespace, workspace: Workspace) -> int:
    """Show the policy, with what to look at in it."""
    from ivrel.output.views.policy import PolicyView

    policy = workspace.policy
    # A policy can be checked before there is a fleet.
    devices = workspace.fleet.devices if workspace.has_fleet else ()
    common.remark_on_platforms(args, workspace, devices)
    found = workspace.policy_remarks()
    where = common.judging_words(args)
    further: tuple[str, ...] = (f"ivrel fleet{common.workspace_words(args)}",)
    matches = None
    if devices:
        further = (f"ivrel policy{where} {devices[0].name}", f"ivrel audit{where}")
        matches = tuple(sum(rule.holds_for(d) for d in devices) for rule in policy.rules)
    view = PolicyView(
        policy=policy,
        matches=matches,
        remarks=found,
        today=workspace.options.today,
        next=further,
    )
    common.show(view, args)
    return 1 if any(r.wrong for r in found) else 0


def _compare(args: argparse.Namespace, workspace: Workspace) -> int:
    """Show what another policy would change; return 1 if it would change anything."""
    from shlex import quote

    from ivrel.output.views.what_if import WhatIfView
    from ivrel.work.comparing import policy_of

    other = policy_of(args.compare)
    devices = common.chosen(args, workspace)
    outcomes = workspace.compare(other, args.setting, devices=devices)
    words = f"{common.workspace_words(args)} --policy {quote(args.compare)}"
    view = WhatIfView(
        fleet=workspace.fleet.name,
        files=(workspace.policy.file, other.file),
        outcomes=outcomes,
        every=args.all,
        next=(f"ivrel correct{words}{common.chosen_words(args)}",),
    )
    common.show(view, args)
    if any(one.problem for one in outcomes):
        return 2
    return int(any(one.differs for one in outcomes))
