"""The departures from the standards that are known, each with what it means and where it is."""

from __future__ import annotations

from collections.abc import Mapping

from ivrel.core.syslog.message import Departure

# What is told of each kind, and the section that says otherwise.
DEPARTURES: Mapping[str, tuple[str, str]] = {
    "no-pri": ("has no PRI", "RFC 3164 section 4.1.1"),
    "pri-zeros": ("PRI begins with zeros", "RFC 5424 section 6.2.1"),
    "pri-range": ("PRI is above 191", "RFC 5424 section 6.2.1"),
    "version": ("VERSION is not 1", "RFC 5424 section 6.2.2"),
    "no-stamp": ("has no stamp that can be read", "RFC 3164 section 4.1.2"),
    "stamp": ("TIMESTAMP is none", "RFC 5424 section 6.2.3"),
    "stamp-case": ("TIMESTAMP has 't' or 'z' in lower case", "RFC 5424 section 6.2.3"),
    "stamp-digits": ("TIMESTAMP has more than 6 digits of a second", "RFC 5424 section 6.2.3"),
    "stamp-zone": ("TIMESTAMP has no offset", "RFC 5424 section 6.2.3"),
    "iso-stamp": ("stamp is one of RFC 3339", "RFC 3164 section 4.1.2"),
    "day-zero": ("day is filled with a zero, not a blank", "RFC 3164 section 4.1.2"),
    "stamp-year": ("stamp has a year", "RFC 3164 section 4.1.2"),
    "stamp-fraction": ("stamp has a fraction of a second", "RFC 3164 section 4.1.2"),
    "zone": ("stamp has a zone", "RFC 3164 section 4.1.2"),
    "unsynchronised": ("a mark says that the clock is not synchronised", "RFC 3164 section 4.1.2"),
    "uptime": ("stamp counts the time since the start", "RFC 3164 section 4.1.2"),
    "sequence": ("a number stands in front of the stamp", "RFC 3164 section 4.1.2"),
    "stamp-colon": ("a colon ends the stamp", "RFC 3164 section 4.1.2"),
    "no-host": ("has no HOSTNAME", "RFC 3164 section 4.1.2"),
    "no-tag": ("has no TAG in front of its text", "RFC 3164 section 4.1.3"),
    "long-tag": ("TAG has more than 32 signs", "RFC 3164 section 4.1.3"),
    "long-field": ("field is longer than it may be", "RFC 5424 section 6"),
    "header-signs": ("header has signs that are not printable ASCII", "RFC 5424 section 6"),
    "no-field": ("header ends before all of its fields", "RFC 5424 section 6"),
    "no-data": ("has neither structured data nor '-'", "RFC 5424 section 6.3"),
    "data": ("structured data cannot be read from here on", "RFC 5424 section 6.3"),
    "data-twice": ("an SD-ID stands twice", "RFC 5424 section 6.3.2"),
    "data-name": ("a name in the structured data is none", "RFC 5424 section 6.3.3"),
    "data-escape": ("a backslash escapes nothing", "RFC 5424 section 6.3.3"),
    "joint": ("no blank stands between structured data and MSG", "RFC 5424 section 6"),
    "bom-bytes": ("bytes behind the BOM are not UTF-8", "RFC 5424 section 6.4"),
    "not-utf-8": ("text is not UTF-8", "RFC 5424 section 6.4"),
    "control": ("text holds control characters", "RFC 5424 section 6.4"),
    "ending": ("ends with a line end or a NUL", "RFC 5426 section 3.1"),
    "empty": ("is empty", "RFC 5424 section 6"),
}


def told(departure: Departure) -> str:
    """Return a departure in words, without the section.

    >>> told(Departure("no-tag")), section(Departure("no-tag"))
    ('has no TAG in front of its text', 'RFC 3164 section 4.1.3')
    """
    said = DEPARTURES[departure.kind][0]
    return f"{said}: '{departure.found}'" if departure.found else said


def section(departure: Departure) -> str:
    """Return the section of the standard that a message departs from."""
    return DEPARTURES[departure.kind][1]
