"""The correction of one configuration: its lines, its back-out, the proof of both, what remains."""

from __future__ import annotations

from msgspec import Struct
from msgspec.structs import replace

from ivrel.core.correcting.case import Case
from ivrel.core.correcting.instead import instead, waiver_text
from ivrel.core.correcting.plan import CorrectionPlan
from ivrel.core.correcting.prints import fingerprint
from ivrel.core.correcting.proof import Property
from ivrel.core.correcting.properties import NoLongerSent, OutageGap
from ivrel.core.correcting.reasons import CorrectionLine
from ivrel.core.correcting.secrets import hidden
from ivrel.core.dialects.dialect import Dialect
from ivrel.core.fleet import Device
from ivrel.core.vocabulary.verdict import DeviceResult, Verdict


class Remaining(Struct, frozen=True, omit_defaults=True):
    """What is not as asked even after the correction, and why.

    `instead`: what would do in its place, where the platform cannot be as asked; `waiver`: the text
    of a waiver.
    """

    setting: str
    verdict: str
    why: str
    instead: tuple[str, ...] = ()
    waiver: str = ""


class Correction(Struct, frozen=True):
    """The correction of one device.

    `fingerprint`: the SHA-256 of the configuration it was made for, and `statements` that of
    what it says of export; `before`, `after`: the verdicts, of a corrected text without the lines
    that decide; `sends`, `would_send`: whether anything leaves for a right collector, as it is and
    with the change.
    """

    device: str
    platform: str
    changes: tuple[CorrectionLine, ...]
    change: str
    backout: str
    proof: tuple[Property, ...]
    remains: tuple[Remaining, ...]
    fingerprint: str
    before: DeviceResult
    after: DeviceResult
    corrected: bytes
    statements: str = ""
    asks: str = ""  # the platform's own program, which says whether it takes a configuration
    # Carried out as a whole: `change` is written in another form than the lines of `changes`
    whole: bool = False
    sends: bool = False
    would_send: bool = False
    gaps: tuple[OutageGap, ...] = ()  # of single collectors while the change goes in
    no_longer_sent: tuple[NoLongerSent, ...] = ()  # what left before, beyond what is asked
    secrets: tuple[str, ...] = ()  # values of the configuration that nothing may show

    def as_shown(self) -> Correction:
        """Return the correction with its secrets hidden; the texts to send are not for sending
        then.
        """
        if not self.secrets:
            return self
        return replace(
            self,
            changes=tuple(
                replace(
                    one,
                    line=hidden(one.line, self.secrets),
                    replaces=hidden(one.replaces, self.secrets),
                    inside=hidden(one.inside, self.secrets),
                )
                for one in self.changes
            ),
            change=hidden(self.change, self.secrets),
            backout=hidden(self.backout, self.secrets),
            proof=tuple(replace(p, why=hidden(p.why, self.secrets)) for p in self.proof),
            remains=tuple(replace(r, why=hidden(r.why, self.secrets)) for r in self.remains),
            secrets=(),
        )

    @property
    def proved(self) -> bool:
        """Whether every property of the proof holds."""
        return all(p.holds for p in self.proof)


def unchanged(
    device: Device,
    dialect: Dialect,
    data: bytes,
    result: DeviceResult,
    *,
    sends: bool,
    remains: tuple[Remaining, ...],
) -> Correction:
    """Return a correction that changes nothing."""
    return Correction(
        device=device.name,
        platform=dialect.name,
        changes=(),
        change="",
        backout="",
        proof=(),
        remains=remains,
        fingerprint=fingerprint(data),
        before=result,
        after=result,
        corrected=data,
        sends=sends,
        would_send=sends,
    )


def remaining(
    case: Case, after: DeviceResult, plan: CorrectionPlan, stuck: str = ""
) -> tuple[Remaining, ...]:
    """Return the verdicts that still break after a change; `stuck`: why none could be written."""
    return tuple(
        _remains(case, v, plan, stuck)
        for v in after.verdicts
        if v.verdict != "meets" and v.setting in case.asked
    )


def _remains(case: Case, v: Verdict, plan: CorrectionPlan, stuck: str) -> Remaining:
    obstacles = plan.obstacles.get(v.setting, ())
    # What is unable says so itself; beside other findings, the obstacle tells.
    told = [o.why for o in obstacles if v.verdict != "unable" or not o.unable]
    why = each_once("; ".join([v.why, *told, *([stuck] if stuck else [])]))
    cannot = "; ".join(dict.fromkeys(o.why for o in obstacles if o.unable))
    if v.verdict not in ("unable", "breaks") or not cannot:
        return Remaining(v.setting, v.verdict, why)
    return Remaining(
        v.setting,
        v.verdict,
        why,
        instead(case.dialect, case.policy, case.asked[v.setting]),
        waiver_text(case.device, v.setting, cannot, case.today),
    )


def each_once(why: str) -> str:
    """Return reasons without those that are reported twice."""
    return "; ".join(dict.fromkeys(why.split("; ")))
