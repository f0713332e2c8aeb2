"""`ivrel heard FILE…`: what the messages of each device prove and contradict."""

from __future__ import annotations

import argparse

from ivrel.cli import common, evidence


def arguments(parser: argparse.ArgumentParser) -> None:
    """Add the arguments of the command."""
    common.workspace_argument(parser)
    parser.add_argument("file", nargs="*", help="files of messages; '-' is standard input")
    evidence.at_argument(parser)
    evidence.device_arguments(parser)
    common.setting_argument(parser)
    evidence.record_arguments(parser)
    common.scheduler_arguments(parser, "records")
    common.format_argument(parser, "table", "json", "jsonl", "csv")
    parser.add_argument("--all", action="store_true", help="show all, also of a large fleet")
    common.example(
        parser,
        "ivrel heard --at beacon-a=beacon-a.log --at beacon-b=beacon-b.log.gz",
        "ivrel heard recording.jsonl --site tarsk --setting level --setting stamp",
        "zcat old.gz | ivrel heard - --format csv",
    )
    parser.set_defaults(run=run)


def run(args: argparse.Namespace) -> int:
    """Run the command and return its exit code."""
    from ivrel.core.evidence.claims import claims_of
    from ivrel.core.evidence.oddities import oddities
    from ivrel.core.evidence.summary import Evidence, Summary
    from ivrel.core.vocabulary.errors import InputError
    from ivrel.output.views.heard import DeviceHeard, HeardView

    workspace = common.open_workspace(args)
    names = common.settings(args.setting)
    devices = common.chosen(args, workspace)
    if not args.file and not args.at:
        raise InputError("no file of messages is given; name one, or one of a collector with --at")
    heard, problems = evidence.gathered(args, workspace, args.file, Evidence)
    code = max((evidence.told_problems(messages) for messages in problems), default=0)
    if code and not heard.number:
        return code
    claimed = []
    for device in devices:
        found = claims_of(device, workspace.policy, heard)
        some = tuple(claim for claim in found if not names or claim.setting in names)
        summary = heard.devices.get(device.name) or Summary()
        claimed.append(DeviceHeard(device, summary, some))
    claimed.sort(key=lambda d: -d.count("contradicted"))
    view = HeardView(
        fleet=workspace.fleet.name,
        total=heard.number,
        devices=tuple(claimed),
        oddities=tuple(oddities(heard, {d.name for d in devices})),
        every=args.all,
        where=common.workspace_words(args),
    )
    common.show(view, args)
    return code or int(any(d.count("contradicted") for d in claimed))
