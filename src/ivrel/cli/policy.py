"""`ivrel policy [DEVICE]`: checks the policy; shows it as it holds for one device."""

from __future__ import annotations

import argparse

from ivrel.cli import common


def arguments(parser: argparse.ArgumentParser) -> None:
    """Add the arguments of the command."""
    common.workspace_argument(parser)
    parser.add_argument("device", nargs="?", help="the name of one device")
    common.format_argument(parser)
    common.today_argument(parser)
    common.example(parser, "ivrel policy", "ivrel policy tarsk-fw2")
    parser.set_defaults(run=run)


def run(args: argparse.Namespace) -> int:
    """Run the command and return its exit code."""
    from ivrel.core.judging.remarks import remarks
    from ivrel.core.policy import effective
    from ivrel.output.views.policy import PolicyView, RequirementsView

    workspace = common.open_workspace(args)
    policy = workspace.policy
    if args.device:
        device = common.one_device(args, workspace)
        asked = list(effective(policy, device).values())
        where = common.workspace_words(args)
        of_device = RequirementsView(
            device=device,
            policy=policy,
            asked=tuple(asked),
            next=(f"ivrel explain{where} {device.name}",),
        )
        common.show(of_device, args)
        return 0
    # A policy can be checked before there is a fleet.
    has_fleet = any((workspace.folder / name).exists() for name in ("fleet.yaml", "fleet.csv"))
    devices = workspace.fleet.devices if has_fleet else ()
    dialects = {name: workspace.dialects[name] for name in {d.platform: None for d in devices}}
    found = remarks(policy, devices, common.day(args), dialects)
    code = 1 if any(r.wrong for r in found) else 0
    where = common.workspace_words(args)
    further: tuple[str, ...] = (f"ivrel fleet{where}",)
    matches = None
    if devices:
        further = (f"ivrel policy{where} {devices[0].name}", f"ivrel audit{where}")
        matches = tuple(sum(1 for d in devices if rule.holds_for(d)) for rule in policy.rules)
    view = PolicyView(
        policy=policy,
        matches=matches,
        remarks=tuple(found),
        today=common.day(args),
        next=further,
    )
    common.show(view, args)
    return code
