"""Works out what a configuration forwards: follows includes, the order of rules, and what stops a message.

Of every forwarding action: the endpoint, and the facilities and severities that reach it, surely and at most.
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from fnmatch import fnmatch
from functools import lru_cache
from pathlib import PurePosixPath

from msgspec import Struct

from ivrel.core.bundle import Part, parts
from ivrel.core.dialects.shapes.rsyslog.conditions import ALL, UNKNOWN, Bounds, read_condition, read_property
from ivrel.core.dialects.shapes.rsyslog.script import Param, Statement, read_script
from ivrel.core.dialects.shapes.rsyslog.selectors import read_selector
from ivrel.core.dialects.shapes.rsyslog.templates import BUILT_IN, Form, form_of, text_of
from ivrel.core.mistakes import Unreadable
from ivrel.core.severity import NOTHING

MAIN = "rsyslog.conf"
_DEEPEST = 16
_MOST = 20_000  # statements that are carried out

Endpoint = tuple[str, str, str]  # address, port, transport


class Doubt(Struct, frozen=True):
    """Something that is not understood, and where it stands."""

    text: str
    line: int


class Forward(Struct, frozen=True):
    """One forwarding action: where it sends, what reaches it, in which form, and where it stands."""

    endpoint: Endpoint
    takes: Bounds
    form: Form | Doubt
    params: Mapping[str, Param]
    line: int
    doubt: Doubt | None
    file: str
    chain: tuple[Statement, ...]  # the statements that it stands in, itself last
    before: tuple[int, ...]  # the file's lines of directives that are about this action alone


class Local(Struct, frozen=True):
    """An action that writes to a file, the console or the sessions."""

    kind: str
    name: str
    takes: Bounds
    line: int


class Model(Struct, frozen=True):
    """What one configuration does."""

    forwards: tuple[Forward, ...]
    locals: tuple[Local, ...]
    doubts: tuple[Doubt, ...]  # what may bear on everything
    limits: tuple[tuple[str, str, str, int], ...]  # input, messages, seconds, line
    others: tuple[Doubt, ...]  # statements that bear on no export setting
    includes: tuple[str, ...]  # the names that are included, as patterns within the folder
    main: Part
    name: Doubt | None = None  # what it calls itself


# What the older style says of the next action, and the parameter that says the same.
_NEXT = {
    "actionqueuetype": "queue.type",
    "actionqueuesize": "queue.size",
    "actionqueuefilename": "queue.filename",
    "actionqueuemaxdiskspace": "queue.maxdiskspace",
    "actionqueuesaveonshutdown": "queue.saveonshutdown",
    "actionqueuedequeuebatchsize": "queue.dequeuebatchsize",
    "actionresumeretrycount": "action.resumeretrycount",
    "actionresumeinterval": "action.resumeinterval",
    "actionname": "name",
}
_STREAM = {
    "actionsendstreamdriver": "streamdriver",
    "actionsendstreamdrivermode": "streamdrivermode",
    "actionsendstreamdriverauthmode": "streamdriverauthmode",
    "actionsendstreamdriverpermittedpeer": "streamdriverpermittedpeers",
}
_LIMITS = {
    "systemlogratelimitinterval": ("imuxsock", "interval"),
    "systemlogratelimitburst": ("imuxsock", "burst"),
    "imjournalratelimitinterval": ("imjournal", "interval"),
    "imjournalratelimitburst": ("imjournal", "burst"),
}
# An action that runs now and then only.
_SELDOM = (
    "action.execonlywhenpreviousissuspended",
    "action.execonlyeverynthtime",
    "action.execonlyonceeveryinterval",
)
_SELDOM_DIRECTIVES = tuple(name.replace(".", "") for name in _SELDOM)
# Of other directives and objects, those that bear on what is forwarded or how.
_DOUBTFUL = ("defaultruleset", "resetconfigvariables", "actionwriteallmarkmessages", "repeatedmsgreduction")
_SERVICES = {"syslog": "514", "syslog-tls": "6514"}
_LEGACY_FORWARD = re.compile(
    r"(?P<tcp>@@?)(?:\((?P<options>[^)]*)\))?(?:\[(?P<v6>[^\]\s]+)\]|(?P<host>[^:;\s]+))"
    r"(?::(?P<port>[^;\s]+))?\s*(?:;\s*(?P<template>\S+))?"
)


LONGEST = 16 * 1024 * 1024  # bytes; more than any configuration of rsyslog has


@lru_cache(maxsize=8)
def read_model(data: bytes) -> Model:
    """The model of a configuration; Unreadable if it has no main file."""
    if len(data) > LONGEST or b"\0" in data:
        said = f"more than {LONGEST // 1024 // 1024} MiB" if len(data) > LONGEST else "a NUL byte, which no text has"
        raise Unreadable(f"it holds {said}")
    found = parts(data)
    mains = sorted((p for p in found if PurePosixPath(p.name).name == MAIN), key=lambda p: p.name.count("/"))
    if not mains and (len(found) > 1 or "/" in found[0].name):
        raise Unreadable(f"no {MAIN} among its files")
    return _Walk(found, mains[0] if mains else found[0]).model()


class _Walk:
    def __init__(self, found: Sequence[Part], main: Part) -> None:
        self.main, self.parts = main, found
        self.alone = not main.name
        self.alive = ALL
        self.cause: Doubt | None = None
        self.forwards: list[Forward] = []
        self.locals: list[Local] = []
        self.doubts: list[Doubt] = []
        self.others: list[Doubt] = []
        self.includes: list[str] = []
        self.limits: dict[str, dict[str, Param]] = {}
        self.templates: dict[str, Form | None] = dict(BUILT_IN)
        self.default_form = "RSYSLOG_TraditionalForwardFormat"
        self.driver_mode: dict[str, Param] = {}
        self.net_driver = ""
        self.next: dict[str, Param] = {}
        self.next_lines: tuple[int, ...] = ()
        self.foreign_ruleset: Doubt | None = None
        self.stack: list[str] = []
        self.stopping: dict[str, bool] = {}
        self.count = 0
        self.name: Doubt | None = None

    def model(self) -> Model:
        self.file(self.main)
        limits = tuple(
            (name, said["burst"][0], said["interval"][0], max(said["burst"][1], said["interval"][1]))
            for name, said in self.limits.items()
            if "burst" in said and "interval" in said
        )
        return Model(
            tuple(self.forwards),
            tuple(self.locals),
            tuple(self.doubts),
            limits,
            tuple(self.others),
            tuple(self.includes),
            self.main,
            self.name,
        )

    def file(self, part: Part) -> None:
        text = part.data.decode("utf-8", "replace")
        script = read_script(text)
        for statement in script:
            if statement.kind == "object" and statement.name == "ruleset":
                name = statement.params.get("name", ("", 0))[0]
                self.stopping[name] = _stops(statement.body)
        self.stack.append(part.name)
        self.all(script, ALL, None, part, text, ())
        self.stack.pop()

    def all(
        self,
        statements: Sequence[Statement],
        under: Bounds,
        why: Doubt | None,
        part: Part,
        text: str,
        chain: tuple[Statement, ...],
    ) -> None:
        for s in statements:
            self.count += 1
            if self.count > _MOST:
                raise Unreadable(f"more than {_MOST} statements")
            at = part.first + s.line - 1
            whole = (*chain, s)
            raw = text[s.start : s.stop]
            match s.kind:
                case "rule":
                    takes, doubt = self.filter(s, at)
                    self.all(s.body, under & takes, why or doubt, part, text, whole)
                    if s.other:
                        self.all(s.other, under.without(takes), why or doubt, part, text, whole)
                case "action":
                    self.action(s, under, why, part, at, whole)
                case "stop":
                    self.cause = self.cause or why
                    self.alive = self.alive.without(under)
                case "call":
                    doubt = Doubt(_line(raw), at)
                    if self.stopping.get(s.name, True):
                        self.cause = self.cause or doubt
                        self.alive = Bounds(NOTHING, self.alive.most)
                case "object":
                    self.object(s, part, at, raw, whole)
                case "directive":
                    self.directive(s, at, raw)
                case "unknown":
                    self.doubts.append(Doubt(_line(raw), at))
                case _:
                    pass  # `set` changes no PRI, `continue` does nothing

    def filter(self, s: Statement, at: int) -> tuple[Bounds, Doubt | None]:
        """What a rule's filter takes, and the doubt that is left."""
        try:
            if s.name == "selector":
                takes = read_selector(s.text)
                return Bounds(takes, takes), None
        except ValueError:
            return UNKNOWN, Doubt(_line(s.text), at)
        if s.name == "always":
            return ALL, None
        if s.name == "property":
            found = read_property(*(s.params[part][0] for part in ("name", "compare", "value")))
        else:
            found = read_condition(s.text)
        return found, None if found.known else Doubt(_line(s.text), at)

    def action(
        self, s: Statement, under: Bounds, why: Doubt | None, part: Part, at: int, chain: tuple[Statement, ...]
    ) -> None:
        params = {name: (said, part.first + line - 1) for name, (said, line) in s.params.items()}
        kind, name = params.get("type", ("", at))[0], params.get("file", ("", at))[0]
        if s.name == "legacy":
            kind, name, params = self.legacy(s.text, at)
            params |= self.next
        before, self.next, self.next_lines = self.next_lines, {}, ()
        takes, doubt = self.alive & under, why or self.cause
        if any(params.get(p, ("off", 0))[0].lower() not in ("off", "0") for p in _SELDOM):
            seldom = next(p for p in _SELDOM if p in params)
            takes, doubt = Bounds(NOTHING, takes.most), Doubt(seldom, params[seldom][1])
        if self.foreign_ruleset:
            takes, doubt = Bounds(NOTHING, takes.most), self.foreign_ruleset
        if kind == "omfwd":
            self.forward(params, takes, doubt, part, at, chain, before)
        elif kind in ("file", "omfile"):
            console = name == "/dev/console"
            self.locals.append(Local("console" if console else "file", name or "-", takes, at))
        elif kind in ("omusrmsg", "users"):
            self.locals.append(Local("sessions", name or "users", takes, at))
        elif kind in ("omrelp", "omudpspoof"):
            self.doubts.append(Doubt(f"action of type {kind}", at))
        elif not kind:
            self.doubts.append(Doubt(s.text or "action without type", at))
        else:
            self.others.append(Doubt(f"action of type {kind}", at))

    def legacy(self, text: str, at: int) -> tuple[str, str, dict[str, Param]]:
        """The kind, the name and the parameters of an action in the older style."""
        found = _LEGACY_FORWARD.fullmatch(text)
        if found:
            params = {"target": found["v6"] or found["host"], "protocol": "tcp" if found["tcp"] == "@@" else "udp"}
            if found["port"]:
                params["port"] = found["port"]
            if found["template"]:
                params["template"] = found["template"]
            return "omfwd", "", {name: (said, at) for name, said in params.items()}
        if text[0] in "-/":
            return "file", text.lstrip("-").partition(";")[0].strip(), {}
        if text[0] == "?":
            return "file", "", {}
        if text[0] == ":":
            return text[1:].partition(":")[0], "", {}
        if text[0] in "|^":
            return {"|": "ompipe", "^": "omshell"}[text[0]], "", {}
        return ("", "", {}) if text[0] == "@" else ("users", text, {})

    def forward(
        self,
        params: Mapping[str, Param],
        takes: Bounds,
        doubt: Doubt | None,
        part: Part,
        at: int,
        chain: tuple[Statement, ...],
        before: tuple[int, ...],
    ) -> None:
        params = {**{name: p for name, p in self.driver_mode.items() if chain[-1].name == "legacy"}, **params}
        target, port = (params.get(p, (d, at))[0] for p, d in (("target", ""), ("port", "514")))
        protocol = params.get("protocol", ("udp", at))[0].lower()
        mode = params.get("streamdrivermode", ("0", at))[0]
        driver = params.get("streamdriver", params.get("streamdriver.name", (self.net_driver, at)))[0]
        if protocol == "tcp" and mode == "1" and driver != "ptcp":
            protocol = "tls"
        name, line = params.get("template", (self.default_form, at))
        form = self.templates.get(name)
        self.forwards.append(
            Forward(
                (target, _SERVICES.get(port, port), protocol),
                takes,
                form if form is not None else Doubt(f"template {name}", line),
                params,
                at,
                None if takes.known else doubt,
                part.name,
                chain,
                before,
            )
        )

    def object(self, s: Statement, part: Part, at: int, raw: str, chain: tuple[Statement, ...]) -> None:
        said = {name: value for name, (value, _) in s.params.items()}
        lines = {name: part.first + line - 1 for name, (_, line) in s.params.items()}
        if s.name == "include":
            if "file" in said:
                self.include(said["file"], said.get("mode", "required") == "optional", at, raw)
            else:
                self.doubts.append(Doubt(_line(raw), at))
            return
        if s.name == "template":
            text = text_of(said, [(b.name, {n: v for n, (v, _) in b.params.items()}) for b in s.body])
            self.templates[said.get("name", "")] = form_of(text)
        elif s.name == "ruleset":
            outer, self.foreign_ruleset = self.foreign_ruleset, Doubt(f"ruleset {said.get('name', '')}", at)
            alive = self.alive
            self.all(s.body, ALL, None, part, part.data.decode("utf-8", "replace"), chain)
            self.alive, self.foreign_ruleset = alive, outer
        elif s.name == "module":
            self.module(said, lines)
        elif s.name == "global":
            self.net_driver = said.get("defaultnetstreamdriver", self.net_driver)
            if "localhostname" in said:
                self.name = Doubt(said["localhostname"], lines["localhostname"])
        elif s.name == "input" and "ruleset" in said and said.get("type") in ("imuxsock", "imjournal", "imklog"):
            self.doubts.append(Doubt(_line(raw), at))
        self.others.append(Doubt(s.name, at))

    def module(self, said: Mapping[str, str], lines: Mapping[str, int]) -> None:
        name = said.get("load", "").removeprefix("builtin:")
        if name == "omfwd" and "template" in said:
            self.default_form = said["template"]
        for key, value in said.items():
            if "ratelimit" in key:
                what = "interval" if key.endswith("interval") else "burst" if key.endswith("burst") else ""
                if what:
                    self.limits.setdefault(name, {})[what] = (value, lines[key])

    def directive(self, s: Statement, at: int, raw: str) -> None:
        name, value = s.name, s.text
        param = (value.strip('"'), at)
        if name == "includeconfig":
            self.include(value, "*" in value, at, raw)
        elif name in _NEXT:
            self.next[_NEXT[name]] = param
            self.next_lines = (*self.next_lines, s.line)
        elif name in _STREAM:
            self.driver_mode[_STREAM[name]] = param
        elif name in _SELDOM_DIRECTIVES:
            self.next[_SELDOM[_SELDOM_DIRECTIVES.index(name)]] = param
            self.next_lines = (*self.next_lines, s.line)
        elif name == "actionforwarddefaulttemplate":
            self.default_form = param[0]
        elif name == "defaultnetstreamdriver":
            self.net_driver = param[0]
        elif name == "localhostname":
            self.name = Doubt(param[0], at)
        elif name == "template":
            called, _, text = value.partition(",")
            found = re.match(r'\s*"((?:[^"\\]|\\.)*)"', text)
            self.templates[called.strip()] = form_of(found[1].replace("\\n", "\n") if found else None)
        elif name in _LIMITS:
            source, what = _LIMITS[name]
            self.limits.setdefault(source, {})[what] = param
        elif name == "ruleset":
            own = value == "RSYSLOG_DefaultRuleset"
            self.foreign_ruleset = None if own else Doubt(_line(raw), at)
        elif name in _DOUBTFUL or (name.startswith("action") and not name.startswith(("actionfile", "actionsend"))):
            if value.lower() != "off":
                self.doubts.append(Doubt(_line(raw), at))
        else:
            self.others.append(Doubt(f"${s.name}", at))

    def include(self, wanted: str, optional: bool, at: int, raw: str) -> None:
        """Carries out the files that a name or a pattern with `*` means, in the order of their names."""
        if self.alone:
            self.doubts.append(Doubt(f"{_line(raw)} (its folder is not here)", at))
            return
        pattern = within(wanted, self.main.name)
        self.includes.append(pattern)
        found = sorted((p for p in self.parts if _fits(p.name, pattern)), key=lambda p: p.name)
        if not found and not optional and not re.search(r"[*?\[]", pattern):
            self.doubts.append(Doubt(f"{_line(raw)} (no such file)", at))
        for part in found:
            if part.name in self.stack or len(self.stack) > _DEEPEST:
                self.doubts.append(Doubt(f"{_line(raw)} (includes itself)", at))
                continue
            self.file(part)


def within(wanted: str, main: str) -> str:
    """The name in a folder of what a configuration names by its whole path; the main file stands for /etc."""
    above = PurePosixPath(main).parent
    if wanted.endswith("/"):
        wanted += "*"
    path = PurePosixPath(wanted.strip('"'))
    if not path.is_absolute():
        return str(above / path)
    inner = path.relative_to("/etc") if path.is_relative_to("/etc") else path.relative_to("/")
    return str(above / inner)


def _fits(name: str, pattern: str) -> bool:
    return name.count("/") == pattern.count("/") and fnmatch(name, pattern)


def _stops(statements: Sequence[Statement]) -> bool:
    """Whether a message may end in these statements."""
    return any(s.kind in ("stop", "call", "unknown") or _stops((*s.body, *s.other)) for s in statements)


def _line(raw: str) -> str:
    return " ".join(raw.split())[:160]
