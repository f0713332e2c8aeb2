"""One device's verdicts with everything that leads to them."""

from __future__ import annotations

from collections.abc import Collection, Mapping

from msgspec import Struct

from ivrel.core.correcting import Correction
from ivrel.core.evidence.beside import beside
from ivrel.core.evidence.claims import Claim
from ivrel.core.evidence.witnesses import NO_MESSAGES, Comparison
from ivrel.core.fleet import Device
from ivrel.core.policy import effective
from ivrel.core.vocabulary.errors import InputError
from ivrel.core.vocabulary.verdict import Verdict
from ivrel.sources.workspace import WorkspaceFiles
from ivrel.work.correcting_jobs import NotCorrected
from ivrel.work.correction import Corrections
from ivrel.work.jobs import Auditing
from ivrel.work.message_files import MessageFiles
from ivrel.work.run import RunOptions
from ivrel.work.witnesses import Witnesses


class Explanation(Struct, frozen=True, kw_only=True):
    """One device's verdicts, its correction, and what messages claim, by setting; `comparisons`:
    what its configuration, its display and the messages say together, if it has a display.

    `problems`: files and lines of messages that could not be read; `remarks`: what to bear in mind.
    """

    device: Device
    verdicts: tuple[Verdict, ...]
    correction: Correction
    claims: Mapping[str, Claim] = {}
    comparisons: tuple[Comparison, ...] = ()
    problems: tuple[str, ...] = ()
    remarks: tuple[str, ...] = ()


def explained(
    files: WorkspaceFiles,
    options: RunOptions,
    device: Device,
    settings: Collection[str] = (),
    messages: MessageFiles | None = None,
) -> Explanation:
    """Return the explanation of a device's verdicts; `settings`: only of these.

    Raise InputError if the policy asks nothing about one of them, or if the configuration cannot be
    read.
    """
    asked = effective(files.policy, device)
    for name in settings:
        if name not in asked:
            raise InputError(f"the policy asks nothing of {device.name} about {name}")
    result = Auditing(files, options.today).alone(device)
    if result.problem:
        raise InputError(result.problem)
    claims: Mapping[str, Claim] = {}
    problems: tuple[str, ...] = ()
    remarks: tuple[str, ...] = ()
    witnesses = Witnesses(files)
    moments = witnesses.moments([device])
    got = NO_MESSAGES
    if messages:
        from ivrel.work.messages import FleetClaims, evidence_of

        evidence, problems = evidence_of(files, messages, options, moments)
        fleet = FleetClaims(files, evidence)
        claims = fleet.by_setting(device)
        got = fleet.messages(claims.values())
        remarks = fleet.remarks([device])
        result = beside(result, claims)
    (correction,) = Corrections(files, options, [device])
    if isinstance(correction, NotCorrected):
        raise InputError(correction.problem)
    return Explanation(
        device=device,
        verdicts=tuple(v for v in result.verdicts if not settings or v.setting in settings),
        correction=correction,
        claims=claims,
        comparisons=witnesses.of(device, got),
        problems=(*problems, *witnesses.problems),
        remarks=remarks,
    )
