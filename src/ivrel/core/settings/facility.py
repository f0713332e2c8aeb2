"""facility: what messages call the part of the system that they come from."""

from __future__ import annotations

from collections.abc import Mapping

from ivrel.core.dialects.records import Records
from ivrel.core.dialects.slots import FACILITY
from ivrel.core.form import Node, Report
from ivrel.core.settings.base import (
    Collector,
    Fact,
    Finding,
    Needs,
    Obstacle,
    Scope,
    Setting,
    default_note,
    mend_value,
    need_of,
    no_destination,
)
from ivrel.core.settings.need import read_need


def ask(node: Node, report: Report, collectors: Mapping[str, Collector]) -> Needs | None:
    need = read_need(node, report, FACILITY.parse, FACILITY.choices)
    return {"": need} if need else None


def facts(scope: Scope) -> list[Fact]:
    return [
        Fact("facility", place.label, str(place.said.value), place.said.lines, place.said.default)
        for place in scope.places("facility", every=True)
    ]


def judge(scope: Scope, needs: Needs) -> list[Finding]:
    places = list(scope.places("facility"))
    if not places:
        return no_destination(scope)
    out = []
    for p in places:
        need = need_of(needs, p.label)
        if not need.accepts(str(p.said.value)):
            note = default_note(p.said, scope.records.dialect.name)
            out.append(Finding(f"{p.prefix}{p.said.value}{note}, not {need.text}", p.said.lines))
    return out


def mend(scope: Scope, needs: Needs) -> tuple[Records, list[Obstacle]]:
    records, obstacles = scope.records, []
    for place in scope.places("facility"):
        records, more = mend_value(records, place, need_of(needs, place.label))
        obstacles += more
    return records, obstacles


SETTING = Setting(
    name="facility",
    kind="one of the 24 facilities",
    meaning="the facility that messages leave with",
    matters="collectors sort and keep by facility; the wrong one lands in the wrong file, or in none",
    meets="facility: local6  ←  facility local6",
    breaks="facility: local6  ←  facility local4",
    ask=ask,
    facts=facts,
    judge=judge,
    mend=mend,
)
