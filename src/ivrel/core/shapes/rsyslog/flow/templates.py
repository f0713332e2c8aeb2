"""Templates: what form a forwarded message has, from the name or the text of its template."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence

Form = tuple[str, str, str, str]  # format, precision, year, zone

# RFC 3164 section 4.1.2: a stamp without year and zone. RFC 3339 stamps, which RFC 5424 asks for,
# have both.
BARE: Form = ("rfc3164", "seconds", "hidden", "hidden")
DATED: Form = ("rfc3164", "microseconds", "shown", "shown")
FULL: Form = ("rfc5424", "microseconds", "shown", "shown")

BUILT_IN: Mapping[str, Form | None] = {
    "RSYSLOG_TraditionalForwardFormat": BARE,
    "RSYSLOG_ForwardFormat": DATED,
    "RSYSLOG_SyslogProtocol23Format": FULL,
    "RSYSLOG_SyslogRFC5424Format": FULL,
    **dict.fromkeys(
        (
            "RSYSLOG_TraditionalFileFormat",
            "RSYSLOG_FileFormat",
            "RSYSLOG_SysklogdFileFormat",
            "RSYSLOG_WallFmt",
            "RSYSLOG_DebugFormat",
            "RSYSLOG_omudpspoofDfltSourceTpl",
        )
    ),
}
_NAMES = {
    BARE: "RSYSLOG_TraditionalForwardFormat",
    DATED: "RSYSLOG_ForwardFormat",
    FULL: "RSYSLOG_SyslogProtocol23Format",
}

_STAMP = r"%(?:timestamp|timereported|timegenerated)"
_FORMS = (
    (re.compile(rf"<%pri%>1 {_STAMP}:::date-rfc3339% ", re.I), FULL),
    (re.compile(rf"<%pri%>{_STAMP}:::date-rfc3339% ", re.I), DATED),
    (re.compile(rf"<%pri%>{_STAMP}(?:::date-rfc3164)?% ", re.I), BARE),
    (re.compile(rf"<%pri%>{_STAMP}:::date-rfc3164% ", re.I), BARE),
)


def form_of(text: str | None) -> Form | None:
    """Return the form that a template's text makes; None if it is not a known one."""
    return next((form for pattern, form in _FORMS if text and pattern.match(text)), None)


def text_of(said: Mapping[str, str], body: Sequence[tuple[str, Mapping[str, str]]]) -> str | None:
    """Return the text of a template, given as one string or as a list of constants and
    properties.
    """
    if "string" in said:
        return said["string"]
    out = ""
    for name, params in body:
        if name == "constant":
            out += params.get("value", "")
        elif name == "property" and "name" in params:
            form = f":::date-{params['dateformat']}" if "dateformat" in params else ""
            out += f"%{params['name']}{form}%"
        else:
            return None
    return out or None


def name_for(form: Form) -> str | None:
    """Return the built-in template whose messages bear at least what is asked: the format, year and
    zone, the precision.
    """
    if form in _NAMES:
        return _NAMES[form]
    wanted, precision, year, zone = form
    if wanted == "rfc5424":
        return _NAMES[FULL]
    more = "shown" in (year, zone) or precision != "seconds"
    return _NAMES[DATED if more else BARE]
