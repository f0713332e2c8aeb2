"""Sets a configuration up as the daemon does when it starts: in the order of the text, whatever is
carried out later.

Directives of the older style, templates and rulesets hold from where they are; what an action is
made of is settled there. Documentation: "Actions" (configuration/actions), "Templates"
(configuration/templates), "Forwarding Output Module" (configuration/modules/omfwd), "Rulesets"
(concepts/multi_ruleset).
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence

from msgspec.structs import replace

from ivrel.core.shapes.rsyslog.flow.addressing import addressed
from ivrel.core.shapes.rsyslog.flow.directives import (
    BINDS,
    DOUBTFUL,
    GLOBAL,
    LASTING,
    LIMITS,
    NEXT,
    UNSAID_LIMITS,
)
from ivrel.core.shapes.rsyslog.flow.installed import DIRECT, NAMES, unchecked
from ivrel.core.shapes.rsyslog.flow.legacy import read_legacy
from ivrel.core.shapes.rsyslog.flow.model import SWITCHED_OFF, Action, Limit, Uncertainty
from ivrel.core.shapes.rsyslog.flow.parameters import (
    ends_daemon,
    is_known_object,
    known_to,
    refused,
)
from ivrel.core.shapes.rsyslog.flow.templates import (
    BUILT_IN,
    Form,
    form_of,
    refused_template,
    text_of,
)
from ivrel.core.shapes.rsyslog.syntax.expressions import unescaped
from ivrel.core.shapes.rsyslog.syntax.statements import At, Param, Statement, said_of
from ivrel.core.vocabulary.software import Software

DEFAULT = "RSYSLOG_DefaultRuleset"
# What the host itself says comes in by these.
_OWN_INPUTS = ("imuxsock", "imjournal", "imklog", "imkmsg")
_PEERS = "streamdriverpermittedpeers"
_OF_FORWARDING = ("target", "port", "protocol", "template", "address", "device")


class Setup:
    """All that is settled when the daemon starts."""

    def __init__(self, statements: Sequence[Statement], software: Software) -> None:
        self.software = software
        self.actions: dict[At, Action] = {}
        self.rulesets: dict[str, list[Statement]] = {DEFAULT.lower(): []}
        self.tables: set[str] = set()  # lookup tables
        self.queued: set[str] = set()  # rulesets that are carried out beside the others
        self.bound: dict[str, str] = {}  # ruleset to the input that feeds it
        self.default = DEFAULT.lower()
        self.doubts: list[Uncertainty] = []
        self.others: list[Uncertainty] = []
        self.settings: dict[str, Param] = {}  # of the whole daemon
        self.name: Uncertainty | None = None
        self.statistics: Mapping[str, Param] | None = None  # how the daemon counts what it does
        self._limits: dict[str, dict[str, Param]] = {}
        self._loaded: dict[str, int] = {}
        self._faults: list[int] = []  # lines that the daemon complains of
        self._templates: dict[str, Form | None] = dict(BUILT_IN)
        self.default_form: Param | None = None
        # What directives said of the next action alone, and which they were.
        self._next: dict[str, Param] = {}
        self._before: tuple[Statement, ...] = ()
        # What they said of all actions from there on.
        self._lasting: dict[str, Param] = {}
        self._ruleset = self.default
        for statement in statements:
            self._one(statement, top=True)
        self._refused_if_unclean(statements)
        for place, action in self.actions.items():
            if action.kind in ("omfwd", "omrelp", "omudpspoof"):
                self.actions[place], doubts = addressed(
                    action, self.driver, self.authority, software
                )
                self.doubts += doubts
        if why := unchecked(software):
            self.doubts.append(Uncertainty(why, 0))

    def _refused_if_unclean(self, statements: Sequence[Statement]) -> None:
        """Note that the daemon may not start, if it is told so for any fault: a line that it
        complains of, or of which nobody here knows whether it does.
        """
        said = self.settings.get("abortonuncleanconfig")
        if said is None or (said.value or "").lower() == "off":
            return
        idle = (a for a in self.actions.values() if a.idle not in ("", SWITCHED_OFF))
        directives = (other.line for other in self.others if other.text.startswith("$"))
        lines = [*self._faults, *(action.statement.line for action in idle), *directives]
        lines += [s.line for s in statements if s.kind == "object" and not is_known_object(s)]
        if lines:
            what = f"abortOnUncleanConfig, and rsyslogd may not take line {min(lines)}"
            self.doubts.append(Uncertainty(what, said.line))

    @property
    def driver(self) -> str:
        """The stream driver of actions that name none."""
        return said_of(self.settings, "defaultnetstreamdriver") or ""

    def limits(self, forwards: Sequence[Action]) -> list[Limit]:
        """Return the most that inputs take in and actions send, of those that are in use."""
        said = dict(self._limits)
        for source in self._loaded:
            if source in UNSAID_LIMITS:
                said.setdefault(source, {})
        out = [
            _limit(source, source, one, self._loaded.get(source, 0)) for source, one in said.items()
        ]
        for action in forwards:
            one = {what: action.params[f"ratelimit.{what}"] for what in ("interval", "burst")
                   if f"ratelimit.{what}" in action.params}  # fmt: skip
            if one:
                out.append(_limit("omfwd", action.endpoint[0], one, action.statement.line))
        return [limit for limit in out if limit is not None]

    def _one(self, s: Statement, top: bool = False) -> None:
        match s.kind:
            case "directive":
                self._directive(s)
                return
            case "include":
                return
            case "object":
                self._object(s)
                return
            case "action" | "legacy":
                self.actions[s.place] = self._action(s)
        for inner in (*s.body, *s.other):
            self._one(inner)
        if top:
            self.rulesets.setdefault(self._ruleset, []).append(s)

    # Actions.

    def _action(self, s: Statement) -> Action:
        if s.kind == "action":
            params = {
                name: said
                for name, said in s.params.items()
                if said.array is None or name not in _OF_FORWARDING
            }
            kind = (said_of(params, "type") or "").lower()
            idle, unsure = refused(kind.removeprefix("builtin:"), s.params, self.software)
            if unsure and not idle:
                self.doubts.append(Uncertainty(f"{s.raw} ({unsure})", s.line))
            if kind == "omudpspoof" and "omudpspoof" not in self._loaded:
                idle = idle or "its module is not loaded before it"
            if not known_to(kind.removeprefix("builtin:"), s.params):
                self._faults.append(s.line)
            action = Action(kind, said_of(params, "file") or "", params, s, idle=idle)
        else:
            action = read_legacy(s, {**self._lasting, **self._next})
        action = replace(action, before=self._before if s.kind == "legacy" else ())
        if s.kind == "legacy":
            # What was said of the next action was said of this one.
            self._next = {}
            self._before = ()
            # Permitted peers wait for the next action that sends over TCP, and are used up by it.
            if said_of(action.params, "protocol") == "tcp":
                self._lasting = {k: v for k, v in self._lasting.items() if k != _PEERS}
        if ends_daemon(action.params):
            said = f"{s.raw} ({ends_daemon(action.params)} ends rsyslogd)"
            self.doubts.append(Uncertainty(said, s.line))
        if "config.enabled" in action.params and said_of(action.params, "config.enabled") != "on":
            action = replace(action, idle=SWITCHED_OFF)
        if action.kind in ("omfwd", "omrelp", "omudpspoof"):
            action = self._formed(action)
        return action

    def _formed(self, action: Action) -> Action:
        """Return the action with the form of its messages.

        One whose template does not be before it is disabled.
        """
        said = action.params.get("template") or self.default_form
        name = said.value if said else None
        line = said.line if said else action.statement.line
        if said is not None and name is None:
            return replace(action, form=Uncertainty("the template is worked out elsewhere", line))
        if name is None:
            name = (
                "RSYSLOG_TraditionalForwardFormat"
                if action.kind != "omrelp"
                else "RSYSLOG_ForwardFormat"
            )
        # Actions are settled as the text goes: a template that comes later is not there yet.
        if name not in self._templates:
            return replace(action, idle=action.idle or f"no template '{name}' is defined before it")
        change = NAMES.get(name)
        made = change.is_made(self.software) if change else True
        if change and made is None:
            unsure = change.said("has no such template", "has it")
            self.doubts.append(Uncertainty(f"template {name} ({unsure})", line))
        elif not made:
            return replace(action, idle=action.idle or f"this version has no template '{name}'")
        form = self._templates[name]
        return replace(
            action, form=form if form is not None else Uncertainty(f"template {name}", line)
        )

    @property
    def authority(self) -> Param | None:
        """The file of the certificates that are trusted."""
        return self.settings.get("defaultnetstreamdrivercafile")

    # Directives and objects.

    def _directive(self, s: Statement) -> None:
        name = s.name
        value = _argument(s.text)
        param = Param(value, s.line)
        if name in NEXT:
            self._next[NEXT[name]] = param
            self._before = (*self._before, s)
        elif name in LASTING:
            self._lasting[LASTING[name]] = param
        elif name in GLOBAL:
            self.settings[GLOBAL[name]] = param
        elif name in LIMITS:
            source, what = LIMITS[name]
            self._limits.setdefault(source, {})[what] = param
        elif name in BINDS:
            self.bound.setdefault(value.lower(), BINDS[name])
        elif name in DOUBTFUL:
            self.doubts.append(Uncertainty(s.raw, s.line))
        elif not self._of_its_own(s, value, param):
            self.others.append(Uncertainty(f"${s.name}", s.line))

    def _of_its_own(self, s: Statement, value: str, param: Param) -> bool:
        """Take a directive that no table has; say whether it is one."""
        match s.name:
            case "actionforwarddefaulttemplate" | "actionforwarddefaulttemplatename":
                # Quotes belong to the name.
                self.default_form = Param(next(iter(s.text.split()), ""), s.line)
            case "localhostname":
                self.name = Uncertainty(value, s.line)
            case "template":
                called, _, text = s.text.partition(",")
                found = re.match(r'\s*"((?:[^"\\]|\\.)*)"', text, re.S)
                if found is None and not text.lstrip().startswith(("=", '"')):
                    self._faults.append(s.line)
                    return True  # without quotes it is no text
                form = form_of(unescaped(found[1]) if found else None)
                # Blanks before the comma belong to the name.
                self._templates.setdefault(called.lstrip(), form)
            case "modload":
                self._loaded.setdefault(value.lower().removesuffix(".so"), s.line)
            case "ruleset":
                self._ruleset = value.lower()
                self.rulesets.setdefault(self._ruleset, [])
            case "rulesetcreatemainqueue":
                if value.lower() == "on":
                    self.queued.add(self._ruleset)
            case "defaultruleset":
                # One that is not there yet is none.
                if value.lower() in self.rulesets:
                    self.default = value.lower()
            case _:
                return False
        return True

    def _object(self, s: Statement) -> None:
        said = {name: param.value or "" for name, param in s.params.items()}
        if s.params.get("config.enabled", Param("on", 0)).value != "on":
            self.others.append(Uncertainty(f"{s.name}, which is switched off", s.line))
            return
        match s.name:
            case "template":
                inner = [(b.name, {n: p.value or "" for n, p in b.params.items()}) for b in s.body]
                why = refused_template(s.params, s.body)
                if why:
                    self.others.append(Uncertainty(f"template, which is refused: {why}", s.line))
                    self._faults.append(s.line)
                    return
                self._templates.setdefault(said.get("name", ""), form_of(text_of(said, inner)))
                if said.get("type") == "plugin":
                    self.doubts.append(
                        Uncertainty(f"{s.raw} (the plugin may not be there)", s.line)
                    )
            case "ruleset":
                self._define(s, said)
            case "main_queue" if ends_daemon(s.params):
                ends = ends_daemon(s.params)
                self.doubts.append(Uncertainty(f"{s.raw} ({ends} ends rsyslogd)", s.line))
            case "lookup_table":
                self.tables.add(said.get("name", ""))
            case "module":
                self._module(s, said)
            case "global":
                held = GLOBAL.values()
                self.settings |= {key: s.params[key] for key in held if key in s.params}
                if "localhostname" in said:
                    self.name = Uncertainty(said["localhostname"], s.params["localhostname"].line)
            case "input":
                self._bind(s, said)
        self.others.append(Uncertainty(s.name, s.line))

    def _define(self, s: Statement, said: Mapping[str, str]) -> None:
        """Take a ruleset; of several of one name, the first."""
        for inner in s.body:
            self._one(inner)
        name = said.get("name", "").lower()
        if name in self.rulesets:
            return
        self.rulesets[name] = list(s.body)
        queue = {n for n in said if n.startswith("queue.")}
        if ends_daemon(s.params):
            ends = ends_daemon(s.params)
            self.doubts.append(Uncertainty(f"ruleset {name} ({ends} ends rsyslogd)", s.line))
        # A direct queue is none: its rules are carried out by whoever calls them.
        kind = said.get("queue.type", "").lower()
        is_direct = kind == "direct" and DIRECT.is_made(self.software)
        if queue and kind == "direct" and is_direct is None:
            unsure = DIRECT.said("has a queue all the same", "has none")
            self.doubts.append(Uncertainty(f"ruleset {name} ({unsure})", s.line))
        if queue and not is_direct:
            self.queued.add(name)

    def _bind(self, s: Statement, said: Mapping[str, str]) -> None:
        """Take the ruleset that an input feeds."""
        if "ruleset" not in said:
            return
        kind = said.get("type", "").lower()
        self.bound.setdefault(said["ruleset"].lower(), kind)
        # What the host says itself then goes another way than the one that is walked.
        if kind in _OWN_INPUTS:
            self.doubts.append(Uncertainty(s.raw, s.line))

    def _module(self, s: Statement, said: Mapping[str, str]) -> None:
        name = said.get("load", "").lower().removeprefix("builtin:").removesuffix(".so")
        self._loaded.setdefault(name, s.line)
        if name == "impstats":
            self.statistics = s.params
        if name == "omfwd" and "template" in said:
            self.default_form = s.params["template"]
        for key, param in s.params.items():
            what = re.fullmatch(r"(?:syssock\.)?ratelimit\.(interval|burst)", key)
            if what:
                self._limits.setdefault(name, {})[what[1]] = param


def _argument(text: str) -> str:
    """Return the first word of a directive's value: what follows it is a comment."""
    found = re.match(r'"([^"]*)"|(\S*)', text)
    return (found[1] if found[1] is not None else found[2]) if found else ""


def _limit(source: str, name: str, said: Mapping[str, Param], line: int) -> Limit | None:
    """Return a limit; if only one of its two numbers is given, the other one has its default."""
    interval, burst = UNSAID_LIMITS.get(source, ("0", "0"))
    seconds = said["interval"].value if "interval" in said else interval
    most = said["burst"].value if "burst" in said else burst
    if source not in UNSAID_LIMITS:
        return None
    lines = [param.line for param in said.values()] or [line]
    return Limit(name, most or "?", seconds or "?", max(lines))
