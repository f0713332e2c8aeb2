"""`ivrel heard FILE…`: what the messages of each device prove and contradict."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from ivrel.cli import common, evidence
from ivrel.cli.parsing import Parser

if TYPE_CHECKING:
    from ivrel.sources.messages import Messages
    from ivrel.sources.workspace import Workspace


def arguments(parser: Parser) -> None:
    """Add the arguments of the command."""
    common.workspace_argument(parser)
    parser.add_argument("file", nargs="*", help="message files; '-' reads standard input")
    evidence.at_argument(parser)
    parser.add_argument(
        "--own",
        action="append",
        default=[],
        metavar="DEVICE=FILE",
        help="the log this device kept itself, as text: report what became of "
        "each message; can be repeated",
    )
    evidence.device_arguments(parser)
    common.setting_argument(parser)
    evidence.record_arguments(parser)
    common.scheduler_arguments(parser, "records")
    common.format_argument(parser, "table", "json", "jsonl", "csv")
    parser.add_argument(
        "--all", action="store_true", help="list everything, even for a large fleet"
    )
    common.example(
        parser,
        "ivrel heard --at beacon-a=beacon-a.log --at beacon-b=beacon-b.log.gz",
        "ivrel heard recording.jsonl --site tarsk --setting level --setting stamp",
        "ivrel heard --at beacon-a=beacon-a.jsonl --own tarsk-fw2=memory.txt",
        "zcat old.gz | ivrel heard - --format csv",
    )
    parser.set_defaults(run=run)


def run(args: argparse.Namespace) -> int:
    """Run the command and return its exit code."""
    from ivrel.core.evidence.anomalies import anomalies
    from ivrel.core.evidence.claims import claims_of
    from ivrel.core.evidence.summary import Summary
    from ivrel.core.vocabulary.errors import InputError
    from ivrel.output.views.heard import DeviceHeard, HeardView

    workspace = common.open_workspace(args)
    names = common.settings(args.setting)
    devices = common.chosen(args, workspace)
    if not args.file and not args.at:
        raise InputError("no file of messages is given; name one, or one of a collector with --at")
    if args.own:
        return _own(args, workspace)
    heard, problems = evidence.heard(args, workspace, args.file)
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
        anomalies=tuple(anomalies(heard, {d.name for d in devices})),
        every=args.all,
        where=common.workspace_words(args),
    )
    common.show(view, args)
    return code or int(any(d.count("contradicted") for d in claimed))


KEPT_SHOWN = 12  # messages of a state that a terminal shows, unless all are asked for


def _own(args: argparse.Namespace, workspace: Workspace) -> int:
    """Hold what devices kept themselves against what came."""
    from ivrel.core.evidence.own import held_against
    from ivrel.output.views.own import DeviceKept, OwnView

    kept = _kept(args, workspace)
    came = evidence.arrived(args, workspace, args.file, set(kept))
    problems, shown = [*came.gone, *kept.values()], []
    for device, messages in kept.items():
        records = list(messages)
        for collector, covered in came.covered.items():
            some = came.messages[device, collector]
            found = held_against(records, collector, some, covered, args.zone)
            times = [one.stamped for one in found if one.stamped is not None]
            within = [
                one
                for one in some
                if times and one.when is not None and min(times) <= one.when <= max(times)
            ]
            taken = {id(one) for k in found for one in k.arrived}
            unkept = sum(1 for one in within if id(one) not in taken)
            shown.append(DeviceKept(device, collector, tuple(found), len(some), unkept))
    code = max((evidence.told_problems(messages) for messages in problems), default=0)
    if code and not shown:
        return code
    view = OwnView(
        devices=tuple(shown),
        most=0 if args.all else KEPT_SHOWN,
        where=common.workspace_words(args),
    )
    common.show(view, args)
    return code or int(view.is_odd)


def _kept(args: argparse.Namespace, workspace: Workspace) -> dict[str, Messages]:
    """Return the records that devices kept themselves."""
    from ivrel.core.fleet import DeviceSelection, choose
    from ivrel.core.vocabulary.errors import InputError

    files: dict[str, list[str]] = {}
    for word in args.own:
        name, equals, file = word.partition("=")
        if not equals or not file:
            raise InputError(f"--own: '{word[:60]}' is not DEVICE=FILE")
        choose(workspace.fleet, DeviceSelection((name,)))
        files.setdefault(name, []).append(file)
    return {name: evidence.opened(args, some) for name, some in files.items()}
