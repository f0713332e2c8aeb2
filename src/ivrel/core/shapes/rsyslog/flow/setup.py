"""Sets a configuration up as the daemon does when it starts: in the order of the text, whatever is
carried out later.

Directives of the older style, templates and rulesets hold from where they stand; what an action is
made of is settled there. Documentation: "Actions" (configuration/actions), "Templates"
(configuration/templates), "Forwarding Output Module" (configuration/modules/omfwd), "Rulesets"
(concepts/multi_ruleset).
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence

from msgspec.structs import replace

from ivrel.core.shapes.rsyslog.flow.directives import (
    BINDS,
    DOUBTFUL,
    GLOBAL,
    LASTING,
    LIMITS,
    NEXT,
    UNSAID_LIMITS,
)
from ivrel.core.shapes.rsyslog.flow.legacy import read_legacy
from ivrel.core.shapes.rsyslog.flow.model import SWITCHED_OFF, Action, Doubt, Endpoint, Limit
from ivrel.core.shapes.rsyslog.flow.templates import BUILT_IN, Form, form_of, text_of
from ivrel.core.shapes.rsyslog.syntax.expressions import unescaped
from ivrel.core.shapes.rsyslog.syntax.script import At, Param, Statement, said_of

DEFAULT = "RSYSLOG_DefaultRuleset"
_OWN_INPUTS = (
    "imuxsock",
    "imjournal",
    "imklog",
    "imkmsg",
)  # what the host itself says comes in by these
_SERVICES = {"syslog": "514", "syslog-tls": "6514"}
_PLAIN = ("", "ptcp")  # stream drivers without TLS
_OF_FORWARDING = ("target", "port", "protocol", "template", "address", "device")


class Setup:
    """All that is settled when the daemon starts."""

    def __init__(self, statements: Sequence[Statement]) -> None:
        self.actions: dict[At, Action] = {}
        self.rulesets: dict[str, list[Statement]] = {DEFAULT.lower(): []}
        self.tables: set[str] = set()  # lookup tables
        self.queued: set[str] = set()  # rulesets that are carried out beside the others
        self.bound: dict[str, str] = {}  # ruleset to the input that feeds it
        self.default = DEFAULT.lower()
        self.doubts: list[Doubt] = []
        self.others: list[Doubt] = []
        self.settings: dict[str, Param] = {}  # of the whole daemon
        self.name: Doubt | None = None
        self._limits: dict[str, dict[str, Param]] = {}
        self._loaded: dict[str, int] = {}
        self._templates: dict[str, Form | None] = dict(BUILT_IN)
        self.default_form: Param | None = None
        self._next: dict[str, Param] = {}
        self._before: tuple[Statement, ...] = ()
        self._lasting: dict[str, Param] = {}
        self._ruleset = self.default
        for statement in statements:
            self._one(statement, top=True)
        for place, action in self.actions.items():
            if action.kind in ("omfwd", "omrelp", "omudpspoof"):
                self.actions[place] = self._addressed(action)

    @property
    def driver(self) -> str:
        """The stream driver of actions that name none."""
        return said_of(self.settings, "defaultnetstreamdriver") or ""

    def limits(self, forwards: Sequence[Action]) -> list[Limit]:
        """The most that inputs take in and actions send, of those that are in use."""
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
            action = Action(kind, said_of(params, "file") or "", params, s, idle=_refused(s))
        else:
            action = read_legacy(s, {**self._lasting, **self._next})
        action = replace(action, before=self._before if s.kind == "legacy" else ())
        if s.kind == "legacy":
            self._next, self._before = {}, ()
        if "config.enabled" in action.params and said_of(action.params, "config.enabled") != "on":
            action = replace(action, idle=SWITCHED_OFF)
        if action.kind in ("omfwd", "omrelp", "omudpspoof"):
            action = self._formed(action)
        return action

    def _formed(self, action: Action) -> Action:
        """The action with the form of its messages; one whose template does not stand before it is
        disabled.
        """
        said = action.params.get("template") or self.default_form
        name = said.value if said else None
        line = said.line if said else action.statement.line
        if said is not None and name is None:
            return replace(action, form=Doubt("the template is worked out elsewhere", line))
        if name is None:
            name = (
                "RSYSLOG_TraditionalForwardFormat"
                if action.kind != "omrelp"
                else "RSYSLOG_ForwardFormat"
            )
        if name not in self._templates:
            return replace(action, idle=action.idle or f"no template '{name}' is defined before it")
        form = self._templates[name]
        return replace(action, form=form if form is not None else Doubt(f"template {name}", line))

    def _addressed(self, action: Action) -> Action:
        """The action with where it sends; this hangs on the driver that holds in the end."""
        params = action.params
        target, idle = said_of(params, "target"), action.idle
        port = (said_of(params, "port") or "") if "port" in params else "514"
        unknown = [
            name
            for name in ("target", "port", "protocol")
            if name in params and params[name].value is None
        ]
        if unknown:
            self.doubts.append(
                Doubt(
                    f"{action.statement.raw} ({unknown[0]} is worked out elsewhere)",
                    action.statement.line,
                )
            )
            return replace(action, idle="it is not known where it sends")
        protocol = (said_of(params, "protocol") or "udp").lower()
        if action.kind == "omrelp":
            transport = "relp"
        elif action.kind == "omudpspoof":
            transport = "udp"
        else:
            transport, idle = self._transport(action, protocol, idle)
        if not target:
            idle = idle or "it names nobody to send to"
            if transport != "udp" and action.statement.kind == "action":
                # The daemon does not survive the first message for it.
                self.doubts.append(Doubt(f"{action.statement.raw} ({idle})", action.statement.line))
        elif any(c.isspace() for c in target):
            idle = idle or "a blank behind the address is looked up with it"
        host = _counted(target or "")
        number = _SERVICES.get(port, port)
        if transport == "udp" and number.isdigit():
            number = str(int(number[:18]) % 65536)  # more than a port number holds is cut off
        if (
            (transport == "udp" and port in _SERVICES)
            or not number.isdigit()
            or not 0 < int(number[:9]) < 65536
        ):
            idle = idle or f"'{port}' is no port number"
        else:
            number = str(int(number))
        endpoint: Endpoint = (host[1:-1] if host[:1] == "[" else host, number, transport)
        if (
            not idle
            and host[:1] != "["
            and not re.fullmatch(r"[\w.-]+|[0-9A-Fa-f:.]+(%\w+)?", host)
        ):
            idle = "that is no name of a host"
        if host[:1] == "[" and action.statement.kind == "action":
            idle = idle or "brackets are looked up with the address"
        host = endpoint[0].split()[0] if endpoint[0].strip() else ""
        told = (
            re.fullmatch(r"[\w.-]*[A-Za-z.][\w.-]*|[0-9A-Fa-f:.]*:[0-9A-Fa-f:.]*", host)
            and number.isdigit()
        )
        if idle and not told:
            endpoint = ("", "", "")  # nobody can be meant by it
        elif idle:
            endpoint = (host, number, transport)
        return replace(action, endpoint=endpoint, idle=idle)

    def _transport(self, action: Action, protocol: str, idle: str) -> tuple[str, str]:
        params = action.params
        if protocol not in ("udp", "tcp"):
            return protocol, idle or f"'{protocol}' is no protocol of it"
        if protocol == "udp" or (said_of(params, "streamdrivermode") or "0") == "0":
            newer = [name for name in params if name.startswith("streamdriver.")]
            if newer and protocol == "tcp":
                self.doubts.append(
                    Doubt(f"{newer[0]}, which some versions know", params[newer[0]].line)
                )
            return protocol, idle
        driver = (said_of(params, "streamdriver") or self.driver).lower()
        if driver in _PLAIN:
            return "tls", idle or "no stream driver with TLS is named"
        mode = (said_of(params, "streamdriverauthmode") or "x509/name").lower()
        if mode != "anon" and not (self.authority or "streamdriver.cafile" in params):
            return (
                "tls",
                idle or "no file of trusted certificates is named, so that nobody is verified",
            )
        if mode in ("x509/name", "x509/fingerprint") and not _peers(params):
            return "tls", idle or "no permitted peer is named, so that nobody is"
        return "tls", idle

    @property
    def authority(self) -> Param | None:
        """The file of the certificates that are trusted."""
        return self.settings.get("defaultnetstreamdrivercafile")

    # Directives and objects.

    def _directive(self, s: Statement) -> None:
        name, value = s.name, _argument(s.text)
        param = Param(value, s.line)
        if name in NEXT:
            self._next[NEXT[name]] = param
            self._before = (*self._before, s)
        elif name in LASTING:
            self._lasting[LASTING[name]] = param
        elif name == "actionforwarddefaulttemplate" or name == "actionforwarddefaulttemplatename":
            self.default_form = param
        elif name in GLOBAL:
            self.settings[GLOBAL[name]] = param
        elif name == "localhostname":
            self.name = Doubt(value, s.line)
        elif name == "template":
            called, _, text = s.text.partition(",")
            found = re.match(r'\s*"((?:[^"\\]|\\.)*)"', text, re.S)
            self._templates.setdefault(
                called.strip(), form_of(unescaped(found[1]) if found else None)
            )
        elif name in LIMITS:
            source, what = LIMITS[name]
            self._limits.setdefault(source, {})[what] = param
        elif name == "modload":
            self._loaded.setdefault(value.lower().removesuffix(".so"), s.line)
        elif name == "ruleset":
            self._ruleset = value.lower()
            self.rulesets.setdefault(self._ruleset, [])
        elif name == "rulesetcreatemainqueue" and value.lower() == "on":
            self.queued.add(self._ruleset)
        elif name == "defaultruleset":
            self.default = value.lower()
        elif name in BINDS:
            self.bound.setdefault(value.lower(), BINDS[name])
        elif name in DOUBTFUL:
            self.doubts.append(Doubt(s.raw, s.line))
        else:
            self.others.append(Doubt(f"${s.name}", s.line))

    def _object(self, s: Statement) -> None:
        said = {name: param.value or "" for name, param in s.params.items()}
        name = said.get("name", "")
        if s.params.get("config.enabled", Param("on", 0)).value != "on":
            self.others.append(Doubt(f"{s.name}, which is switched off", s.line))
            return
        if s.name == "template":
            text = text_of(
                said, [(b.name, {n: p.value or "" for n, p in b.params.items()}) for b in s.body]
            )
            self._templates.setdefault(name, form_of(text))
        elif s.name == "ruleset":
            for inner in s.body:
                self._one(inner)
            if name.lower() not in self.rulesets:
                self.rulesets[name.lower()] = list(s.body)
                queue = {n for n in said if n.startswith("queue.")}
                if queue and said.get("queue.type", "").lower() != "direct":
                    self.queued.add(name.lower())
        elif s.name == "lookup_table":
            self.tables.add(name)
        elif s.name == "module":
            self._module(s, said)
        elif s.name == "global":
            self.settings |= {key: s.params[key] for key in GLOBAL.values() if key in s.params}
            if "localhostname" in said:
                self.name = Doubt(said["localhostname"], s.params["localhostname"].line)
        elif s.name == "input" and "ruleset" in said:
            kind = said.get("type", "").lower()
            self.bound.setdefault(said["ruleset"].lower(), kind)
            if kind in _OWN_INPUTS:
                self.doubts.append(Doubt(s.raw, s.line))
        self.others.append(Doubt(s.name, s.line))

    def _module(self, s: Statement, said: Mapping[str, str]) -> None:
        name = said.get("load", "").lower().removeprefix("builtin:").removesuffix(".so")
        self._loaded.setdefault(name, s.line)
        if name == "omfwd" and "template" in said:
            self.default_form = s.params["template"]
        for key, param in s.params.items():
            what = re.fullmatch(r"(?:syssock\.)?ratelimit\.(interval|burst)", key)
            if what:
                self._limits.setdefault(name, {})[what[1]] = param


def _argument(text: str) -> str:
    """The first word of a directive's value: what stands behind it is a comment."""
    found = re.match(r'"([^"]*)"|(\S*)', text)
    return (found[1] if found[1] is not None else found[2]) if found else ""


def _counted(host: str) -> str:
    """An IPv4 address whose numbers begin with 0: they are octal."""
    numbers = host.split(".")
    if len(numbers) == 4 and any(re.fullmatch("0[0-7]+", n) for n in numbers):
        return ".".join(str(int(n, 8)) if re.fullmatch("0[0-7]+", n) else n for n in numbers)
    return host


def _peers(params: Mapping[str, Param]) -> bool:
    said = params.get("streamdriverpermittedpeers")
    return said is not None and bool(said.array or said.value)


def _refused(s: Statement) -> str:
    """Why the daemon takes an action for none, by its parameters alone."""
    for name in _OF_FORWARDING:
        said = s.params.get(name)
        if said is not None and said.array is not None:
            return f"its {name} is a list"
        if said is not None and said.value and any(c.isspace() for c in said.value):
            return f"its {name} holds a blank"
    return ""


def _limit(source: str, name: str, said: Mapping[str, Param], line: int) -> Limit | None:
    """What is said of a limit, with what holds where only one of both is said."""
    interval, burst = UNSAID_LIMITS.get(source, ("0", "0"))
    seconds = said["interval"].value if "interval" in said else interval
    most = said["burst"].value if "burst" in said else burst
    if source not in UNSAID_LIMITS:
        return None
    lines = [param.line for param in said.values()] or [line]
    return Limit(name, most or "?", seconds or "?", max(lines))
