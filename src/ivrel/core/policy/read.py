"""Reads policies from files: with line and column of every mistake, and files that include others.

Passes: `include: [common.yaml]`, with rules of its own behind those of the other file
Fails:  a file that includes itself, by whatever way; a relay that forwards to itself, or to nothing
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

from msgspec.structs import replace

from ivrel.core.form import Node, Report, pairs, place, read_yaml
from ivrel.core.policy.collector import Collector
from ivrel.core.policy.form import Askables, policy_form
from ivrel.core.policy.policy import ANY, Policy, Requirement, Rule, Site, Waiver
from ivrel.core.vocabulary.errors import InputError, Mistake, Unreadable
from ivrel.core.vocabulary.wording import not_one_of

Opener = Callable[[str], str]  # the text of an included file, by its name from the workspace


def closed(name: str) -> str:
    """Refuse to open an included file: for policies that are alone."""
    raise Unreadable(f"{name}: included files are not at hand")


def read(text: str, file: str, settings: Askables, opened: Opener = closed) -> Policy:
    """Return the policy of a text; InputError holds every mistake, with file, line and column.

    `settings`: those that there are; `opened`: gives the text of an included file, or Unreadable.
    """
    reader = _PolicyFiles(opened, settings)
    reader.file(text, file, ())
    return reader.policy(file)


class _PolicyFiles:
    """Collects the parts of a policy from its files, in the order of inclusion."""

    def __init__(self, opened: Opener, settings: Askables) -> None:
        self.opened = opened
        self.settings = settings
        self.form = policy_form(settings)
        self.mistakes: list[Mistake] = []
        self.name = ""
        self.collectors: dict[str, Collector] = {}
        self.sites: dict[str, Site] = {}
        self.rules: list[tuple[Node, dict[str, Any], Report]] = []
        self.waivers: list[Waiver] = []
        self.seen: set[str] = set()
        self.main: Report | None = None

    DEEPEST = 40  # files that include each other

    def file(self, text: str, file: str, above: tuple[str, ...]) -> None:
        values, report = read_yaml(text, file, self.form)
        self.main = self.main or report
        self.seen.add(file)
        values = values or {}
        for name in values.get("include", ()):
            # Names are those of files beside this one.
            other = file.rpartition("/")[0] + "/" * ("/" in file) + name
            if len(above) >= self.DEEPEST:
                report.add(
                    None, f"included by {self.DEEPEST} files, one from the other; expected fewer"
                )
            elif other == file or other in above:
                report.add(None, f"includes '{name}', which includes this file again")
            # Two files may include a third, which then counts once.
            elif other not in self.seen:
                try:
                    self.file(self.opened(other), other, (*above, file))
                except Unreadable as problem:
                    report.add(None, f"included file {problem}")
        # A file that includes others has the last word on the name.
        self.name = values.get("policy", self.name)
        for name, fields in values.get("collectors", {}).items():
            if name in self.collectors:
                report.add(None, f"collector '{name}' stands in an included file, too")
            self.collectors[name] = Collector(name, **fields)
        for name, (node, site) in values.get("sites", {}).items():
            for wanted in site.collectors:
                if wanted not in self.collectors:
                    report.add(node, f"collector {not_one_of(wanted, self.collectors)}")
            self.sites[name] = site
        self.rules += [(node, fields, report) for node, fields in values.get("rules", ())]
        self.waivers += [replace(w, file=file) for w in values.get("waivers", ())]
        # Reported in the order of the files; mistakes found later go to the same report.
        self.mistakes += report.mistakes
        report.mistakes.clear()

    def policy(self, file: str) -> Policy:
        report = self.main or Report(file)
        for what, there in (
            ("policy", self.name),
            ("collectors", self.collectors),
            ("rules", self.rules),
        ):
            # A mistake may be the reason why a part is not there.
            if not there and not self.mistakes:
                report.add(None, f"a policy without '{what}'")
        _check_collectors(self.collectors, report)
        self.collectors = _with_reach(self.collectors)
        names: dict[str, tuple[str, int]] = {}
        rules = []
        for node, fields, own in self.rules:
            name = fields["rule"]
            line = place(node)[0]
            if name in names:
                first, at = names[name]
                told = str(at) if first == own.file else f"{at} of {first}"
                own.add(node, f"rule '{name}' stands twice; the first is in line {told}")
            names.setdefault(name, (own.file, line))
            require = self._requirements(fields["require"], name, own)
            where = dict(fields.get("where", {}))
            but = where.pop("not", {})
            rules.append(Rule(name, where, require, line, but, own.file))
        # The rules of one file share its report.
        reports = {id(own): own for _, _, own in self.rules} | {id(report): report}
        mistakes = self.mistakes + [m for own in reports.values() for m in own.mistakes]
        if mistakes:
            raise InputError(mistakes)
        return Policy(
            self.name,
            self.collectors,
            tuple(rules),
            tuple(self.waivers),
            file,
            self.sites,
            tuple(self.settings),
        )

    def _requirements(self, node: Node, rule: str, report: Report) -> dict[str, Requirement]:
        """Return the requirements of a rule, setting by setting."""
        out: dict[str, Requirement] = {}
        for key, child in pairs(node, report):
            setting = self.settings.get(key.value)
            if setting is None:
                report.add(key, f"setting {not_one_of(key.value, self.settings)}")
                continue
            # A later rule can take back what an earlier one asks.
            taken_back = getattr(child, "value", None) == ANY
            needs = {} if taken_back else setting.ask(child, report, self.collectors)
            if needs or taken_back:
                line = place(key)[0]
                out[setting.name] = Requirement(setting.name, needs or {}, rule, line, report.file)
        # With `require: {}` a rule would pass for one that is met by all.
        if not out and not report.mistakes:
            report.add(node, f"asks for nothing; expected one of {', '.join(self.settings)}")
        return out


def _check_collectors(collectors: Mapping[str, Collector], report: Report) -> None:
    """Check that no two collectors are the same, and that no relays form a loop."""
    endpoints: dict[tuple[str, int, str], str] = {}
    for c in collectors.values():
        if c.endpoint in endpoints:
            said = (
                f"collectors '{endpoints[c.endpoint]}' and '{c.name}' are one: {c.address} "
                f"{c.transport} {c.port}"
            )
            report.add(None, said)
        endpoints.setdefault(c.endpoint, c.name)
        for name in c.forwards:
            if name not in collectors:
                report.add(
                    None,
                    f"relay '{c.name}' forwards to a collector that {not_one_of(name, collectors)}",
                )
        # Relays in a circle would pass a message on for ever, and no collector would be its end.
        if c.name in _reach(collectors, c.name):
            report.add(None, f"relay '{c.name}' forwards to itself, by {' and '.join(c.forwards)}")


def _reach(collectors: Mapping[str, Collector], name: str) -> frozenset[str]:
    """Return the collectors that messages to one end up at, itself aside unless there is a
    circle.
    """
    reached: set[str] = set()
    waiting = list(collectors[name].forwards)
    while waiting:
        one = waiting.pop()
        if one not in reached and one in collectors:
            reached.add(one)
            waiting += collectors[one].forwards
    return frozenset(reached)


def _with_reach(collectors: Mapping[str, Collector]) -> dict[str, Collector]:
    return {name: replace(c, reaches=_reach(collectors, name)) for name, c in collectors.items()}
