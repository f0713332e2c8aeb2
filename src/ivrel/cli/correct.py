"""`ivrel correct`: corrections, back-outs and the change sheet, each proved on the text at hand."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING

from ivrel.cli import common

if TYPE_CHECKING:
    from collections.abc import Sequence
    from datetime import date

    from ivrel.core.correct import Correction


def arguments(parser: argparse.ArgumentParser) -> None:
    common.workspace_argument(parser)
    common.choice_arguments(parser)
    common.setting_argument(parser)
    common.format_argument(parser)
    common.today_argument(parser)
    common.text_argument(parser)
    parser.add_argument("-o", "--output", metavar="DIR", help="write DIR/DEVICE/change.txt and the like")
    parser.add_argument("--replace", action="store_true", help="write into a folder that already holds something")
    parser.add_argument("--all", action="store_true", help="show every device, also of a large fleet")
    common.example(parser, "ivrel correct tarsk-fw2", "ivrel correct --site tarsk -o corrections")
    parser.set_defaults(run=run)


def run(args: argparse.Namespace) -> int:
    from ivrel.core.correct import correct
    from ivrel.core.mistakes import Unreadable
    from ivrel.output import json
    from ivrel.output.correct import show_corrections
    from ivrel.sources.files import claim_folder

    workspace = common.open_workspace(args)
    names = common.settings(args.setting)
    devices, policy, today = common.chosen(args, workspace), workspace.policy, common.day(args)
    common.given_text(args, workspace, devices)
    if args.output:
        claim_folder(Path(args.output), args.replace)
    corrections: list[Correction] = []
    unread: list[tuple[str, str]] = []
    for device in common.progress(devices, len(devices), "correcting"):
        dialect = workspace.dialects[device.platform]
        try:
            data, file = workspace.text(device)
            corrections.append(correct(device, dialect, data, policy, today, file, names))
        except Unreadable as problem:
            unread.append((device.name, str(problem)))
    if args.output:
        write_folder(Path(args.output), workspace.fleet.name, policy.name, corrections, unread, today)
    if args.format == "json":
        json.show(json.corrections(workspace.fleet.name, corrections, unread))
    else:
        words = common.workspace_words(args) + common.chosen_words(args)
        first = next((d for c in corrections if c.changes for d in devices if d.name == c.device), None)
        config = workspace.folder / (workspace.configuration(first) or "") if first else None
        show_corrections(corrections, unread, common.columns(args), words, args.output, str(config), args.all)
    remains = any(r.verdict != "waived" for c in corrections for r in c.remains)
    return 1 if unread or remains or not all(c.proved for c in corrections) else 0


def write_folder(
    folder: Path,
    fleet: str,
    policy: str,
    corrections: Sequence[Correction],
    unread: Sequence[tuple[str, str]],
    today: date,
) -> None:
    """Writes the corrections, each device in a folder of its own; what is not proved has another name."""
    from ivrel.output import json
    from ivrel.output.sheet import change_sheet
    from ivrel.sources.files import write_text

    names = ("change.txt", "backout.txt")
    old: list[Path] = []
    for c in corrections:
        written = [name if c.proved else f"unproved-{name}" for name in names] if c.changes else []
        for name, text in zip(written, (c.change, c.backout), strict=False):
            write_text(folder / c.device / name, text)
        every = (*names, *(f"unproved-{name}" for name in names))
        old += [folder / c.device / name for name in every if name not in written]
    write_text(folder / "corrections.json", json.text(json.corrections(fleet, corrections, unread)))
    write_text(folder / "change-sheet.md", change_sheet(fleet, policy, corrections, unread, today))
    # What an earlier call wrote goes last: if anything before fails, nothing is lost.
    for path in old:
        path.unlink(missing_ok=True)
