"""Settings that are one value, said once for the device, for each destination, or for each feed."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

from ivrel.core.dialects.records import Records
from ivrel.core.dialects.slots import ValueType
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
from ivrel.core.settings.need import Need, read_need

Wants = Callable[[Scope, Place, Need], Need]


def valued(
    name: str,
    type_: ValueType,
    *,
    lacks: str,
    absent: str = "not set",
    ordered: bool = False,
    more: tuple[str, ...] = (),
    wants: Wants = lambda scope, place, need: need,
    reads: Callable[[str], str] = str,
    **texts: Any,
) -> Setting:
    """The setting of that name, whose slots have the same name.

    `lacks`: what to say of a platform without a statement for it; `absent`: the value where nothing is said;
    `more`: further words that a policy may ask for, which `wants` turns into values of one place; `reads`:
    puts a value into words.
    """

    def ask(node: Node, report: Report, collectors: Mapping[str, Collector]) -> Needs | None:
        choices = (*more, *type_.choices)

        def parse(word: str) -> Any:
            return word if word in more else type_.parse(word)

        need = read_need(node, report, parse, choices if type_.choices else (), ordered=ordered)
        return {"": need} if need else None

    def value(place: Place) -> str:
        return absent if place.said.value is None else str(place.said.value)

    def can_say(scope: Scope) -> bool:
        return any(scope.records.dialect.has(slot_of(name, table)) for table in ("", "destination", "feed"))

    def facts(scope: Scope) -> list[Fact]:
        return [Fact(name, p.label, value(p), p.said.lines, p.said.default) for p in scope.places(name, every=True)]

    def judge(scope: Scope, needs: Needs) -> list[Finding]:
        dialect = scope.records.dialect
        places = list(scope.places(name))
        if not places:
            return no_destination(scope) if can_say(scope) else [Finding(f"{dialect.name} {lacks}")]
        out = []
        for p in places:
            need = wants(scope, p, need_of(needs, p.label))
            if not need.accepts(value(p)):
                why = f"{p.prefix}{reads(value(p))}{default_note(p.said, dialect.name)}, not {need.text}"
                out.append(Finding(why, p.said.lines))
        return out

    def mend(scope: Scope, needs: Needs) -> tuple[Records, list[Obstacle]]:
        records = scope.records
        obstacles: list[Obstacle] = []
        if not can_say(scope) and not any(True for _ in scope.places(name)):
            return records, [Obstacle(f"{records.dialect.name} {lacks}", True)]
        for p in scope.places(name):
            need = wants(scope, p, need_of(needs, p.label))
            if not need.accepts(value(p)):
                records, found = mend_value(records, p, need)
                obstacles += found
        return records, obstacles

    return Setting(name=name, ask=ask, facts=facts, judge=judge, mend=mend, **texts)
