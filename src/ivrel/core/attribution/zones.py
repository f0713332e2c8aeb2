"""Zones of time stamps that show none: which one a device's configuration, or the policy, says."""

from __future__ import annotations

import re
from datetime import UTC, timedelta, timezone, tzinfo
from zoneinfo import ZoneInfo

from msgspec import Struct

from ivrel.core.syslog.stamps import ZONES

CONFIGURATION = "its configuration"
POLICY = "the policy"
OPTION = "--zone"

_OFFSET = re.compile(r"(?:UTC|GMT)?([+-])([0-9]{1,2}):?([0-9]{2})?")


class StampZone(Struct, frozen=True):
    """The zone of stamps that show none, and what says so.

    `source`: CONFIGURATION, POLICY or OPTION, the surest first; `may_be_summer`: whether the clock
    may be an hour ahead of `zone` in summer, since its name alone does not say.
    """

    zone: tzinfo = UTC
    source: str = OPTION
    may_be_summer: bool = False

    @property
    def is_known(self) -> bool:
        """Whether something says the zone of this device, rather than of all."""
        return self.source != OPTION


UNKNOWN_ZONE = StampZone()


def zone_named(word: str, source: str) -> StampZone | None:
    """Return the zone of a name as configurations have it; None if it names none, or several.

    >>> zone_named("CET", POLICY).may_be_summer, zone_named("UTC", POLICY).may_be_summer
    (True, False)
    >>> print(zone_named("+05:30", POLICY).zone)
    UTC+05:30
    """
    if word.upper() in ("UTC", "GMT", "Z", "ETC/UTC"):
        return StampZone(UTC, source)
    found = _OFFSET.fullmatch(word)
    if found is not None:
        minutes = int(found[2]) * 60 + int(found[3] or 0)
        shift = timedelta(minutes=-minutes if found[1] == "-" else minutes)
        is_one = abs(shift) < timedelta(days=1)
        return StampZone(timezone(shift), source, may_be_summer=True) if is_one else None
    known = ZONES.get(word.upper())
    if known is not None:
        return StampZone(timezone(timedelta(minutes=known)), source, may_be_summer=True)
    if "/" not in word:
        return None  # an abbreviation that stands for several, or a word of the platform's own
    try:
        return StampZone(ZoneInfo(word), source)
    except (ValueError, OSError, KeyError):
        return None
