"""`ivrel heard FILE…`: what the messages of each device prove and contradict."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from ivrel.cli import common, evidence

if TYPE_CHECKING:
    from collections.abc import Iterable, Iterator

    from ivrel.core.evidence.summary import Evidence
    from ivrel.core.fleet import Device
    from ivrel.output.views.heard import DeviceHeard, Oddity
    from ivrel.sources.workspace import Workspace


def arguments(parser: argparse.ArgumentParser) -> None:
    """Add the arguments of the command."""
    common.workspace_argument(parser)
    parser.add_argument("file", nargs="*", help="files of messages; '-' is standard input")
    evidence.at_argument(parser)
    parser.add_argument(
        "--device",
        action="append",
        default=[],
        metavar="NAME",
        help="only this device, or those that a glob means; can be repeated",
    )
    common.choice_arguments(parser, devices=False)
    common.setting_argument(parser)
    evidence.record_arguments(parser)
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
    from ivrel.core.fleet import Choice, choose
    from ivrel.core.vocabulary.errors import InputError
    from ivrel.output.views.heard import HeardView

    workspace = common.open_workspace(args)
    names = common.settings(args.setting)
    choice = Choice(tuple(args.device), tuple(args.kind), tuple(args.site), tuple(args.group))
    devices = choose(workspace.fleet, choice)
    if not args.file and not args.at:
        raise InputError("no file of messages is given; name one, or one of a collector with --at")
    heard, problems = evidence.gathered(args, workspace, args.file)
    claimed = sorted(
        _claimed(devices, heard, workspace, names), key=lambda d: -d.count("contradicted")
    )
    view = HeardView(
        fleet=workspace.fleet.name,
        total=heard.number,
        devices=tuple(claimed),
        oddities=tuple(_oddities(heard, {d.name for d in devices})),
        every=args.all,
        where=common.workspace_words(args),
    )
    common.show(view, args)
    code = max((evidence.told_problems(messages) for messages in problems), default=0)
    return code or int(any(d.count("contradicted") for d in claimed))


def _claimed(
    devices: Iterable[Device], heard: Evidence, workspace: Workspace, names: tuple[str, ...]
) -> Iterator[DeviceHeard]:
    """Yield what was heard of each device, with a claim for each setting that is asked of it."""
    from ivrel.core.evidence.claims import Heard, judged
    from ivrel.core.evidence.summary import Summary
    from ivrel.core.policy import effective
    from ivrel.output.views.heard import DeviceHeard

    for device in devices:
        asked = effective(workspace.policy, device)
        some = {name: r for name, r in asked.items() if not names or name in names}
        summary = heard.devices.get(device.name) or Summary()
        claims = judged(Heard(device, workspace.policy, some, summary))
        yield DeviceHeard(device, summary, tuple(claims))


def _oddities(heard: Evidence, chosen: set[str]) -> Iterator[Oddity]:
    """Yield what is odd about who sent: devices under several addresses, addresses with several
    names, messages that name another device, strangers.
    """
    from ivrel.output.views.heard import Oddity

    for name, summary in sorted(heard.devices.items()):
        if name not in chosen:
            continue
        sources = summary.of("source")
        if len(sources) > 1:
            said = f"{name} sends from {' and '.join(sorted(sources))}"
            number = sum(t.number for t in sources.values())
            rarest = min(sources.values(), key=lambda t: t.number)
            yield Oddity("several addresses", name, said, number, rarest.first)
        for other, tally in summary.of("conflict").items():
            said = f"{name} sends what names {other}"
            yield Oddity("another's name", name, said, tally.number, tally.first)
    names: dict[str, list[str]] = {}
    for value in heard.senders.of("names"):
        address, _, name = value.partition(" ")
        names.setdefault(address, []).append(name)
    for address, several in sorted(names.items()):
        if len({name.lower().partition(".")[0] for name in several}) > 1:
            tallies = [heard.senders.of("names")[f"{address} {name}"] for name in several]
            said = f"{address} calls itself {' and '.join(sorted(several))}"
            number = sum(t.number for t in tallies)
            rarest = min(tallies, key=lambda t: t.number)
            yield Oddity("several names", address, said, number, rarest.first)
    for called, tally in heard.strangers.of("called").items():
        said = f"{called} is no device of the fleet"
        yield Oddity("stranger", called, said, tally.number, tally.first)
