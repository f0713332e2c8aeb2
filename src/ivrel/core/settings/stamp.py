"""stamp: the time that a message bears, and how much of it."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from ivrel.core.dialects.records import Records
from ivrel.core.dialects.slots import SLOTS
from ivrel.core.form import Node, Report, pairs
from ivrel.core.mistakes import not_one_of
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
)
from ivrel.core.settings.need import read_need

PARTS = ("kind", "precision", "year", "zone")

_READS = {
    "none": "messages bear no stamp",
    "uptime": "stamps count uptime, which reads like a time of day",
}


def ask(node: Node, report: Report, collectors: Mapping[str, Collector]) -> Needs | None:
    needs: dict[str, Any] = {}
    before = len(report.mistakes)
    for key, child in pairs(node, report):
        if key.value not in PARTS:
            report.add(key, f"part {not_one_of(key.value, PARTS)}")
            continue
        kind = SLOTS[f"stamp.{key.value}"].type
        need = read_need(child, report, kind.parse, kind.choices, ordered=key.value == "precision")
        if need:
            needs[key.value] = need
    if not needs and len(report.mistakes) == before:
        report.add(node, f"asks for nothing; expected one of {', '.join(PARTS)}")
    kind_need = needs.get("kind")
    if kind_need and not kind_need.accepts("calendar") and len(needs) > 1:
        report.add(node, "contradictory: precision, year and zone are asked of a stamp that is no calendar")
    return needs if len(report.mistakes) == before else None


def facts(scope: Scope) -> list[Fact]:
    out = []
    for part in PARTS:
        said = scope.records.get(f"stamp.{part}")
        if said.value is not None and (part == "kind" or scope.records.get("stamp.kind").value == "calendar"):
            out.append(Fact("stamp", part, str(said.value), said.lines, said.default))
    return out


def judge(scope: Scope, needs: Needs) -> list[Finding]:
    dialect = scope.records.dialect.name
    kind = scope.records.get("stamp.kind")
    if kind.value is None:
        return [Finding(f"{dialect} says nothing of time stamps", (), "unknown")]
    if "kind" in needs and not needs["kind"].accepts(str(kind.value)):
        reads = _READS.get(str(kind.value), f"stamps are {kind.value}")
        return [Finding(reads + default_note(kind, dialect), kind.lines)]
    if kind.value != "calendar":
        return []
    out = []
    for part, need in needs.items():
        said = scope.records.get(f"stamp.{part}")
        if part != "kind" and not need.accepts(str(said.value)):
            word = f"{part} is {said.value}" if part in ("year", "zone") else f"{part} is in {said.value}"
            lines = said.lines or kind.lines
            out.append(Finding(f"the {word}{default_note(said, dialect)}, not {need.text}", lines))
    return out


def mend(scope: Scope, needs: Needs) -> tuple[Records, list[Obstacle]]:
    records, obstacles = scope.records, []
    for part in PARTS if records.get("stamp.kind").value is not None else ():
        if part not in needs or (part != "kind" and records.get("stamp.kind").value != "calendar"):
            continue
        slot = f"stamp.{part}"
        records, more = mend_value(records, Place(part, "", (), slot, records.get(slot)), needs[part])
        obstacles += more
    return records, obstacles


def say(facts: list[Fact]) -> str:
    return ", ".join(f"{f.key} {f.value}" if f.key in ("year", "zone") else f.value for f in facts)


SETTING = Setting(
    name="stamp",
    kind="kind (none, uptime, calendar), precision, year, zone",
    meaning="what kind of time stamp messages bear, how fine, and whether year and zone are in it",
    matters="two devices' messages can only be put in order if both say when, in full",
    meets="stamp: {kind: calendar, zone: shown}  ←  stamp calendar millis year zone",
    breaks="stamp: {kind: calendar, zone: shown}  ←  stamp uptime; or stamp calendar millis",
    ask=ask,
    facts=facts,
    judge=judge,
    mend=mend,
    say=say,
)
