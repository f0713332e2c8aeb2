"""`ivrel correct`: corrections, back-outs and the change sheet, each proved on the text at hand."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING

from ivrel.cli import common

if TYPE_CHECKING:
    from collections.abc import Sequence
    from datetime import date

    from ivrel.core.correcting import Correction


CHANGES = ("change.txt", "backout.txt")
SUMMARY, SHEET = "corrections.json", "change-sheet.md"


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
    from ivrel.cli.jobs import Correcting, NotCorrected
    from ivrel.core.vocabulary.errors import InputError
    from ivrel.output import json
    from ivrel.output.correct import show_corrections
    from ivrel.runners import through
    from ivrel.sources.files import claim_folder

    workspace = common.open_workspace(args)
    names = common.settings(args.setting)
    devices, policy, today = common.chosen(args, workspace), workspace.policy, common.day(args)
    common.given_text(args, workspace, devices)
    if args.output:
        clash = next((d.name for d in devices if d.name in (SUMMARY, SHEET)), None)
        if clash:
            raise InputError(f"a device is called '{clash}', as a file of the corrections is; give it another name")
        claim_folder(Path(args.output), args.replace)
    corrections: list[Correction] = []
    unread: list[tuple[str, str]] = []
    found = through(Correcting(workspace, today, names), devices)
    for done in common.progress(found, len(devices), "correcting"):
        if isinstance(done, NotCorrected):
            unread.append((done.device, done.problem))
        else:
            corrections.append(done)
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
    from ivrel.sources.files import NewFolder, write_text

    with NewFolder(folder, _is_own) as new:
        for c in corrections:
            for name, text in zip(CHANGES, (c.change, c.backout), strict=True) if c.changes else ():
                write_text(new / c.device / (name if c.proved else f"unproved-{name}"), text)
        write_text(new / SUMMARY, json.text(json.corrections(fleet, corrections, unread)))
        write_text(new / SHEET, change_sheet(fleet, policy, corrections, unread, today))


def _is_own(path: Path) -> bool:
    """Whether something in a folder of corrections is what an earlier call wrote there."""
    if not path.is_dir():
        return path.name in (SUMMARY, SHEET)
    every = {*CHANGES, *(f"unproved-{name}" for name in CHANGES)}
    return all(inner.name in every for inner in path.iterdir())
