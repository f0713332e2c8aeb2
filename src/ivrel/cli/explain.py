"""`ivrel explain DEVICE [SETTING]`: one verdict from both ends."""

from __future__ import annotations

import argparse

from ivrel.cli import common, message_arguments
from ivrel.cli.parsing import Parser


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
    message_arguments.beside_arguments(parser)
    common.example(
        parser,
        "ivrel explain tarsk-fw2 level",
        "ivrel explain holmsay-gw1 facility --at beacon-a=beacon-a.jsonl",
    )
    parser.set_defaults(run=run)


def run(args: argparse.Namespace) -> int:
    """Run the command and return its exit code."""
    from ivrel.output.views.explanation import ExplanationView

    workspace = common.open_workspace(args)
    device = workspace.device(args.device)
    common.given_text(args, workspace, [device])
    messages = message_arguments.message_files(args, args.heard)
    found = workspace.explain(device, [args.setting] if args.setting else [], messages)
    is_wrong = any(v.verdict == "breaks" for v in found.verdicts)
    further = f"ivrel correct{common.judging_words(args)} {device.name}"
    view = ExplanationView(
        device=device,
        policy=workspace.policy,
        verdicts=found.verdicts,
        correction=found.correction,
        text_of=workspace.statements([device]),
        claims=found.claims,
        comparisons=found.comparisons,
        next=(further,) if is_wrong else (),
    )
    common.show(view, args)
    code = common.problems_told(found.problems)
    common.remarks_told(found.remarks)
    is_good = all(v.verdict in ("meets", "waived") for v in found.verdicts)
    differs = any(c.state == "bad" for v in found.verdicts for c in view.shown_of(v.setting))
    return code or int(not is_good or differs)
