"""Paper and messages side by side: verdicts of a configuration that its messages contradict."""

from __future__ import annotations

from collections.abc import Mapping

from msgspec.structs import replace

from ivrel.core.evidence.claims import Claim
from ivrel.core.vocabulary.verdict import CONTRADICTED, DeviceResult, FindingRecord, Place, Verdict
from ivrel.core.vocabulary.wording import plain

# What a message can contradict. What breaks is known to be wrong, what is waived is granted, and
# what a platform is unable to say it is unable to send.
_ON_PAPER = ("meets", "unknown")


def beside(result: DeviceResult, claims: Mapping[str, Claim]) -> DeviceResult:
    """Return the result with each verdict that messages contradict; `claims`: by setting."""
    verdicts = tuple(
        _contradicted(v, claims[v.setting]) if _is_against(v, claims.get(v.setting)) else v
        for v in result.verdicts
    )
    return replace(result, verdicts=verdicts)


def proved(result: DeviceResult, claims: Mapping[str, Claim]) -> frozenset[str]:
    """Return the settings that are right on paper and proved by messages."""
    met = (v.setting for v in result.verdicts if v.verdict == "meets")
    return frozenset(s for s in met if s in claims and claims[s].claim == "proved")


def _is_against(v: Verdict, claim: Claim | None) -> bool:
    return claim is not None and claim.claim == "contradicted" and v.verdict in _ON_PAPER


def _contradicted(v: Verdict, claim: Claim) -> Verdict:
    """Return a verdict that a message contradicts, with it and the lines that say otherwise."""
    where = v.where
    if claim.example is not None:
        where = (Place(claim.example.file, claim.example.line), *where)
    on_paper = "right on paper" if v.verdict == "meets" else "not known on paper"
    why = plain(f"{claim.why}; {on_paper}")
    told = FindingRecord("contradicted", "", plain(claim.heard), claim.wanted, CONTRADICTED)
    return replace(v, verdict=CONTRADICTED, why=why, where=where, findings=(told, *v.findings))
