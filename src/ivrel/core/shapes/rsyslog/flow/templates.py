"""Templates: what form a forwarded message has, from the name or the text of its template."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence

from ivrel.core.shapes.rsyslog.syntax.statements import Param, Statement, said_of

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
    if said.get("option.jsonf", "off") != "off":
        return None
    if said.get("type") == "string":
        return said.get("string")
    out = ""
    for name, params in body:
        if name == "constant":
            out += params.get("value", "")
        elif name == "property" and "name" in params:
            form = f":::date-{params['dateformat']}" if "dateformat" in params else ""
            # Anything else makes it another text than the plain property.
            plain = "" if params.keys() <= _PLAIN else ":?"
            out += f"%{params['name']}{form}{plain}%"
        else:
            return None
    return out or None


# What does not change the text of a property.
_PLAIN = frozenset({"name", "dateformat", "outname"})
_TYPES = ("string", "list", "subtree", "plugin")
# The properties of a message ("Properties", configuration/properties), and what the daemon calls
# others by ("System properties" there): in any case of their letters.
_PROPERTIES = frozenset(
    """
    $bom $day $day-utc $hhour $hhour-utc $hour $hour-utc $minute $minute-utc $month $month-utc
    $myhostname $now $now-unixtimestamp $now-utc $qhour $qhour-utc $uptime $wday $wday-utc $year
    $year-utc app-name fromhost fromhost-ip hostname inputname iut jsonmesg msg msgid parsesuccess
    pri pri-text procid programname protocol-version rawmsg rawmsg-after-pri source structured-data
    syslogfacility syslogfacility-text syslogpriority syslogpriority-text syslogseverity
    syslogseverity-text syslogtag timegenerated timereported timestamp uuid
    """.split()
)
_SWITCHES = ("option.sql", "option.stdsql", "option.json", "option.jsonf", "option.casesensitive")


def refused_template(params: Mapping[str, Param], body: Sequence[Statement]) -> str:
    """Return why the daemon refuses a template, so that there is none of its name; '' if it takes
    it.

    `params`: its own; `body`: what is listed in it. A property of a list that means nothing is left
    out, and the rest is taken.
    """
    for name, param in params.items():
        if param.array is not None:
            return f"its {name} is a list"
        if name in _SWITCHES and param.value not in ("on", "off", None):
            return f"its {name} is neither on nor off"
    kind = said_of(params, "type")
    if "type" not in params or (kind is not None and kind not in _TYPES):
        return "it has no type that there is"
    if kind == "string":
        text = params.get("string")
        if text is None or text.value == "":
            return "it has no string"
        return _wrong_property(text.value or "")
    if kind == "list":
        if not body:
            return "it lists nothing"
        empty = any(part.name == "constant" and "value" not in part.params for part in body)
        return "a constant has no value" if empty else ""
    return f"it has no {kind}" if kind in ("subtree", "plugin") and kind not in params else ""


def _wrong_property(text: str) -> str:
    """Return the property in a string that there is not; '' if there are all."""
    # What is behind the last `%` has no end, and is none.
    for said in text.split("%")[1:-1:2]:
        name, _, rest = said.partition(":")
        if not _is_property(name):
            return f"there is no property '{name}'"
        if re.match("F,[^0-9]", rest):
            return f"'{said}' names no sign that divides fields"
    return ""


def _is_property(name: str) -> bool:
    return name.lower() in _PROPERTIES or name[:2] in ("$!", "$.", "$/")


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
