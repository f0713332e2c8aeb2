"""`ivrel trace FILE`: one message through every decision."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from ivrel.cli import common, evidence
from ivrel.cli.parsing import Parser

if TYPE_CHECKING:
    from ivrel.core.evidence.claims import Claim
    from ivrel.output.views.messages import Seen
    from ivrel.sources.workspace import Workspace


def arguments(parser: Parser) -> None:
    """Add the arguments of the command."""
    common.workspace_argument(parser)
    parser.add_argument("file", help="message file; '-' reads standard input")
    which = parser.add_mutually_exclusive_group(required=True)
    which.add_argument("--line", type=_number, metavar="N", help="show the message in this line")
    which.add_argument("--last", action="store_true", help="show the last message")
    parser.add_argument(
        "--device", metavar="NAME", help="with --last: the last message of this device"
    )
    evidence.record_arguments(parser)
    common.format_argument(parser)
    common.example(
        parser,
        "ivrel trace collector.log --line 17",
        "ivrel trace collector.log --last --device tarsk-fw2",
    )
    parser.set_defaults(run=run)


def _number(text: str) -> int:
    if not (text.isascii() and text.isdigit()) or not int(text[:12]) > 0:
        raise argparse.ArgumentTypeError(f"'{text[:40]}' is not the number of a line")
    return int(text)


def run(args: argparse.Namespace) -> int:
    """Run the command and return its exit code."""
    from ivrel.core.vocabulary.errors import InputError
    from ivrel.output.views.messages import TraceView

    if args.device and not args.last:
        raise InputError("--device says whose last message is meant; give it with --last")
    workspace = evidence.workspace_of(args)
    if args.device and workspace is not None:
        from ivrel.core.fleet import DeviceSelection, choose

        choose(workspace.fleet, DeviceSelection((args.device,)))
    messages = evidence.opened(args, (args.file,))
    found: Seen | None = None
    for seen in evidence.seen_in(messages, evidence.directory_of(workspace), args.zone):
        if args.last and args.device in (None, seen.found.device):
            found = seen
        elif seen.record.line == args.line:
            found = seen
            break
    if found is None:
        code = evidence.told_problems(messages)
        of = f" of {args.device}" if args.device else ""
        what = f"line {args.line} holds no message" if args.line else f"no message{of} in it"
        raise InputError(f"{args.file}: {what}") if not code else SystemExit(code)
    claims, collector = _claims(args, workspace, found)
    common.show(TraceView(seen=found, claims=claims, collector=collector), args)
    return evidence.told_problems(messages)


def _claims(
    args: argparse.Namespace, workspace: Workspace | None, seen: Seen
) -> tuple[tuple[Claim, ...], str]:
    """Return what the message alone claims of each setting that messages can tell of, and the
    collector that it went to.
    """
    from ivrel.core.evidence.arrival import Arrival
    from ivrel.core.evidence.claims import JUDGED, claims_of
    from ivrel.core.evidence.summary import Evidence

    if workspace is None or not seen.found.device or not workspace.has_policy:
        return (), ""
    policy, record = workspace.policy, seen.record
    collector = evidence.collector_of(policy, record)
    alone = Evidence(evidence.tells_of(workspace))
    alone.add(Arrival(record, seen.found, seen.when, collector, args.zone))
    device = next(d for d in workspace.fleet.devices if d.name == seen.found.device)
    claims = claims_of(device, policy, alone)
    return tuple(claim for claim in claims if claim.setting in JUDGED), collector
