"""export: messages leave at all."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from ivrel.core.form import Node, Report
from ivrel.core.policy.collector import Collector
from ivrel.core.policy.need import Needs, read_need
from ivrel.core.reading.records import Records
from ivrel.core.settings.contract import (
    Clash,
    Fact,
    Finding,
    Obstacle,
    Setting,
    SharedRequirements,
    default_of,
    silent_on,
)
from ivrel.core.settings.places import ValuePlace, cannot_say, mend_value
from ivrel.core.settings.scope import Scope
from ivrel.core.vocabulary.sourced import SourcedValue
from ivrel.core.vocabulary.values import SWITCH


def ask(node: Node, report: Report, collectors: Mapping[str, Collector]) -> Needs | None:
    """Read whether export is to be on."""
    need = read_need(node, report, SWITCH.parse, SWITCH.choices)
    return {"": need} if need else None


def facts(scope: Scope) -> list[Fact]:
    """Tell whether export is on."""
    said = scope.records.get("export")
    if said.value is None:
        return []
    return [Fact("export", "", "", str(said.value), said.lines, said.default)]


def judge(scope: Scope, needs: Needs) -> list[Finding]:
    """Find export that is off."""
    said = scope.records.get("export")
    if said.value is None and not scope.records.dialect.has("export"):
        return [silent_on(scope.records.dialect, "export as a whole")]
    if needs[""].accepts(str(said.value)):
        return []
    off = said.value == "off"
    return [
        Finding(
            "export",
            found=str(said.value),
            wanted=needs[""].text,
            # Export that is off silences the destinations that are set: they are named.
            more=(("aimed", ", ".join(d.title for d in scope.destinations) if off else ""),),
            lines=said.lines,
            default=default_of(said, scope.records.dialect),
            cannot=cannot_say(scope.records.dialect, _place(said), needs[""]),
        )
    ]


def _place(said: SourcedValue) -> ValuePlace:
    return ValuePlace("", "", (), "export", said)


def mend(scope: Scope, needs: Needs) -> tuple[Records, list[Obstacle]]:
    """Switch export on, or off."""
    found = judge(scope, needs)
    if not found or found[0].kind == "silent":
        return scope.records, []
    return mend_value(scope.records, _place(scope.records.get("export")), needs[""])


def clashes(asked: SharedRequirements) -> Iterator[Clash]:
    """Find collectors that are asked for while export is to be off."""
    if asked.wanted and not asked.needs["export"][""].accepts("on"):
        yield Clash(
            "collectors",
            f"nothing leaves for {', '.join(c.name for c in asked.wanted)} while export is off",
        )


SETTING = Setting(
    name="export",
    slots=("export",),
    kind="on or off",
    meaning="export is switched on as a whole",
    effect="the device begins to send, or stops",
    matters="collectors may all be set and still receive nothing; some platforms ship that way",
    meets="export: on  ←  export on",
    breaks="export: on  ←  export off, or a platform that ships with export off and a text that "
    "is silent",
    ask=ask,
    facts=facts,
    judge=judge,
    mend=mend,
    clashes=clashes,
)
