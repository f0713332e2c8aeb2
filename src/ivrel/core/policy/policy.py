"""Reads a policy and says what it asks of a device.

Rules apply in the order in which they stand; a later one replaces an earlier one setting by setting; with
`any` it takes the requirement back.

Passes: `- {rule: firewalls speak as local6, where: {kind: firewall}, require: {facility: local6}}`
Fails:  `- {rule: firewalls, where: {colour: red}, require: {facility: local9}}`
"""

from __future__ import annotations

from collections.abc import Mapping
from datetime import date
from fnmatch import fnmatchcase

from msgspec import Struct

from ivrel.core.dialects.slots import HOST, PORT, TRANSPORT
from ivrel.core.fleet import KINDS, Device, address
from ivrel.core.form import Key, ListOf, MapOf, Node, Raw, Record, Report, Text, pairs, place, read_yaml
from ivrel.core.mistakes import InputError, not_one_of
from ivrel.core.settings import SETTINGS, Collector, Needs

FORMATS = ("rfc3164", "rfc5424")
ANY = "any"  # asks nothing of a setting, whatever earlier rules ask
SELECTORS = ("kind", "site", "group", "platform", "device")


class Requirement(Struct, frozen=True):
    """What is asked of one setting, and where the policy asks it."""

    setting: str
    needs: Needs
    rule: str
    line: int

    @property
    def text(self) -> str:
        """The requirement in words."""
        if not self.needs:
            return ANY
        return ", ".join(f"{part} {need.text}".strip() for part, need in self.needs.items())


class Rule(Struct, frozen=True):
    """What is asked of the devices that `where` selects; every selector must fit, any of its words will do."""

    name: str
    where: Mapping[str, tuple[str, ...]]
    require: Mapping[str, Requirement]
    line: int

    def holds_for(self, device: Device) -> bool:
        """Whether the rule is about a device."""
        return all(
            any(fnmatchcase(has, word) for has in _selected(device, selector) for word in words)
            for selector, words in self.where.items()
        )

    @property
    def about(self) -> str:
        """The devices that the rule is about, in words."""
        said = [f"{selector} {' or '.join(words)}" for selector, words in self.where.items()]
        return ", ".join(said) or "all devices"


class Waiver(Struct, frozen=True):
    """An exception for a device and a setting, up to and with its last day."""

    device: str
    setting: str
    until: date
    because: str
    line: int

    def covers(self, device: Device, setting: str) -> bool:
        return setting == self.setting and fnmatchcase(device.name, self.device)


class Policy(Struct, frozen=True):
    """Collectors, rules and waivers, as one file has them."""

    name: str
    collectors: Mapping[str, Collector]
    rules: tuple[Rule, ...]
    waivers: tuple[Waiver, ...]
    file: str


def effective(policy: Policy, device: Device) -> dict[str, Requirement]:
    """What a policy asks of a device, setting by setting in the order of the table of settings."""
    asked: dict[str, Requirement] = {}
    for rule in policy.rules:
        if rule.holds_for(device):
            asked.update(rule.require)
    return {name: asked[name] for name in SETTINGS if name in asked and asked[name].needs}


def _selected(device: Device, selector: str) -> tuple[str, ...]:
    if selector == "group":
        return device.groups
    return (device.name,) if selector == "device" else (getattr(device, selector),)


def _day(text: str) -> date:
    try:
        return date.fromisoformat(text)
    except ValueError:
        raise ValueError(f"'{text[:40]}' is not a day; expected YYYY-MM-DD") from None


_WORD = Text("a word")
_WORDS = ListOf(_WORD, one_is_enough=True, filled=True)

COLLECTOR = Record(
    "a collector",
    {
        "address": Key(Text("an IP address", address), "where it listens", must=True),
        "port": Key(Text("a port", PORT.parse), "the port, 514 if left out"),
        "transport": Key(Text("a transport", choices=TRANSPORT.choices), "udp if left out"),
        "format": Key(Text("a format", choices=FORMATS), "the message format that it expects"),
        "site": Key(Text("a site"), "where it stands"),
        "names": Key(ListOf(Text("a host name", HOST.parse), one_is_enough=True), "host names that mean it too"),
    },
    lambda at, **fields: {"line": place(at)[0], **fields},
)

RULE = Record(
    "a rule",
    {
        "rule": Key(_WORD, "what the rule is called in reports", must=True),
        "where": Key(
            Record(
                "a selection",
                {
                    "kind": Key(
                        ListOf(Text("a kind", choices=KINDS), one_is_enough=True, filled=True),
                        "kinds of device",
                    ),
                    **{s: Key(_WORDS, f"names or globs of a {s}") for s in SELECTORS if s != "kind"},
                },
            ),
            "the devices that the rule is about; all, if left out",
        ),
        "require": Key(
            Raw(
                {
                    "type": "object",
                    "additionalProperties": False,
                    "properties": {s.name: {"description": s.meaning} for s in SETTINGS.values()},
                }
            ),
            "what is asked, setting by setting",
            must=True,
        ),
    },
    lambda at, **fields: (at, fields),
)

WAIVER = Record(
    "a waiver",
    {
        "device": Key(_WORD, "name or glob of the devices", must=True),
        "setting": Key(Text("a setting", choices=tuple(SETTINGS)), "the setting", must=True),
        "until": Key(Text("a day", _day), "the last day on which it holds", must=True),
        "because": Key(_WORD, "the reason", must=True),
    },
    lambda at, **fields: Waiver(line=place(at)[0], **fields),
)

POLICY = Record(
    "a policy",
    {
        "policy": Key(_WORD, "the name of the policy", must=True),
        "collectors": Key(MapOf(COLLECTOR), "the collectors that there are", must=True),
        "rules": Key(ListOf(RULE, filled=True), "what is asked of whom; later rules win", must=True),
        "waivers": Key(ListOf(WAIVER), "exceptions"),
    },
)


def read_policy(text: str, file: str) -> Policy:
    """Reads a policy; InputError holds every mistake, with line and column."""
    values, report = read_yaml(text, file, POLICY)
    if values is None:
        raise InputError(report.mistakes)
    collectors = {name: Collector(name, **fields) for name, fields in values["collectors"].items()}
    endpoints: dict[tuple[str, int, str], str] = {}
    for c in collectors.values():
        if c.endpoint in endpoints:
            said = f"collectors '{endpoints[c.endpoint]}' and '{c.name}' are one: {c.address} {c.transport} {c.port}"
            report.add(None, said)
        endpoints.setdefault(c.endpoint, c.name)
    names: dict[str, int] = {}
    rules = []
    for node, fields in values["rules"]:
        name, line = fields["rule"], place(node)[0]
        if name in names:
            report.add(node, f"rule '{name}' stands twice; the first is in line {names[name]}")
        names.setdefault(name, line)
        require = _requirements(fields["require"], name, collectors, report)
        rules.append(Rule(name, fields.get("where", {}), require, line))
    report.settle()
    return Policy(values["policy"], collectors, tuple(rules), values.get("waivers", ()), file)


def _requirements(
    node: Node, rule: str, collectors: Mapping[str, Collector], report: Report
) -> dict[str, Requirement]:
    out: dict[str, Requirement] = {}
    for key, child in pairs(node, report):
        setting = SETTINGS.get(key.value)
        if setting is None:
            report.add(key, f"setting {not_one_of(key.value, SETTINGS)}")
            continue
        if getattr(child, "value", None) == ANY:
            out[setting.name] = Requirement(setting.name, {}, rule, place(key)[0])
            continue
        needs = setting.ask(child, report, collectors)
        if needs:
            out[setting.name] = Requirement(setting.name, needs, rule, place(key)[0])
    if not out and not report.mistakes:
        report.add(node, f"asks for nothing; expected one of {', '.join(SETTINGS)}")
    return out
