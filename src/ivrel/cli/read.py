"""`ivrel read DEVICE`: what was understood of one configuration."""

from __future__ import annotations

import argparse

from ivrel.cli import common


def arguments(parser: argparse.ArgumentParser) -> None:
    common.workspace_argument(parser)
    parser.add_argument("device", help="the name of one device")
    common.setting_argument(parser)
    common.format_argument(parser)
    common.text_argument(parser)
    common.example(parser, "ivrel read tarsk-fw2", "ivrel read tarsk-fw2 --setting level --format json")
    parser.set_defaults(run=run)


def run(args: argparse.Namespace) -> int:
    from ivrel.core.reading.records import read_records
    from ivrel.core.settings import Scope, read_settings
    from ivrel.core.vocabulary.errors import Unreadable

    workspace = common.open_workspace(args)
    names = common.settings(args.setting)
    device = common.one_device(args, workspace)
    common.given_text(args, workspace, [device])
    data, file = workspace.text(device)
    try:
        records = read_records(workspace.dialects[device.platform], data)
    except Unreadable as problem:
        raise Unreadable(f"{file}: {problem}") from None
    has_policy = (workspace.folder / "policy.yaml").exists()
    collectors = workspace.policy.collectors if has_policy else {}
    facts = read_settings(Scope(device, records, collectors))
    facts = [fact for fact in facts if not names or fact.setting in names]
    if args.format == "json":
        from ivrel.output import json

        json.show(json.read(device, facts, records.strays, records.place(file)))
    else:
        from ivrel.output.lists import show_reading
        from ivrel.sources.lines import Lines

        lines = Lines(workspace.dialects[device.platform], data)
        width, where = common.columns(args), common.workspace_words(args)
        show_reading(device, facts, records.strays, file, records.place(file), lines.text, width, where)
    return 0
