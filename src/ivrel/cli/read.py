"""`ivrel read DEVICE…`: what was understood of configurations."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from ivrel.cli import common
from ivrel.cli.parsing import Parser

if TYPE_CHECKING:
    from ivrel.core.fleet import Device
    from ivrel.output.views.reading import ReadingView
    from ivrel.sources.workspace import Workspace


def arguments(parser: Parser) -> None:
    """Add the arguments of the command."""
    common.workspace_argument(parser)
    parser.add_argument("device", nargs="+", help="device names or globs (default: all devices)")
    common.choice_arguments(parser, devices=False)
    common.setting_argument(parser)
    common.format_argument(parser)
    common.by_argument(parser)
    common.text_argument(parser)
    common.example(
        parser,
        "ivrel read tarsk-fw2",
        "ivrel read tarsk-fw2 --setting level --format json",
        "ivrel read '*' --by platform --setting stamp",
    )
    parser.set_defaults(run=run)


def run(args: argparse.Namespace) -> int:
    """Run the command and return its exit code."""
    from ivrel.core.vocabulary.errors import Unreadable
    from ivrel.output.views.reading import ReadingsView

    workspace = common.open_workspace(args)
    names = common.settings(args.setting)
    devices, by = common.chosen(args, workspace), common.folding_of(args)
    common.given_text(args, workspace, devices)
    where = common.workspace_words(args)
    if len(devices) == 1 and not by:
        common.show(_reading(workspace, devices[0], names, where), args)
        return 0
    readings, unread = [], []
    for device in common.progress(devices, len(devices), "reading"):
        try:
            readings.append(_reading(workspace, device, names, where))
        except Unreadable as problem:
            unread.append((device.name, str(problem)))
    view = ReadingsView(
        fleet=workspace.fleet.name,
        readings=tuple(readings),
        unread=tuple(unread),
        by=by,
        every=args.all,
        next=(f"ivrel audit{where}{common.chosen_words(args)}",),
    )
    common.show(view, args)
    return 1 if unread else 0


def _reading(
    workspace: Workspace, device: Device, names: tuple[str, ...], where: str
) -> ReadingView:
    """Return what one configuration says of some settings; of all, if none is named."""
    from ivrel.core.reading import read_records
    from ivrel.core.settings import Scope
    from ivrel.core.settings.relevance import facts_in_doubt
    from ivrel.core.vocabulary.errors import Unreadable
    from ivrel.output.views.reading import ReadingView
    from ivrel.sources.lines import Lines

    data, file = workspace.text(device)
    dialect = workspace.dialects.of(device.platform)
    try:
        records = read_records(dialect, data)
    except Unreadable as problem:
        raise Unreadable(f"{file}: {problem}") from None
    # A configuration can be read without a policy, which only names the collectors in it.
    has_policy = (workspace.folder / "policy.yaml").exists()
    collectors = workspace.policy.collectors if has_policy else {}
    facts = facts_in_doubt(Scope(device, records, collectors))
    return ReadingView(
        device=device,
        facts=tuple(fact for fact in facts if not names or fact.setting in names),
        unparsed=records.unparsed,
        file=file,
        places=records.place(file),
        text_of=Lines(dialect, data).text,
        next=(f"ivrel explain{where} {device.name}",),
    )
