"""export: messages leave at all."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from ivrel.core.dialects.records import Records
from ivrel.core.dialects.slots import SWITCH
from ivrel.core.form import Node, Report
from ivrel.core.settings.base import (
    Asked,
    Clash,
    Collector,
    Fact,
    Finding,
    Needs,
    Obstacle,
    Place,
    Scope,
    Setting,
    default_note,
    mend_value,
    silent_on,
)
from ivrel.core.settings.need import read_need


def ask(node: Node, report: Report, collectors: Mapping[str, Collector]) -> Needs | None:
    need = read_need(node, report, SWITCH.parse, SWITCH.choices)
    return {"": need} if need else None


def facts(scope: Scope) -> list[Fact]:
    said = scope.records.get("export")
    if said.value is None:
        return []
    return [Fact("export", "", str(said.value), said.lines, said.default)]


def judge(scope: Scope, needs: Needs) -> list[Finding]:
    said = scope.records.get("export")
    if said.value is None and not scope.records.dialect.has("export"):
        return [silent_on(scope.records.dialect, "export as a whole")]
    if needs[""].accepts(str(said.value)):
        return []
    why = f"export is {said.value}{default_note(said, scope.records.dialect.name)}"
    if said.value == "off" and scope.destinations:
        why += f", so nothing leaves for {', '.join(d.title for d in scope.destinations)}"
    return [Finding(why, said.lines)]


def mend(scope: Scope, needs: Needs) -> tuple[Records, list[Obstacle]]:
    if not judge(scope, needs) or judge(scope, needs)[0].verdict == "unable":
        return scope.records, []
    place = Place("", "", (), "export", scope.records.get("export"))
    return mend_value(scope.records, place, needs[""])


def clashes(asked: Asked) -> Iterator[Clash]:
    if asked.wanted and not asked.needs["export"][""].accepts("on"):
        yield Clash("collectors", f"nothing leaves for {', '.join(c.name for c in asked.wanted)} while export is off")


SETTING = Setting(
    name="export",
    kind="on or off",
    meaning="export is switched on as a whole",
    matters="collectors may all be set and still receive nothing; some platforms ship that way",
    meets="export: on  ←  export on",
    breaks="export: on  ←  export off, or a platform that ships with export off and a text that is silent",
    ask=ask,
    facts=facts,
    judge=judge,
    mend=mend,
    clashes=clashes,
)
