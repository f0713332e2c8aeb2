"""Statements of a configuration, as the parser makes them."""

from __future__ import annotations

from collections.abc import Mapping

from msgspec import Struct

from ivrel.core.shapes.rsyslog.syntax.expressions import (
    ExpressionNode,
)
from ivrel.core.shapes.rsyslog.syntax.scanner import SyntaxMistake
from ivrel.core.shapes.rsyslog.syntax.source import Source

At = tuple[str, int, str]


BLANKS = " \t\n\r\f\v"  # of the daemon, which reads bytes


class Param(Struct, frozen=True):
    """What a parameter says, its line, and where name and value are in the file.

    None is what nobody knows here.
    """

    value: str | None
    line: int
    start: int = 0
    stop: int = 0
    array: tuple[str, ...] | None = None


def said_of(params: Mapping[str, Param], name: str) -> str | None:
    """Return the value of a parameter; None if it is missing, or depends on the machine."""
    return params[name].value if name in params else None


class Statement(Struct, frozen=True):
    """One statement, its first line, and its place in its file.

    `kind`: rule (filter, body, other), list (actions behind `&`), action, legacy (an action to the
    end of its line), stop, continue, call, call-indirect, set, unset, foreach, reload, object,
    include, directive. `head`: where the filter of a rule ends.
    """

    kind: str
    source: Source
    line: int
    start: int
    stop: int
    name: str = ""
    text: str = ""
    params: Mapping[str, Param] = {}
    test: ExpressionNode | None = None
    body: tuple[Statement, ...] = ()
    other: tuple[Statement, ...] = ()
    head: int = 0

    @property
    def place(self) -> At:
        """What tells statements apart: the file, where in it, and the kind (a list begins where its
        first does).
        """
        return self.source.name, self.start, self.kind

    @property
    def acts(self) -> bool:
        """Whether it does something when a message comes.

        The rest is settled when the daemon starts.
        """
        return self.kind not in ("directive", "include", "object")

    @property
    def raw(self) -> str:
        """The text of the statement, in one line."""
        return " ".join(self.source.whole[self.start : self.stop].split())[:160]


class Script(Struct, frozen=True):
    """All statements of a configuration, what the daemon refuses, and the line after which it reads
    nothing.
    """

    statements: tuple[Statement, ...]
    mistakes: tuple[SyntaxMistake, ...]
    end: SyntaxMistake | None
