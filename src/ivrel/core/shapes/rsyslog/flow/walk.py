"""Works out what a configuration forwards: the order of rules, rulesets that are called, and what
stops a message.

Of every forwarding action: the facilities and severities that reach it, surely and at most.
Documentation: "Rulesets" (concepts/multi_ruleset), "stop", "call", "set" and "foreach"
(rainerscript/control_structures).
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from msgspec.structs import replace

from ivrel.core.shapes.rsyslog.flow.bounds import ALL, NONE, UNKNOWN, Bounds
from ivrel.core.shapes.rsyslog.flow.conditions import (
    PRIS,
    ends_daemon,
    holds,
    read_property,
    values,
)
from ivrel.core.shapes.rsyslog.flow.functions import Value
from ivrel.core.shapes.rsyslog.flow.installed import NUMBERS, REBINDING
from ivrel.core.shapes.rsyslog.flow.model import Action, Forward, Local, Uncertainty
from ivrel.core.shapes.rsyslog.flow.selectors import read_selector
from ivrel.core.shapes.rsyslog.flow.setup import Setup
from ivrel.core.shapes.rsyslog.syntax.expressions import ExpressionNode
from ivrel.core.shapes.rsyslog.syntax.statements import At, Param, Statement, said_of
from ivrel.core.vocabulary.errors import Unreadable
from ivrel.core.vocabulary.severity import Selection

_DEEPEST = 16  # rulesets that call each other
_MOST_STATEMENTS = 20_000  # statements that are carried out

# An action that runs now and then only, and what is to be said of it.
_SELDOM = {
    "action.execonlywhenpreviousissuspended": "sends only while the action before it cannot",
    "action.execonlyeverynthtime": "sends one message of several",
    "action.execonlyonceeveryinterval": "sends once in a while",
}
# Actions that change what later conditions look at.
_CHANGING = (
    "mmjsonparse",
    "mmnormalize",
    "mmfields",
    "mmpstrucdata",
    "mmexternal",
    "mmanon",
    "mmsequence",
)


class Walk:
    """Carries out the rules for all facilities and severities at once."""

    def __init__(self, setup: Setup) -> None:
        self.setup = setup
        self.alive = ALL
        self.cause: Uncertainty | None = None
        self.forwards: dict[At, Forward] = {}
        self.locals: list[Local] = []
        self.doubts: list[Uncertainty] = []
        self.others: list[Uncertainty] = []
        self.variables: dict[str, tuple[Value, ...]] = {}
        self.calling: list[str] = []
        self.count = 0

    def ruleset(self, name: str, under: Bounds, why: Uncertainty | None) -> None:
        """Carry out a ruleset; one with a queue of its own has no effect on who calls it."""
        self.calling.append(name)
        alive = self.alive
        cause = self.cause
        variables = dict(self.variables)
        self.all(self.setup.rulesets.get(name, ()), under, why, (), top=True)
        # The queue has a thread of its own: what stops there, or is set there, stays there.
        if name in self.setup.queued:
            self.alive = alive
            self.cause = cause
            self.variables = variables
        self.calling.pop()

    def all(
        self,
        statements: Sequence[Statement],
        under: Bounds,
        why: Uncertainty | None,
        chain: tuple[Statement, ...],
        *,
        top: bool = False,
    ) -> None:
        rules = [s for s in statements if s.acts]
        for n, s in enumerate(rules):
            self.count += 1
            if self.count > _MOST_STATEMENTS:
                raise Unreadable(f"more than {_MOST_STATEMENTS} statements")
            if s.kind == "list" and top and n + 1 < len(rules):
                # The daemon loses all actions but the first where another rule follows.
                self.all(s.body[:1], under, why, (*chain, s))
                for lost in s.body[1:]:
                    action = self.setup.actions.get(lost.place)
                    if action is not None:
                        idle = "rsyslogd loses what stands behind '&' without a filter"
                        self.action(replace(action, idle=idle), under, why, (*chain, s, lost))
            else:
                self.one(s, under, why, (*chain, s))

    def one(
        self, s: Statement, under: Bounds, why: Uncertainty | None, chain: tuple[Statement, ...]
    ) -> None:
        match s.kind:
            case "rule":
                takes, doubt = self.filter(s)
                self.all(s.body, under & takes, why or doubt, chain)
                if s.other:
                    self.all(s.other, under.without(takes), why or doubt, chain)
            case "list":
                self.all(s.body, under, why, chain)
            case "action" | "legacy":
                self.action(self.setup.actions[s.place], under, why, chain)
            case "stop":
                self.stop(under, why)
            case "call":
                self.call(s, under, why)
            case "call-indirect":
                self.called_by_name(s, under)
            case "foreach":
                doubt = why or Uncertainty(s.raw, s.line)
                self.all(s.body, Bounds(NONE.sure, under.most), doubt, chain)
            case "set" | "unset":
                self.assign(s, under)
            case "reload" if s.test is None or s.test.value not in self.setup.tables:
                self.doubts.append(Uncertainty(f"{s.raw} (no such table)", s.line))

    def stop(self, under: Bounds, why: Uncertainty | None) -> None:
        gone = self.alive & under
        # If it is not sure what stops here, neither is what comes behind it.
        if not gone.known:
            self.cause = self.cause or why
        self.alive = self.alive.without(gone)

    def call(self, s: Statement, under: Bounds, why: Uncertainty | None) -> None:
        name = s.name.lower()
        if name not in self.setup.rulesets:
            self.others.append(Uncertainty(f"{s.raw}, which there is not", s.line))
        elif name in self.calling or len(self.calling) > _DEEPEST:
            self.doubts.append(Uncertainty(f"{s.raw} (calls itself)", s.line))
        else:
            if _does_nothing(self.setup.rulesets[name]):
                self.doubts.append(
                    Uncertainty(f"{s.raw} (does nothing, which ends rsyslogd)", s.line)
                )
            self.ruleset(name, under, why)

    def called_by_name(self, s: Statement, under: Bounds) -> None:
        """Call a ruleset whose name is worked out, for each facility and severity; where that is
        not known, any may be meant.
        """
        found = self.values(s.test) if s.test else (None,) * PRIS
        by_name: dict[str, int] = {}
        unknown = 0
        for pri, value in enumerate(found):
            if value is None:
                unknown |= 1 << pri
            else:
                name = str(value).lower()
                by_name[name] = by_name.get(name, 0) | 1 << pri
        for name, bits in by_name.items():
            if name in self.setup.rulesets or len(by_name) == 1:
                called = Statement("call", s.source, s.line, s.start, s.stop, name)
                self.call(called, under & Bounds(Selection(bits), Selection(bits)), None)
        doubt = Uncertainty(s.raw, s.line)
        for name in self.setup.rulesets if unknown else ():
            if name not in self.calling and name != self.setup.default:
                self.ruleset(name, under & Bounds(NONE.sure, Selection(unknown)), doubt)

    def assign(self, s: Statement, under: Bounds) -> None:
        """A variable that is set: for what surely comes here its new value, for what may, an
        unknown one.
        """
        name = s.name
        reached = self.alive & under
        # What is set is a text from there on.
        found = self.values(s.test) if s.test else ("",) * PRIS
        new: tuple[Value, ...] = tuple(None if value is None else str(value) for value in found)
        local = name.startswith("$.")
        old = self.variables.get(name, (("" if local else None),) * PRIS)
        # A variable is a tree: to set one part of it changes what the whole says, and the other way
        # about.
        below = name if name in ("$!", "$.", "$/") else f"{name}!"
        related = [n for n in self.variables if n.startswith(below) or name.startswith(f"{n}!")]
        for n in related:
            self.variables[n] = (None,) * PRIS
        if "!" in name[2:] or "[" in name or name.startswith("$/"):
            new = (None,) * PRIS
        held = []
        # Values are kept for each facility and severity, since filters may let only some of them
        # come here.
        for pri in range(PRIS):
            if reached.sure.bits >> pri & 1:
                held.append(new[pri])
            elif reached.most.bits >> pri & 1:
                held.append(old[pri] if old[pri] == new[pri] else None)
            else:
                held.append(old[pri])
        self.variables[name] = tuple(held)

    def values(self, test: ExpressionNode) -> tuple[Value, ...]:
        """Return the value of an expression for each PRI, where it stands."""
        by_number = NUMBERS.is_made(self.setup.software) is True
        return values(test, self.variables, by_number=by_number)

    def filter(self, s: Statement) -> tuple[Bounds, Uncertainty | None]:
        """Return the selection of a rule's filter, and the remaining doubt."""
        software = self.setup.software
        if s.name == "selector":
            try:
                takes = read_selector(s.text)
            except ValueError:
                return UNKNOWN, Uncertainty(s.text, s.line)
            return Bounds(takes, takes), None
        if s.test is not None:
            self.doubts += (
                Uncertainty(f"{s.raw} ({why})", s.line) for why in ends_daemon(s.test, software)
            )
        head = " ".join(s.source.whole[s.start : s.head].split())[:160]
        if s.name == "property":
            found = read_property(s.text)
        elif s.test is None:
            found = UNKNOWN
        else:
            by_number = NUMBERS.is_made(software) is True
            found = holds(s.test, self.variables, by_number=by_number)
            if not by_number and not found.known:
                would = holds(s.test, self.variables, by_number=True)
                if would != found:
                    head += f" ({NUMBERS.said('may compare texts', 'compares numbers')})"
        return found, None if found.known else Uncertainty(head, s.line)

    def action(
        self, action: Action, under: Bounds, why: Uncertainty | None, chain: tuple[Statement, ...]
    ) -> None:
        takes = self.alive & under
        doubt = None if takes.known else (why or self.cause)
        seldom, why_seldom = _seldom(action, self.setup)
        if seldom:
            takes = Bounds(NONE.sure, takes.most)
            doubt = Uncertainty(why_seldom, action.params[seldom].line)
        line = action.statement.line
        if action.idle:
            if action.sends:
                self.forward(action, NONE, None, chain)
            else:
                self.others.append(
                    Uncertainty(f"action of type {action.kind}: {action.idle}", line)
                )
            return
        match action.kind:
            case "omfwd" | "omrelp" | "omudpspoof":
                self.forward(action, takes, doubt, chain)
            case "file" | "omfile":
                console = action.name == "/dev/console"
                self.locals.append(
                    Local("console" if console else "file", action.name or "-", takes, line)
                )
            case "dynfile":
                self.locals.append(Local("file", "", takes, line))
            case "omusrmsg" | "users":
                self.locals.append(Local("sessions", action.name or "users", takes, line))
            case "":
                self.doubts.append(Uncertainty(action.statement.raw, line))
            case _:
                # Properties of messages may say anything from here on.
                if action.kind in _CHANGING:
                    self.variables = {
                        n: v for n, v in self.variables.items() if not n.startswith("$!")
                    }
                self.others.append(Uncertainty(f"action of type {action.kind}", line))

    def forward(
        self, action: Action, takes: Bounds, doubt: Uncertainty | None, chain: tuple[Statement, ...]
    ) -> None:
        place = action.statement.place
        before = self.forwards.get(place)
        if before is not None:
            # Reached again, by another call of its ruleset.
            takes = before.takes | takes
            doubt = before.doubt or doubt
        self.forwards[place] = Forward(action, takes, None if takes.known else doubt, chain)


def _seldom(action: Action, setup: Setup) -> tuple[str, str]:
    """Return the parameter by which an action does not send all that reaches it, and why; '' if
    there is none.
    """
    params = action.params
    for name, why in _SELDOM.items():
        if (said_of(params, name) or "").lower() not in ("off", "0", ""):
            return name, why
    discards = said_of(params, "queue.discardseverity") or ""
    if discards.isdecimal() and int(discards) < 8:
        return "queue.discardseverity", "drops messages when its queue fills"
    held = _held(params, has_folder="workdirectory" in setup.settings)
    if held[0]:
        return held
    rebinds = said_of(params, "rebindinterval") or "0"
    by_param = action.statement.kind == "action" and action.endpoint[2] == "udp"
    if by_param and rebinds != "0" and REBINDING.is_made(setup.software) is not False:
        said = REBINDING.said("sends all", "loses messages at each rebinding")
        return "rebindinterval", f"rebindInterval over UDP: {said}"
    hours = {"queue.dequeuetimebegin": "0", "queue.dequeuetimeend": "25"}
    for name, whole_day in hours.items():
        if (said_of(params, name) or whole_day) != whole_day:
            return name, "sends at some hours only"
    return "", ""


_LONGEST = 10_000  # milliseconds for which a queue may wait for more, and still counts as sending


def _held(params: Mapping[str, Param], *, has_folder: bool) -> tuple[str, str]:
    """Return the parameter by which a queue holds messages back, or drops them when it is full.

    has_folder: whether the daemon has a folder for what it keeps.
    """
    kind = (said_of(params, "queue.type") or "direct").lower()
    if kind == "direct":
        return "", ""
    least = said_of(params, "queue.mindequeuebatchsize") or "0"
    wait = said_of(params, "queue.mindequeuebatchsize.timeout") or "1000"
    if least not in ("0", "1") and (not wait.isdecimal() or int(wait[:9]) > _LONGEST):
        return "queue.mindequeuebatchsize", f"waits for {least} messages, or {wait} ms"
    if said_of(params, "queue.timeoutenqueue") == "0":
        return "queue.timeoutenqueue", "drops messages when its queue is full"
    if kind == "disk" and "queue.filename" in params and not has_folder:
        return "queue.type", "keeps its queue where the daemon was started: no workDirectory is set"
    if (said_of(params, "queue.maxdiskspace") or "0") != "0" and kind == "disk":
        return "queue.maxdiskspace", "drops messages when its queue is full"
    return "", ""


def _does_nothing(statements: Sequence[Statement]) -> bool:
    """Whether there are rules, and all that they do is to continue."""
    rules = [s for s in statements if s.acts]
    return bool(rules) and all(
        s.kind == "continue" or _does_nothing((*s.body, *s.other)) for s in rules
    )
