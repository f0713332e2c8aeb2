"""What one configuration does, in data."""

from __future__ import annotations

from collections.abc import Mapping

from msgspec import Struct

from ivrel.core.shapes.rsyslog.flow.bounds import Bounds
from ivrel.core.shapes.rsyslog.flow.templates import Form
from ivrel.core.shapes.rsyslog.syntax.statements import Param, Statement
from ivrel.core.text.bundle import Part

Endpoint = tuple[str, str, str]  # address, port, transport


SWITCHED_OFF = "it is switched off"


class Uncertainty(Struct, frozen=True):
    """Something that is not understood or not certain, and where it is."""

    text: str
    line: int


class Action(Struct, frozen=True):
    """One action as it is set up: its type, its parameters with those of directives, and where it
    is.

    `idle`: why the daemon never carries it out; `before`: the file's lines of directives that are
    about it alone.
    """

    kind: str
    name: str
    params: Mapping[str, Param]
    statement: Statement
    before: tuple[Statement, ...] = ()
    idle: str = ""
    endpoint: Endpoint = ("", "", "")
    form: Form | Uncertainty | None = None

    @property
    def sends(self) -> bool:
        """Whether it is meant to send to somebody, also where something is lacking."""
        return bool(self.endpoint[0]) and self.idle != SWITCHED_OFF


class Forward(Struct, frozen=True):
    """One forwarding action, what reaches it, and why that is not certain."""

    action: Action
    takes: Bounds
    doubt: Uncertainty | None
    chain: tuple[Statement, ...]  # the statements that it stands in, itself last

    @property
    def endpoint(self) -> Endpoint:
        """Where it sends."""
        return self.action.endpoint

    @property
    def line(self) -> int:
        """The line of its action."""
        return self.action.statement.line


class Local(Struct, frozen=True):
    """An action that writes to a file, the console or the sessions."""

    kind: str
    name: str
    takes: Bounds
    line: int


class Limit(Struct, frozen=True):
    """At most so many messages in this many seconds."""

    source: str
    burst: str
    seconds: str
    line: int


class Model(Struct, frozen=True):
    """What one configuration does."""

    forwards: tuple[Forward, ...]
    relays: tuple[
        Forward, ...
    ]  # where only goes what comes in by an input of another host's messages
    locals: tuple[Local, ...]
    doubts: tuple[Uncertainty, ...]  # what may bear on everything
    limits: tuple[Limit, ...]
    others: tuple[Uncertainty, ...]  # statements that bear on no export setting
    includes: tuple[str, ...]  # the names that are included, as patterns within the folder
    main: Part
    statements: tuple[Statement, ...]
    name: Uncertainty | None = None  # what it calls itself
    default_form: bool = False  # whether it says which template holds for actions that name none
    authority: Uncertainty | None = None  # the file of the certificates that it trusts
