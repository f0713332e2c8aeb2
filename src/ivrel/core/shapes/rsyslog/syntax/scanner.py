"""Cuts a configuration into tokens, file by file, as the daemon does: in four states, the longest
match first.

What a token is depends on the state: outside of objects and expressions a word may be an action in
the older style, which goes to the end of its line. Included files come in place of what includes
them, and a file may begin in the middle of a block of another. No pattern runs over more than one
token.

Documentation: "RainerScript", objects and expressions (rainerscript/configuration_objects,
rainerscript/expressions); "Filter Conditions" (configuration/filters); "Actions", the older style
(configuration/actions).
"""

from __future__ import annotations

import re
from collections.abc import Callable

from msgspec import Struct

from ivrel.core.shapes.rsyslog.syntax.source import JOINT, Source

MOST_TOKENS = 400_000  # tokens of one configuration
_MOST_MISTAKES = 60  # what is no token, before the rest is given up


class Token(Struct, frozen=True):
    """A token, and where it is in what the daemon takes in of a file."""

    kind: str
    text: str
    source: Source
    start: int
    stop: int

    @property
    def line(self) -> int:
        """The line that it begins in, from 1."""
        return self.source.line(self.start)


class SyntaxMistake(Struct, frozen=True):
    """What the daemon refuses, and its line."""

    text: str
    line: int


def _any(*words: str) -> str:
    return "|".join(words)


_OBJECTS = """
    action global template module input ruleset include main_queue timezone parser lookup_table
    dyn_stats percentile_stats ratelimit property constant
""".split()
_STRING = r'"(?:[^"\\$]|\\["\'\\$bntr?abfv]|\\x[0-9a-fA-F]{2}|\\[0-7]{3}){0,50000}"'
_QUOTED = r"'(?:[^'\\]|\\[\"'\\$bntr?abfv]|\\x[0-9a-fA-F]{2}|\\[0-7]{3}){0,50000}'"
_INNER = r'"(?:[^"\\]|\\["\'?\\abfnrtv$]|\\[0-7]{1,3}|\\x[0-9a-fA-F]{2}){0,50000}"'
_TICKS = r"`(?:[^`\\]|\\.){0,5000}`"

Table = tuple[tuple[str, re.Pattern[str]], ...]


def _table(*rows: tuple[str, str]) -> Table:
    return tuple((kind, re.compile(pattern, re.I | re.S | re.A)) for kind, pattern in rows)


# Each state's tokens; of those that match as much, the first is meant.
_OUTSIDE = _table(
    ("word", _any("if", "foreach", "reload_lookup_table", "stop", "else", "call_indirect", "call",
                  "set", "unset", "reset", "continue", "&", r"\{", r"\}")),
    ("object", rf"(?:{_any(*_OBJECTS)})[ \n\t]*\("),
    ("include", r"\$includeconfig[ \t]+[^\n]*"),
    ("directive", r"\$[a-z]+[^\n]*"),
    ("blocked", r"![^\n]+(?=\n)"),
    ("action", _any("~", r"\*", r"-/[^*][^\n]*", r"/[^*\n][^\n]*", r":[a-z0-9]+:[^\n]*",
                    r"[|.\-@^?~>][^\n]+", r"[a-z0-9_][a-z0-9_\-+,]*")),
    ("blank", r"[ \n\t\x1d]+|#[^\n]*"),
)  # fmt: skip
# What begins its line, blanks aside.
_AT_BEGIN = _table(
    ("property", r':\$?[a-z\-]+[ ]*,[ ]*!?[a-z]+[ ]*,[ ]*"(?:\\"|[^"]){0,20000}"'),
    ("selector", r"[*a-z][*a-z]*[0-7]*[.,][,!=;.*a-z0-7]+"),
    ("blocked", r"[+-](?:\*|[a-z0-9.:-]+)[ \t]*(?=[\n#])"),
)
_OBJECT = _table(
    ("end", r"\)"),
    ("name", r"[a-z][a-z0-9_.]*"),
    ("mark", r"[,\[\]=]"),
    ("string", _INNER),
    ("ticks", _TICKS),
    ("blank", r"[ \n\t]+|#[^\n]*"),
)
_EXPRESSION = _table(
    ("word", _any("then", "do", ";", "or", "and", "not", "in")),
    ("compare", _any("==", "<=", ">=", "!=", "<>", "<", ">", "contains_i", "contains",
                     "startswith_i", "startswith")),
    ("mark", r"[=,*/%+&\-\[\]()]"),
    ("number", r"0[0-7]+|0x[0-9a-f]+|[1-9][0-9]*|0"),
    ("string", _STRING),
    ("string", _QUOTED),
    ("ticks", _TICKS),
    ("variable", r"\$[$!./]?[@a-z_]*[!@a-z0-9\-_.\[\]]*"),
    ("name", r"[a-z][a-z0-9_]*"),
    ("blank", r"[ \n\t]+"),
)  # fmt: skip
_CALL = _table(("name", r"[a-z][a-z0-9\-_.]+"), ("blank", r"[ \n\t]+"))
_COMMENT = re.compile(r"/\*.*?\*/", re.S)

Opened = tuple[Source, ...]


class Scanner:
    """Hands out tokens one by one; `include` gives the files that an `$IncludeConfig` names."""

    def __init__(self, source: Source, include: Callable[[str, Token], Opened]) -> None:
        self._open: list[tuple[Source, int]] = [(source, 0)]
        self._include = include
        self._state = _OUTSIDE
        self._count = 0
        self._begins = True  # only blanks stand before, in this line
        self.mistakes: list[SyntaxMistake] = []
        self.given_up = False
        self.last: Token | None = None

    @property
    def within(self) -> tuple[str, ...]:
        """The names of the files that are open, the outermost first."""
        return tuple(source.name for source, _ in self._open)

    def push(self, sources: Opened) -> None:
        """Go on with other files, and then where it was."""
        self._open += [(source, 0) for source in reversed(sources)]
        self._begins = True

    def next(self) -> Token:
        """Return the next token that is neither blank nor comment.

        Of kind '' where nothing is left.
        """
        while True:
            found = self._one()
            if found is None or found.kind == "blank":
                if found is None:
                    source, at = self._open[-1]
                    return Token("", "", source, at, at)
                continue
            if found.kind == "include":
                self.push(self._include(found.text.split(None, 1)[1], found))
                continue
            if found.kind == "blocked":
                self.mistakes.append(
                    SyntaxMistake("blocks of programs and hosts any more", found.line)
                )
                continue
            self._turn(found)
            self.last = found
            return found

    def _one(self) -> Token | None:
        """Return one token, blank or not; None at the end of all."""
        while self._open:
            source, at = self._open[-1]
            self._count += 1
            if self._count > MOST_TOKENS or len(self.mistakes) > _MOST_MISTAKES:
                self.given_up = True
            if self.given_up or (at >= len(source.text) and len(self._open) == 1):
                self._open[-1] = (source, len(source.text))
                return None
            if at >= len(source.text):
                self._open.pop()
                self._begins = True
                continue
            kind, stop = self._longest(source.text, at)
            self._open[-1] = (source, stop)
            token = Token(kind, source.text[at:stop], source, at, stop)
            self._begins = (
                kind == "blank"
                and (self._begins or "\n" in token.text)
                and token.text[-1:].isspace()
            )
            if kind != "wrong":
                return token
            self.mistakes.append(SyntaxMistake(f"'{token.text}' in this line", token.line))
        return None

    def _longest(self, text: str, at: int) -> tuple[str, int]:
        if text[at] == JOINT and self._state is not _OUTSIDE:
            return "joint", at + 1
        if text.startswith("/*", at) and self._state is not _CALL:
            comment = _COMMENT.match(text, at)
            return "blank", comment.end() if comment else len(text)
        best = "wrong"
        end = at + 1
        tables = (
            (_AT_BEGIN, self._state) if self._state is _OUTSIDE and self._begins else (self._state,)
        )
        first = True
        for table in tables:
            for kind, pattern in table:
                found = pattern.match(text, at)
                if found and (found.end() > end or (first and found.end() == end)):
                    best = kind
                    end = found.end()
                    first = False
        if best in ("action", "directive", "include"):
            # What goes to the end of its line does not hold what the daemon puts there.
            end = at + len(text[at:end].rstrip(JOINT))
        return best, end

    def _turn(self, token: Token) -> None:
        """The state behind a token."""
        word = token.text.lower()
        if token.kind == "object":
            self._state = _OBJECT
        elif token.kind == "end":
            self._state = _OUTSIDE
        elif self._state is _CALL:
            self._state = _OUTSIDE if token.kind == "name" else _CALL
        elif token.kind == "word":
            if word in ("then", "do", ";"):
                self._state = _OUTSIDE
            elif word in (
                "if",
                "foreach",
                "reload_lookup_table",
                "call_indirect",
                "set",
                "unset",
                "reset",
            ):
                self._state = _EXPRESSION
            elif word == "call":
                self._state = _CALL

    def outside(self) -> None:
        """Leave an expression that ends with its last token (a procedure's closing
        parenthesis).
        """
        self._state = _OUTSIDE
