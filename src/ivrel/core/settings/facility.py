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
    Place,
    Scope,
    Setting,
    default_note,
    mend_value,
    need_of,
    no_destination,
    slot_of,
)
from ivrel.core.settings.need import read_need


def ask(node: Node, report: Report, collectors: Mapping[str, Collector]) -> Needs | None:
    need = read_need(node, report, FACILITY.parse, FACILITY.choices)
    return {"": need} if need else None


def _said(place: Place) -> str:
    """The facility; of a platform that overrides none, each message has its own."""
    return "as sent" if place.said.value is None else str(place.said.value)


_LACKS = "{} has no statement for the facility: each message has its own"


def _can_choose(scope: Scope) -> bool:
    return any(scope.records.dialect.has(slot_of("facility", table)) for table in ("", "destination", "feed"))


def facts(scope: Scope) -> list[Fact]:
    return [
        Fact("facility", place.label, _said(place), place.said.lines, place.said.default)
        for place in scope.places("facility", every=True)
    ]


def judge(scope: Scope, needs: Needs) -> list[Finding]:
    places = list(scope.places("facility"))
    if not places:
        return no_destination(scope) if _can_choose(scope) else [Finding(_LACKS.format(scope.records.dialect.name))]
    out = []
    for p in places:
        need = need_of(needs, p.label)
        if not need.accepts(_said(p)):
            note = default_note(p.said, scope.records.dialect.name)
            out.append(Finding(f"{p.prefix}{_said(p)}{note}, not {need.text}", p.said.lines))
    return out


def mend(scope: Scope, needs: Needs) -> tuple[Records, list[Obstacle]]:
    records = scope.records
    obstacles: list[Obstacle] = []
    if not _can_choose(scope):
        return records, [Obstacle(_LACKS.format(records.dialect.name), True)]
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
