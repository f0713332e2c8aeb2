"""Clocks as evidence: what the stamps of a device say against what sets its clock.

Only a stamp that lies ahead is certain: no message comes before it was written. One that lies
behind may be late. And a stamp that shows no zone says nothing, where nobody says which it is.
"""

from __future__ import annotations

from collections.abc import Iterable
from datetime import UTC, datetime
from statistics import median

from msgspec import Struct

from ivrel.core.attribution.zones import CONFIGURATION, StampZone
from ivrel.core.evidence.summary import Evidence, ExampleMessage, Summary
from ivrel.core.measuring.clocks import Clock, clock_of, told, zone_of
from ivrel.core.vocabulary.wording import span

TOLERANCE = 60.0  # seconds
_HOUR = 3600.0
_FEWEST_DEVICES = 5  # by which the collector's clock is judged
_CONTRADICTING = ("unset", "year", "zone", "wrong", "set", "drifts")


class ClockClaim(Struct, frozen=True):
    """What stamps say of a clock: 'contradicted' or 'not seen', what was heard, and why."""

    claim: str
    heard: str
    why: str
    example: ExampleMessage | None = None


def clock_against(
    device: str, summary: Summary, changed: float | None = None, common_offset: float = 0.0
) -> ClockClaim:
    """Return what the stamps of a device say against its clock.

    `changed`: messages from before this moment are left out, in seconds since 1970;
    `common_offset`: how far most devices are ahead, in seconds.
    """
    clock = _clock(device, summary, changed)
    if clock.kind == "untold":
        return ClockClaim("not seen", "", told(clock))
    heard = told(clock)
    offset = clock.offset or 0.0
    if clock.kind not in _CONTRADICTING or abs(offset) <= TOLERANCE:
        return ClockClaim("not seen", heard, "messages do not tell what sets it")
    is_shared = abs(common_offset) > TOLERANCE and clock.kind not in ("unset", "year")
    # Beside the collector's fault, it may still be late.
    if is_shared and offset - common_offset <= TOLERANCE:
        why = f"most devices are {span(common_offset)} off: the collector's clock may be wrong"
        return ClockClaim("not seen", heard, why)
    doubt = _doubt(clock, offset, summary.zone)
    if doubt:
        return ClockClaim("not seen", heard, doubt)
    return ClockClaim("contradicted", heard, heard, _example(clock))


def _clock(device: str, summary: Summary, changed: float | None) -> Clock:
    pairs = summary.pairs
    sample = [p for p in pairs.sample if changed is None or p.came >= changed]
    return clock_of(device, sample, pairs.number, TOLERANCE)


def _doubt(clock: Clock, offset: float, zone: StampZone) -> str:
    """Return why an offset may be none of the clock's; '' if nothing else explains it."""
    shows_zone = clock.example is not None and clock.example.has_zone
    if not shows_zone and clock.kind not in ("unset", "year"):
        if not zone.is_known:
            return "its stamps show no zone, and nothing says which it is: --zone is for all"
        if zone.may_be_summer and abs(offset - _HOUR) <= TOLERANCE:
            said = "its configuration" if zone.source == CONFIGURATION else "the policy"
            return f"an hour ahead of the zone that {said} names may be summer time"
    if offset < 0 and clock.kind not in ("unset", "year") and not zone_of(offset):
        return "what lies behind may be late"
    return ""


def _example(clock: Clock) -> ExampleMessage | None:
    shown = clock.example
    if shown is None:
        return None
    when = datetime.fromtimestamp(shown.came, UTC)
    return ExampleMessage(shown.file, shown.line, when, shown.data)


def common_offset(evidence: Evidence, devices: Iterable[str]) -> float:
    """Return how far the clocks of most devices are ahead of the collectors', in seconds; 0 if they
    differ, or if they are few: what all share is the collector's fault, or cannot be told from it.
    """
    offsets = []
    for name in devices:
        offset = _clock(name, evidence.of(name), None).offset
        if offset is not None:
            offsets.append(offset)
    if len(offsets) < _FEWEST_DEVICES:
        return 0.0
    middle = median(offsets)
    alike = sum(abs(one - middle) <= TOLERANCE for one in offsets)
    return middle if 2 * alike > len(offsets) else 0.0
