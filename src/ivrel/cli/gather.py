"""`ivrel gather`: fetches the configurations from the devices."""

from __future__ import annotations

import argparse
import time
from typing import TYPE_CHECKING

from ivrel.cli import common
from ivrel.cli.bar import Bar
from ivrel.cli.parsing import Parser
from ivrel.output.machine.formats import ROWS

if TYPE_CHECKING:
    from collections.abc import Sequence

    from ivrel.core.fleet import Device
    from ivrel.work.workspace import Workspace


def arguments(parser: Parser) -> None:
    """Add the arguments of the command."""
    common.workspace_argument(parser)
    common.choice_arguments(parser)
    common.format_argument(parser, ROWS)
    common.at_once_argument(parser)
    parser.add_argument(
        "--since", action="store_true", help="show the statements that changed since the last time"
    )
    parser.add_argument(
        "--state",
        action="store_true",
        help="also keep what each device shows of its present state: where it sends, its counters",
    )
    parser.add_argument(
        "--learn-keys",
        action="store_true",
        help="show the devices' host keys, and record those not known yet",
    )
    parser.add_argument(
        "--rename-ok",
        action="store_true",
        help="accept configurations that name another device",
    )
    parser.add_argument(
        "--shrunk-ok",
        action="store_true",
        help="accept configurations that lost most of their statements since the last time",
    )
    parser.add_argument("--all", action="store_true", help="list unchanged devices too")
    common.example(
        parser,
        "ivrel gather --learn-keys --site tarsk",
        "ivrel gather",
        "ivrel gather --state --site tarsk",
        "ivrel gather --since --kind firewall --at-once 10",
    )
    parser.set_defaults(run=run)


def run(args: argparse.Namespace) -> int:
    """Run the command and return its exit code."""
    with Bar() as bar:
        workspace = common.open_workspace(args, bar)
        devices = common.chosen(args, workspace)
        if args.learn_keys:
            return _learn(args, workspace, devices, bar)
        return _gather(args, workspace, devices, bar)


def _gather(
    args: argparse.Namespace, workspace: Workspace, devices: Sequence[Device], bar: Bar
) -> int:
    from ivrel.output.views.gathered import GatheredView
    from ivrel.work.gathering import GatherOptions

    begun = time.monotonic()
    how = GatherOptions(args.at_once, args.since, args.rename_ok, args.shrunk_ok, args.state)
    found = workspace.gather(how, devices=devices)
    bar.pause()
    where = common.workspace_words(args)
    failed = [d for d in found if d.problem]
    further = []
    if any("--learn-keys" in d.problem for d in failed):
        further.append(f"ivrel gather{where} --learn-keys")
    displayed = [d for d in found if d.display]
    if displayed:
        further.append(f"ivrel why{where} {displayed[0].device}")
    if len(failed) < len(found):
        further.append(f"ivrel audit{where}")
    view = GatheredView(
        fleet=workspace.fleet.name,
        devices=found,
        tells_how=args.since,
        seconds=time.monotonic() - begun,
        every=args.all,
        next=tuple(further),
    )
    common.show(view, args)
    # Devices of a platform without dialect are not in it.
    is_missing = any(d.no_display for d in found)
    return int(bool(failed) or is_missing or len(found) < len(devices))


def _learn(
    args: argparse.Namespace, workspace: Workspace, devices: Sequence[Device], bar: Bar
) -> int:
    """Show the host keys, and record those that are not known."""
    from ivrel.output.views.gathered import HostKeysView

    found = workspace.learn_host_keys(args.at_once, devices=devices)
    bar.pause()
    further = f"ivrel gather{common.workspace_words(args)}{common.chosen_words(args)}"
    view = HostKeysView(keys=found.keys, file=found.file, every=args.all, next=(further,))
    common.show(view, args)
    is_missing = bool(workspace.without_dialect(devices))
    return int(is_missing or any(k.state not in ("learnt", "known") for k in found.keys))
