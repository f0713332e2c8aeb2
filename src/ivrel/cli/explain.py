"""`ivrel explain DEVICE [SETTING]`: one verdict from both ends."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from ivrel.cli import common, evidence
from ivrel.cli.parsing import Parser

if TYPE_CHECKING:
    from ivrel.core.evidence.claims import Claim
    from ivrel.core.fleet import Device
    from ivrel.sources.messages import Messages
    from ivrel.sources.workspace import Workspace


def arguments(parser: Parser) -> None:
    """Add the arguments of the command."""
    common.workspace_argument(parser)
    parser.add_argument("device", help="the name of one device")
    parser.add_argument(
        "setting", nargs="?", help="a setting (default: all settings the policy asks for)"
    )
    common.format_argument(parser)
    common.policy_argument(parser)
    common.today_argument(parser)
    common.text_argument(parser)
    evidence.beside_arguments(parser)
    common.example(
        parser,
        "ivrel explain tarsk-fw2 level",
        "ivrel explain holmsay-gw1 facility --at beacon-a=beacon-a.jsonl",
    )
    parser.set_defaults(run=run, scheduler="", send=False)


def run(args: argparse.Namespace) -> int:
    """Run the command and return its exit code."""
    from ivrel.cli.deciding import Deciding, left_open
    from ivrel.cli.jobs import Auditing, Correcting, NotCorrected
    from ivrel.core.evidence.beside import beside
    from ivrel.core.policy import effective
    from ivrel.core.vocabulary.errors import InputError
    from ivrel.output.views.explanation import ExplanationView
    from ivrel.sources.lines import LinesOf

    workspace = common.open_workspace(args)
    names = common.settings([args.setting] if args.setting else [])
    device, policy = common.one_device(args.device, workspace), workspace.policy
    common.given_text(args, workspace, [device])
    asked = effective(policy, device)
    for name in names:
        if name not in asked:
            raise InputError(f"the policy asks nothing of {device.name} about {name}")
    today = common.day(args)
    result = Auditing(workspace, today).alone(device)
    if result.problem:
        raise InputError(result.problem)
    claims, problems = _claims(args, workspace, device)
    result = beside(result, claims)
    decided = Deciding(
        workspace,
        today,
        lambda usual: Correcting(workspace, today, (), usual),
        left_open([policy], ()),
        doing="correcting",
    )
    (correction,) = decided.through([device])
    if isinstance(correction, NotCorrected):
        raise InputError(correction.problem)
    verdicts = [v for v in result.verdicts if not names or v.setting in names]
    where = common.judging_words(args)
    wrong = any(v.verdict == "breaks" for v in verdicts)
    view = ExplanationView(
        device=device,
        policy=policy,
        verdicts=tuple(verdicts),
        correction=correction,
        text_of=LinesOf(workspace, (device,)),
        claims=claims,
        next=(f"ivrel correct{where} {device.name}",) if wrong else (),
    )
    common.show(view, args)
    code = max((evidence.told_problems(messages) for messages in problems), default=0)
    return code or int(not all(v.verdict in ("meets", "waived") for v in verdicts))


def _claims(
    args: argparse.Namespace, workspace: Workspace, device: Device
) -> tuple[dict[str, Claim], list[Messages]]:
    """Return what the messages that a call names claim, by setting."""
    from ivrel.core.evidence.claims import claims_of

    if not args.heard and not args.at:
        return {}, []
    heard, gone = evidence.heard(args, workspace, args.heard)
    return {claim.setting: claim for claim in claims_of(device, workspace.policy, heard)}, gone
