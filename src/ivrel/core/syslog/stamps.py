"""Stamps: the times that messages bear, in the forms of RFC 3164, RFC 3339 and of devices."""

from __future__ import annotations

import re
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta, timezone, tzinfo
from itertools import product

from ivrel.core.syslog.message import Departure, Stamp

MONTHS = ("Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec")

# Names of zones with their offsets in minutes; None where a name stands for several.
ZONES: dict[str, int | None] = {
    **dict.fromkeys(("UTC", "GMT", "Z", "WET"), 0),
    **dict.fromkeys(("CET", "WEST", "MEZ"), 60),
    **dict.fromkeys(("CEST", "EET", "MESZ", "SAST"), 120),
    **dict.fromkeys(("EEST", "MSK"), 180),
    **dict.fromkeys(("JST", "KST"), 540),
    **dict.fromkeys(("AWST", "HKT", "SGT"), 480),
    **dict.fromkeys(("NZST",), 720),
    **dict.fromkeys(("NZDT",), 780),
    **dict.fromkeys(("EDT",), -240),
    **dict.fromkeys(("CDT",), -300),
    **dict.fromkeys(("MDT",), -360),
    **dict.fromkeys(("PDT",), -420),
    **dict.fromkeys(("PST",), -480),
    **dict.fromkeys(("EST", "CST", "MST", "IST", "BST", "AST", "ACST", "AEST", "AEDT")),
}

_OFFSET = r"[+-][0-9]{2}:?[0-9]{2}"
_ISO = re.compile(
    r"([0-9]{4})-([0-9]{2})-([0-9]{2})[Tt ]([0-9]{2}):([0-9]{2}):([0-9]{2})"
    rf"(?:[.,]([0-9]+))?([Zz]|{_OFFSET})?"
)
_DATED = re.compile(
    rf"(?:([0-9]{{4}}) )?({'|'.join(MONTHS)}) ([ 0-9]?[0-9]) (?:([0-9]{{4}}) )?"
    r"([0-9]{2}):([0-9]{2}):([0-9]{2})(?:[.,]([0-9]{1,9}))?"
)
# What may be behind the time, in either order. A year is none if an address or a host begins
# with it; the name of a zone is none if the next word is a tag, for then it is the host's.
_YEAR = re.compile(r" ((?:19|20)[0-9]{2})(?= |:? |:?$)")
_NAMES = "|".join(sorted(ZONES, key=len, reverse=True))
_ZONE = re.compile(
    rf" ?({_OFFSET})(?=[ :]|$)| (TZ[+-][0-9]{{1,2}})(?=[ :]|$)|"
    rf" ({_NAMES})(?=:|$| [^\s:\[]+ )"
)
_SPANS = re.compile(
    r"(?:([0-9]+)y)?(?:([0-9]+)w)?(?:([0-9]+)d)?(?:([0-9]+)h)?(?:([0-9]+)m)?(?:([0-9]+)s)?"
    r"(?=[ :]|$)"
)
_CLOCK = re.compile(r"([0-9]{1,5}):([0-9]{2}):([0-9]{2})(\.[0-9]{1,6})?(?=[ :]|$)")
_SECONDS = re.compile(r"\[ {0,8}([0-9]{1,10}(?:\.[0-9]{1,9})?)\]")
_UNITS = (365 * 86400, 7 * 86400, 86400, 3600, 60, 1)


def read_iso(text: str, at: int = 0) -> tuple[Stamp, int] | None:
    """Return a stamp of RFC 3339 and where it ends; None if none is there."""
    found = _ISO.match(text, at)
    if found is None:
        return None
    year, month, day, hour, minute, second = map(int, found.groups()[:6])
    fraction = found[7] or ""
    zone = _zone(found[8])
    stamp = Stamp("calendar", found[0], year, month, day, hour, minute, second, fraction, zone)
    return (stamp, found.end()) if _is_real(stamp) else None


def iso_departures(text: str, stamp: Stamp) -> Iterator[Departure]:
    """Yield where a stamp departs from RFC 3339, or from RFC 5424 section 6.2.3."""
    if "," in text:
        yield Departure("stamp-comma", text)
    if stamp.second == 60:
        yield Departure("stamp-leap", text)
    if stamp.year == 0:
        yield Departure("stamp-year-zero", text)
    if _is_far(stamp.zone):
        yield Departure("stamp-far", text)


def _is_far(zone: str) -> bool:
    """Whether an offset has more than 23 hours or 59 minutes."""
    return zone[:1] in ("+", "-") and (int(zone[1:3]) > 23 or int(zone[4:6]) > 59)


def read_stamp(text: str, at: int = 0) -> tuple[Stamp, int, list[Departure]] | None:
    """Return a stamp in any form that is known, where it ends, and how it departs from RFC 3164.

    None if none is there.
    """
    found = _DATED.match(text, at)
    if found is not None:
        year, zone, end = _behind(text, found.end())
        year = found[1] or found[4] or year
        day, hour, minute, second = (int(found[n]) for n in (3, 5, 6, 7))
        month = MONTHS.index(found[2]) + 1
        stamp = Stamp(
            kind="calendar",
            text=text[at:end],
            year=int(year) if year else None,
            month=month,
            day=day,
            hour=hour,
            minute=minute,
            second=second,
            fraction=found[8] or "",
            zone=_zone(zone),
        )
        if _is_real(stamp):
            return stamp, end, list(_departures(stamp, found[3]))
    iso = read_iso(text, at)
    if iso is not None:
        said = text[at : iso[1]]
        return (*iso, [Departure("iso-stamp"), *iso_departures(said, iso[0])])
    uptime = _uptime(text, at)
    if uptime is not None:
        seconds, end = uptime
        stamp = Stamp("uptime", text[at:end], uptime=seconds)
        return stamp, end, [Departure("uptime", stamp.text)]
    return None


def _behind(text: str, at: int) -> tuple[str, str, int]:
    """Return the year and the zone behind a time, '' for what is not there, and where they end."""
    year = zone = ""
    while True:
        found = None if year else _YEAR.match(text, at)
        if found is not None:
            year = found[1]
            at = found.end()
            continue
        found = None if zone else _ZONE.match(text, at)
        if found is None:
            return year, zone, at
        zone = found[found.lastindex or 0]
        at = found.end()


def _departures(stamp: Stamp, day: str) -> Iterator[Departure]:
    if day.startswith("0"):
        yield Departure("day-zero")
    if stamp.year is not None:
        yield Departure("stamp-year")
    if stamp.fraction:
        yield Departure("stamp-fraction")
    if stamp.zone:
        yield Departure("zone", stamp.zone)
    if stamp.second == 60:
        yield Departure("stamp-leap", stamp.text)
    if _is_far(stamp.zone):
        yield Departure("stamp-far", stamp.text)


def _zone(said: str | None) -> str:
    """Return an offset in one form, or the name of a zone."""
    if not said:
        return ""
    if said in ("Z", "z"):
        return "+00:00"
    if said[0] in "+-":
        return f"{said[:3]}:{said[-2:]}"
    return said


def _is_real(stamp: Stamp) -> bool:
    """Whether there is such a day and time; seconds go up to 60, for leap seconds are sent."""
    try:
        datetime(stamp.year or 2000, stamp.month, stamp.day, stamp.hour, stamp.minute)
    except ValueError:
        return False
    return stamp.second <= 60


def _uptime(text: str, at: int) -> tuple[float, int] | None:
    """Return the seconds of an uptime and where it ends; None if none is there."""
    found = _SPANS.match(text, at)
    if found is not None and found.end() > at:
        spans = zip(found.groups(), _UNITS, strict=True)
        return float(sum(int(n[:9]) * unit for n, unit in spans if n)), found.end()
    found = _CLOCK.match(text, at)
    if found is not None:
        hours, minutes, seconds, rest = found.groups()
        whole = int(hours) * 3600 + int(minutes) * 60 + int(seconds)
        return whole + float(rest or 0), found.end()
    found = _SECONDS.match(text, at)
    return (float(found[1]), found.end()) if found is not None else None


def zone_of(stamp: Stamp) -> tzinfo | None:
    """Return the zone that a stamp says; None if it says none, or a name of several zones.

    >>> from ivrel.core.syslog import parse
    >>> print(zone_of(parse(b"<165>1 2003-10-11T22:14:15.003+02:00 - - - - -").stamp))
    UTC+02:00
    """
    if not stamp.zone:
        return None
    if stamp.zone[0] in "+-":
        minutes = int(stamp.zone[1:3]) * 60 + int(stamp.zone[4:6])
        minutes = -minutes if stamp.zone[0] == "-" else minutes
    else:
        known = ZONES.get(stamp.zone)
        if known is None:
            return None
        minutes = known
    is_one = abs(minutes) < 1440 and not _is_far(stamp.zone)
    return timezone(timedelta(minutes=minutes)) if is_one else None


def moment(stamp: Stamp, near: datetime, zone: tzinfo = UTC) -> datetime | None:
    """Return the moment that a stamp means; None if it is no calendar's.

    `near`: when the message came, with a zone: of the years that a stamp without one may mean, the
    nearest is taken. `zone`: that of stamps which say none.

    >>> from datetime import UTC, datetime
    >>> from ivrel.core.syslog import parse
    >>> stamp = parse(b"<34>Oct 11 22:14:15 mymachine su: failed").stamp
    >>> moment(stamp, datetime(2026, 10, 12, tzinfo=UTC), UTC).isoformat()
    '2026-10-11T22:14:15+00:00'
    """
    if stamp.kind != "calendar":
        return None
    zone = zone_of(stamp) or zone
    here = near.astimezone(zone)
    years = [stamp.year] if stamp.year else [here.year - 1, here.year, here.year + 1]
    # The hour that a zone has twice when its summer ends is one of both.
    folds = (0,) if isinstance(zone, timezone) else (0, 1)
    every = (_at(stamp, year, zone, fold) for year, fold in product(years, folds))
    found = [when.astimezone(UTC) for when in every if when is not None]
    return min(found, key=lambda when: abs(when - near), default=None)


def _at(stamp: Stamp, year: int, zone: tzinfo, fold: int) -> datetime | None:
    try:
        # A leap second is counted as the one before it, and a microsecond is the least.
        return datetime(
            year,
            stamp.month,
            stamp.day,
            stamp.hour,
            stamp.minute,
            min(stamp.second, 59),
            int(stamp.fraction[:6].ljust(6, "0")) if stamp.fraction else 0,
            tzinfo=zone,
            fold=fold,
        )
    except ValueError:
        return None  # the 29th of February of another year
