"""Actions in the older style, which go to the end of their line: read as the daemon does, mark by
mark.

    @@198.51.100.21:601;RSYSLOG_ForwardFormat   # by TCP, with a template

Documentation: "Actions" (configuration/actions), "omfwd" and "omrelp" (configuration/modules).
"""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping

from ivrel.core.shapes.rsyslog.flow.model import Action
from ivrel.core.shapes.rsyslog.syntax.statements import BLANKS, Param, Statement

_HOST = re.compile(r"\[([^\]]*)\][^:; \t]*|([^:;#]*)")


def read_legacy(s: Statement, params: Mapping[str, Param]) -> Action:
    """Return an action in the older style: the kind, the name, and its parameters with those that
    directives say of it.
    """
    text = s.text.rstrip(BLANKS)

    def made(kind: str, name: str = "", idle: str = "", **said: str | None) -> Action:
        own = {key: Param(value, s.line) for key, value in said.items() if value is not None}
        return Action(kind, name, {**params, **own}, s, idle=idle)

    if text[0] == "@":
        return _forward(text, made)
    if text.startswith(":omrelp:"):
        host, _, rest = text[8:].partition(":")
        template = rest.partition(";")[2] if rest else host.partition(";")[2]
        port = rest.partition(";")[0].strip() or None
        return made(
            "omrelp",
            target=host.partition(";")[0].strip(),
            port=port,
            template=template.strip() or None,
        )
    if text[0] in "-/.":
        name, rest = re.match(r"-?([^; \t]*)[ \t]*(.*)", text, re.S).groups()  # type: ignore[union-attr]
        idle = "" if not rest or rest[0] in ";#" else "what stands behind the file is no template"
        return made("file", name, idle)
    if text[0] == ":":
        kind, _, name = text[1:].partition(":")
        return made(kind.lower(), name)
    kinds = {"|": "ompipe", "^": "omprog", "?": "dynfile", ">": "database"}
    return made(kinds.get(text[0], "users"), text)


def _forward(text: str, made: Callable[..., Action]) -> Action:
    """Return a forwarding action in the older style, `@host:port;template`: read as the daemon
    does, mark by mark.
    """
    found = re.match(r"(@@?)(?:\([^)]+\))?(.*)", text, re.S)
    marks, rest = (found[1], found[2]) if found else ("@", "")
    host = _HOST.match(rest)
    where = "" if host is None else host[1] if host[1] is not None else host[2]
    rest = rest[host.end() if host else 0 :]
    port = None
    if rest[:1] == ":":
        digits = re.match(":([0-9]*)", rest)
        port = digits[1] if digits else ""
        rest = re.sub(r"^[^;# \t]*", "", rest)
    rest = rest.lstrip(" \t")
    template = None
    idle = ""
    if rest[:1] == ";":
        template = re.split(r"[# \t]", rest[1:].lstrip(" \t"), maxsplit=1)[0] or None
    elif rest and rest[0] != "#":
        idle = "what stands behind the address is no template"
    return made(
        "omfwd",
        "",
        idle,
        target=where,
        port=port,
        protocol="tcp" if marks == "@@" else "udp",
        template=template,
    )
