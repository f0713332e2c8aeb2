"""Reads the text of one file into its statements, in both of rsyslog's styles, mixed as they may be.

*.info;mail.none  @198.51.100.21:514
if $syslogseverity <= 4 then { action(type="omfwd" target="198.51.100.21") stop }
"""

from __future__ import annotations

import re
from bisect import bisect_right
from collections.abc import Mapping, Sequence
from functools import lru_cache

from msgspec import Struct

DEEPEST = 40
MOST = 100_000  # statements of one file

# What a parameter says, and the line that says it; names are in small letters.
Param = tuple[str, int]


class Statement(Struct, frozen=True):
    """One statement with its place: the lines that it covers, and its first and last byte as characters.

    `kind`: rule (filter, body, other), action, stop, continue, call, set, object (name, params, body),
    directive (name, text), or unknown.
    """

    kind: str
    line: int
    start: int
    stop: int
    name: str = ""
    text: str = ""
    params: Mapping[str, Param] = {}
    body: tuple[Statement, ...] = ()
    other: tuple[Statement, ...] = ()
    braces: bool = False


_BLANK = re.compile(r"(?:\s+|#[^\n]*|/\*.*?\*/)+", re.S)
_OBJECT = re.compile(
    r"(action|global|template|module|input|ruleset|include|main_queue|timezone|parser|lookup_table|dyn_stats"
    r"|percentile_stats|ratelimit|property|constant)\s*\(",
    re.I,
)
_DIRECTIVE = re.compile(r"\$([A-Za-z][A-Za-z0-9.:_]*)[ \t]*((?:\\\n|[^\n])*)")
_SELECTOR = re.compile(r"[A-Za-z0-9*][A-Za-z0-9*,]*\.(?:\\\n\s*|[A-Za-z0-9*,;.!=])+(?=\s)")
_PROPERTY = re.compile(r':([A-Za-z$][\w!.-]*)\s*,\s*(!?\w+)\s*,\s*"((?:[^"\\]|\\.)*)"')
_SET = re.compile(r"(?:set|unset|reset)\s+\$[^;]{1,2000};", re.I)
_CALL = re.compile(r"call(?:_indirect)?\s+([^\s;]+)\s*;?", re.I)
_WORD = re.compile(r"(stop|continue)(?![\w.])", re.I)
_IF = re.compile(r"if(?=[\s($])", re.I)
_THEN = re.compile(
    r"""(?:"(?:[^"\\]|\\.)*"|'(?:[^'\\]|\\.)*'|\#[^\n]*|[^"'#]){1,4000}?(?<=[\s)\]])then(?!\w)""",
    re.I,
)
_ELSE = re.compile(r"else(?![\w])", re.I)
_FOREACH = re.compile(r"foreach\s*\([^)]*\)\s*do\s*", re.I)
_PARAM = re.compile(r'([A-Za-z][\w.-]*)\s*=\s*(?:"((?:[^"\\]|\\.)*)"|(\[[^\]]*\])|`[^`]*`)')
_LEGACY = re.compile(r"(?:\\\n|[^\n])+")
_CONTINUED = re.compile(r"\\\n[ \t]*")


class _Stuck(Exception):
    """What stands here is no statement."""


@lru_cache(maxsize=64)
def read_script(text: str) -> tuple[Statement, ...]:
    """The statements of a text; lines count from 1. What is not understood is a statement `unknown`."""
    return _Reader(text).whole()


class _Reader:
    def __init__(self, text: str) -> None:
        self.text, self.at, self.count = text, 0, 0
        self.ends = [m.start() for m in re.finditer("\n", text)]

    def line(self, at: int) -> int:
        return bisect_right(self.ends, at - 1) + 1

    def whole(self) -> tuple[Statement, ...]:
        out: list[Statement] = []
        while self.skip():
            if self.at_chain() and out:
                out[-1] = self.chained(out[-1])
                continue
            out.append(self.safely())
        return tuple(out)

    def safely(self) -> Statement:
        """The statement here; of what is none, the rest of the line."""
        start = self.at
        try:
            return self.statement(0)
        except (_Stuck, RecursionError):
            self.at = start
            match = _LEGACY.match(self.text, start)
            self.at = match.end() if match else len(self.text)
            return self.made("unknown", start, text=self.text[start : self.at])

    def skip(self) -> bool:
        """Passes over blanks and comments; whether anything is left."""
        match = _BLANK.match(self.text, self.at)
        if match:
            self.at = match.end()
        self.count += 1
        return self.at < len(self.text) and self.count < MOST

    def made(self, kind: str, start: int, **fields: object) -> Statement:
        return Statement(kind, self.line(start), start, self.at, **fields)  # type: ignore[arg-type]

    def match(self, pattern: re.Pattern[str]) -> re.Match[str] | None:
        found = pattern.match(self.text, self.at)
        if found:
            self.at = found.end()
        return found

    def statement(self, depth: int) -> Statement:
        if depth > DEEPEST:
            raise _Stuck
        start, text = self.at, self.text
        # Directives, selectors and property filters begin their line.
        if not text[text.rfind("\n", 0, start) + 1 : start].strip():
            if found := self.match(_DIRECTIVE):
                said = _CONTINUED.sub("", found[2]).strip()
                return self.made("directive", start, name=found[1].lower(), text=said)
            if found := self.match(_SELECTOR):
                return self.rule("selector", start, _CONTINUED.sub("", found[0]), depth)
            if found := self.match(_PROPERTY):
                return self.rule("property", start, found[0], depth, named=found.groups())
        if found := self.match(_WORD):
            return self.made(found[1].lower(), start)
        if self.match(_IF):
            return self.condition(start, depth)
        if self.match(_SET):
            return self.made("set", start)
        if found := self.match(_CALL):
            return self.made("call", start, name=found[1])
        if self.match(_FOREACH):
            self.block(depth)
            return self.made("unknown", start, text=text[start : self.at])
        if found := self.match(_OBJECT):
            return self.object(found[1].lower(), start, depth)
        if text[start : start + 1] == "{":
            body, _ = self.block(depth)
            return self.made("rule", start, name="always", body=body, braces=True)
        raise _Stuck

    def rule(self, kind: str, start: int, text: str, depth: int, named: Sequence[str] = ()) -> Statement:
        self.blank()
        body, braces = self.block(depth) if self.text[self.at : self.at + 1] == "{" else ((self.act(depth),), False)
        params = {part: (said, 0) for part, said in zip(("name", "compare", "value"), named, strict=False)}
        return self.made("rule", start, name=kind, text=text, body=body, braces=braces, params=params)

    def condition(self, start: int, depth: int) -> Statement:
        begun = self.at
        if not self.match(_THEN):
            raise _Stuck
        text = re.sub(r"#[^\n]*\n", "\n", self.text[begun : self.at - 4])
        body, braces = self.acts(depth)
        at = self.at
        other: tuple[Statement, ...] = ()
        self.skip()
        if self.match(_ELSE):
            other, _ = self.acts(depth)
        else:
            self.at = at
        return self.made("rule", start, name="if", text=text.strip(), body=body, other=other, braces=braces)

    def acts(self, depth: int) -> tuple[tuple[Statement, ...], bool]:
        self.skip()
        if self.text[self.at : self.at + 1] == "{":
            return self.block(depth)
        return (self.act(depth),), False

    def block(self, depth: int) -> tuple[tuple[Statement, ...], bool]:
        out: list[Statement] = []
        self.at += 1
        while True:
            if not self.skip():
                raise _Stuck
            if self.text[self.at] == "}":
                self.at += 1
                return tuple(out), True
            if self.at_chain() and out:
                out[-1] = self.chained(out[-1])
                continue
            out.append(self.act(depth))

    def blank(self) -> None:
        while self.text[self.at : self.at + 1] in (" ", "\t") or self.text.startswith("\\\n", self.at):
            self.at += 2 if self.text[self.at] == "\\" else 1

    def act(self, depth: int) -> Statement:
        """A statement, or an action in the older style, which goes to the end of its line."""
        start = self.at
        try:
            return self.statement(depth + 1)
        except _Stuck:
            self.at = start
        found = _LEGACY.match(self.text, start)
        if not found or (found[0][0] not in "@/-|~*^?:>" and not re.match(r"[A-Za-z][\w,-]*\s*(#|$)", found[0])):
            raise _Stuck
        self.at = found.end()
        said = re.split(r"\s#", _CONTINUED.sub("", found[0]), maxsplit=1)[0].strip()
        if said == "~":
            return self.made("stop", start)
        return self.made("action", start, name="legacy", text=said)

    def at_chain(self) -> bool:
        return self.text[self.at] == "&"

    def chained(self, head: Statement) -> Statement:
        """`& …`: one more action under the filter of the rule before."""
        self.at += 1
        self.skip()
        try:
            more = self.act(0)
        except _Stuck:
            more = self.safely()
        if head.kind != "rule" or (head.braces and head.name != "if"):
            return self.made("rule", head.start, name="always", body=(head, more))
        return self.made(
            "rule",
            head.start,
            name=head.name,
            text=head.text,
            body=(*head.body, more) if not head.other else head.body,
            other=(*head.other, more) if head.other else (),
            params=head.params,
            braces=head.braces,
        )

    def object(self, name: str, start: int, depth: int) -> Statement:
        params: dict[str, Param] = {}
        while True:
            if not self.skip():
                raise _Stuck
            if self.text[self.at] == ")":
                self.at += 1
                break
            begun = self.at
            if self.text[self.at] == ",":
                self.at += 1
                continue
            found = self.match(_PARAM)
            if not found:
                raise _Stuck
            value = found[2] if found[2] is not None else found[3] or "`"
            params[found[1].lower()] = (re.sub(r"\\(.)", _unescaped, value), self.line(begun))
        body: tuple[Statement, ...] = ()
        if name in ("ruleset", "template"):
            at = self.at
            if self.skip() and self.text[self.at] == "{":
                body, _ = self.block(depth)
            else:
                self.at = at
        kind = "action" if name == "action" else "object"
        return self.made(kind, start, name=name, params=params, body=body)


def _unescaped(match: re.Match[str]) -> str:
    return "\n" if match[1] == "n" else match[1]
