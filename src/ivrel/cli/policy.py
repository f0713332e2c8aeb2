"""`ivrel policy [DEVICE]`: checks the policy; shows it as it holds for one device."""

from __future__ import annotations

import argparse

from ivrel.cli import common


def arguments(parser: argparse.ArgumentParser) -> None:
    common.workspace_argument(parser)
    parser.add_argument("device", nargs="?", help="the name of one device")
    common.format_argument(parser)
    common.today_argument(parser)
    common.example(parser, "ivrel policy", "ivrel policy tarsk-fw2")
    parser.set_defaults(run=run)


def run(args: argparse.Namespace) -> int:
    from ivrel.core.policy import effective
    from ivrel.output import json

    workspace = common.open_workspace(args)
    policy = workspace.policy
    if args.device:
        device = common.one_device(args, workspace)
        asked = list(effective(policy, device).values())
        if args.format == "json":
            json.show(json.requirements(device, policy, asked))
        else:
            from ivrel.output.lists import show_requirements

            show_requirements(device, policy, asked, common.columns(args), common.workspace_words(args))
        return 0
    if args.format == "json":
        json.show(json.policy(policy))
        return 0
    from ivrel.output.lists import show_policy

    devices = workspace.fleet.devices
    matches = [sum(1 for d in devices if rule.holds_for(d)) for rule in policy.rules]
    width, where = common.columns(args), common.workspace_words(args)
    show_policy(policy, matches, common.day(args), width, where, devices[0].name)
    return 0
