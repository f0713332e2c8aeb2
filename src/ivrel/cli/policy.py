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
    from ivrel.core.judging.remarks import remarks
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
    # A policy can be checked before there is a fleet.
    has_fleet = any((workspace.folder / name).exists() for name in ("fleet.yaml", "fleet.csv"))
    devices = workspace.fleet.devices if has_fleet else ()
    dialects = {name: workspace.dialects[name] for name in {d.platform: None for d in devices}}
    found = remarks(policy, devices, common.day(args), dialects)
    code = 1 if any(r.wrong for r in found) else 0
    if args.format == "json":
        json.show(json.policy(policy, found))
        return code
    from ivrel.output.lists import show_policy

    matches = [sum(1 for d in devices if rule.holds_for(d)) for rule in policy.rules]
    width, where = common.columns(args), common.workspace_words(args)
    first = devices[0].name if devices else ""
    show_policy(policy, matches if devices else None, found, common.day(args), width, where, first)
    return code
