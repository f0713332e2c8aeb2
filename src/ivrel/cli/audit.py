"""`ivrel audit`: verdicts as a matrix of devices and settings, then the findings."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from ivrel.cli import common, evidence
from ivrel.cli.parsing import Parser

if TYPE_CHECKING:
    from collections.abc import Iterator

    from ivrel.core.judging import DeviceResult
    from ivrel.core.vocabulary.verdict import Place
    from ivrel.output.views.view import LineText
    from ivrel.sources.workspace import Workspace


def arguments(parser: Parser) -> None:
    """Add the arguments of the command."""
    common.workspace_argument(parser)
    common.choice_arguments(parser)
    common.setting_argument(parser)
    from ivrel.output.machine.formats import FORMATS

    common.format_argument(parser, "table", *FORMATS)
    common.policy_argument(parser)
    common.today_argument(parser)
    common.text_argument(parser)
    common.by_argument(parser, "rule")
    common.scheduler_arguments(parser)
    evidence.beside_arguments(parser)
    common.example(
        parser,
        "ivrel audit",
        "ivrel audit 'mv-*' --setting level --setting stamp",
        "ivrel audit --by site",
        "ivrel audit --policy tighter.yaml",
        "zcat yesterday.gz | ivrel audit tarsk-fw2 --text -",
        "ivrel audit --kind firewall --format jsonl",
        "ivrel audit --at beacon-a=heard/beacon-a.jsonl",
    )
    parser.set_defaults(run=run)


def run(args: argparse.Namespace) -> int:
    """Run the command and return its exit code."""
    from msgspec.structs import replace

    from ivrel.cli.jobs import Auditing
    from ivrel.core.judging.remarks import ending
    from ivrel.output.views.audit import AuditView
    from ivrel.runners import through
    from ivrel.sources.lines import LinesOf

    by, cluster = common.folding_of(args), common.cluster_of(args)
    workspace = common.open_workspace(args)
    names = common.settings(args.setting)
    devices, policy = common.chosen(args, workspace), workspace.policy
    common.given_text(args, workspace, devices)
    # Waivers of devices that are not chosen are no reason for an exit code.
    kept = tuple(w for w in policy.waivers if any(w.covers(d, w.setting) for d in devices))
    waivers = tuple(ending(replace(policy, waivers=kept), common.day(args)))
    good = not any(w.wrong for w in waivers)
    messages = _Messages(args, workspace) if args.heard or args.at else None

    def results() -> Iterator[DeviceResult]:
        nonlocal good
        job = Auditing(workspace, common.day(args))
        audited = through(job, devices, cluster, send=args.send)
        for result in common.progress(audited, len(devices), "auditing"):
            if names:
                asked = tuple(v for v in result.verdicts if v.setting in names)
                result = replace(result, verdicts=asked)
            if messages is not None:
                result = messages.beside(result)
            good = good and result.good
            yield result

    lines, judged = LinesOf(workspace, devices), results()
    view = AuditView(
        fleet=workspace.fleet.name,
        policy=policy,
        results=judged,
        remarks=waivers,
        text_of=messages.text_of(lines) if messages is not None else lines,
        by=by,
        every=args.all,
        where=common.judging_words(args),
        proved=messages.proved if messages is not None else {},
    )
    common.show(view, args)
    # Where nobody reads on, the exit code still depends on the devices that were left.
    for _ in judged:
        pass
    if messages is not None and messages.told():
        return 2
    return 0 if good else 1


class _Messages:
    """The messages that an audit is held against, and what they prove."""

    def __init__(self, args: argparse.Namespace, workspace: Workspace) -> None:
        self._workspace = workspace
        self._devices = {d.name: d for d in workspace.fleet.devices}
        self._heard, self._gone = evidence.heard(args, workspace, args.heard)
        self._texts: dict[Place, str] = {}
        self.proved: dict[str, frozenset[str]] = {}

    def beside(self, result: DeviceResult) -> DeviceResult:
        """Return a result with what the messages of its device contradict."""
        from ivrel.core.evidence.beside import beside, proved
        from ivrel.core.evidence.claims import claims_of
        from ivrel.core.vocabulary.verdict import Place

        device = self._devices[result.device]
        found = claims_of(device, self._workspace.policy, self._heard)
        claims = {claim.setting: claim for claim in found}
        for claim in claims.values():
            if claim.example is not None:
                at = Place(claim.example.file, claim.example.line)
                self._texts[at] = claim.example.text
        self.proved[result.device] = proved(result, claims)
        return beside(result, claims)

    def text_of(self, lines: LineText) -> LineText:
        """Return what gives the text of a place, also that of a message."""

        def text(place: Place, setting: str) -> str:
            return self._texts.get(place) or lines(place, setting)

        return text

    def told(self) -> int:
        """Tell what was wrong with the records; return the exit code that follows."""
        return max((evidence.told_problems(messages) for messages in self._gone), default=0)
