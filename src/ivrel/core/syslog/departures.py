"""The departures from the standards that are known, each with what it means and where it is."""

from __future__ import annotations

from collections.abc import Mapping

from ivrel.core.syslog.message import RFC3164, Departure

# What is told of each kind, and the section that says otherwise; of those that messages of both
# standards have, that of RFC 5424.
DEPARTURES: Mapping[str, tuple[str, str]] = {
    "no-pri": ("has no PRI", "RFC 3164 section 4.1.1"),
    "pri-zeros": ("PRI begins with zeros", "RFC 5424 section 6.2.1"),
    "pri-range": ("PRI is above 191", "RFC 5424 section 6.2.1"),
    "version": ("VERSION is not 1", "RFC 5424 section 6.2.2"),
    "no-stamp": ("has no stamp that can be read", "RFC 3164 section 4.1.2"),
    "stamp": ("TIMESTAMP is none", "RFC 5424 section 6.2.3"),
    "stamp-comma": ("a comma stands before the fraction of a second", "RFC 5424 section 6.2.3"),
    "stamp-leap": ("TIMESTAMP has a second 60", "RFC 5424 section 6.2.3"),
    "stamp-offset": ("the offset of TIMESTAMP has no colon", "RFC 5424 section 6.2.3"),
    "stamp-far": ("the offset of TIMESTAMP is none", "RFC 5424 section 6.2.3"),
    "stamp-year-zero": ("the year of TIMESTAMP is 0000", "RFC 5424 section 6.2.3"),
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
    "blanks": ("more than one blank stands between two fields", "RFC 5424 section 6"),
    "no-field": ("header ends before all of its fields", "RFC 5424 section 6"),
    "no-data": ("has neither structured data nor '-'", "RFC 5424 section 6.3"),
    "data": ("structured data cannot be read from here on", "RFC 5424 section 6.3"),
    "data-twice": ("an SD-ID stands twice", "RFC 5424 section 6.3.2"),
    "data-name": ("a name in the structured data is none", "RFC 5424 section 6.3.3"),
    "data-blank": ("structured data has blanks where one or none belongs", "RFC 5424 section 6.3"),
    "data-bracket": ("a value holds a ']' without a backslash", "RFC 5424 section 6.3.3"),
    "sequence-range": ("sequenceId is not from 1 to 2147483647", "RFC 5424 section 7.3.1"),
    "data-escape": ("a backslash escapes nothing", "RFC 5424 section 6.3.3"),
    "joint": ("no blank stands between structured data and MSG", "RFC 5424 section 6"),
    "bom-bytes": ("bytes behind the BOM are not UTF-8", "RFC 5424 section 6.4"),
    "not-utf-8": ("text is not UTF-8", "RFC 5424 section 6.4"),
    "control": ("text holds control characters", "RFC 5424 section 6.4"),
    "ending": ("ends with a line end or a NUL", "RFC 5426 section 3.1"),
    "empty": ("is empty", "RFC 5424 section 6"),
}

# The sections of RFC 3164 about the same.
_OLD: Mapping[str, str] = {
    "pri-zeros": "RFC 3164 section 4.1.1",
    "pri-range": "RFC 3164 section 4.1.1",
    "stamp-comma": "RFC 3164 section 4.1.2",
    "stamp-leap": "RFC 3164 section 4.1.2",
    "stamp-far": "RFC 3164 section 4.1.2",
    "stamp-year-zero": "RFC 3164 section 4.1.2",
    "blanks": "RFC 3164 section 4.1.2",
    "bom-bytes": "RFC 3164 section 4.1.3",
    "not-utf-8": "RFC 3164 section 4.1.3",
    "control": "RFC 3164 section 4.1.3",
    "ending": "RFC 3164 section 4.1",
    "empty": "RFC 3164 section 4.1",
}


def told(departure: Departure) -> str:
    """Return a departure in words, without the section.

    >>> told(Departure("no-tag")), section(Departure("no-tag"))
    ('has no TAG in front of its text', 'RFC 3164 section 4.1.3')
    """
    said = DEPARTURES[departure.kind][0]
    return f"{said}: '{departure.found}'" if departure.found else said


def section(departure: Departure, form: str = "") -> str:
    """Return the section of the standard that a message departs from; `form`: which one it is of,
    RFC3164 or RFC5424.
    """
    old = _OLD.get(departure.kind) if form == RFC3164 else None
    return old or DEPARTURES[departure.kind][1]
