"""Settings that are values, each said once for the device, for each destination, or for each feed.

Most settings have one value; some fall into parts (`memory: {level: debug, size: {at-least: 65536}}`).
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from typing import Any

from msgspec import Struct
from yaml import MappingNode

from ivrel.core.dialects.records import Records
from ivrel.core.dialects.slots import NUMBER, RATE, ValueType, slot_of
from ivrel.core.form import Node, Report
from ivrel.core.settings.base import (
    PLACES,
    Collector,
    Fact,
    Finding,
    Needs,
    Obstacle,
    Place,
    Scope,
    Setting,
    about_of,
    can_say,
    default_note,
    mend_value,
    need_of,
    no_destination,
    silent_on,
)
from ivrel.core.settings.need import Need, read_need, read_parts


class Part(Struct, frozen=True):
    """One value of a setting: its name ('' if it is the only one), its slot, its type.

    `ordered`: whether ranges of its values mean something.
    """

    name: str
    field: str
    type: ValueType
    ordered: bool = False


Wants = Callable[[Scope, Place, Need], Need]


def same(scope: Scope, place: Place, need: Need) -> Need:
    """What is asked of every place alike."""
    return need


def valued(
    name: str,
    *parts: Part,
    what: str,
    absent: str = "not set",
    more: tuple[str, ...] = (),
    wants: Wants = same,
    **texts: Any,
) -> Setting:
    """The setting of that name.

    `what`: what a platform without a statement for it lacks; `absent`: the value where nothing is said;
    `more`: further words that a policy may ask for, which `wants` turns into values of one place.
    """
    names = tuple(part.name for part in parts)
    for part in parts:
        if not any(slot_of(part.field, table) for table in PLACES):
            raise ValueError(f"setting {name}: no slot is called '{part.field}' anywhere")

    def read(part: Part, node: Node, report: Report) -> Need | None:
        choices = (*more, *part.type.choices) if part.type.choices else ()

        def parse(word: str) -> Any:
            return word if word in more else part.type.parse(word)

        numbers = part.type in (NUMBER, RATE)
        return read_need(node, report, parse, choices, ordered=part.ordered, numbers=numbers)

    def ask(node: Node, report: Report, collectors: Mapping[str, Collector]) -> Needs | None:
        if names == ("",) or not isinstance(node, MappingNode):
            need = read(parts[0], node, report)
            return {names[0]: need} if need else None
        readers = {part.name: lambda child, part=part: read(part, child, report) for part in parts}
        return read_parts(node, report, readers)

    def value(place: Place) -> str:
        return absent if place.said.value is None else str(place.said.value)

    def facts(scope: Scope) -> list[Fact]:
        return [
            Fact(name, f"{p.label} {part.name}".strip(), value(p), p.said.lines, p.said.default)
            for part in parts
            for p in scope.places(part.field, every=True)
        ]

    def wrong(scope: Scope, part: Part, needs: Needs) -> Iterator[tuple[Place, Need]]:
        for p in scope.places(part.field):
            need = wants(scope, p, needs[part.name] if part.name else need_of(needs, p.label))
            if not need.accepts(value(p)):
                yield p, need

    def judge(scope: Scope, needs: Needs) -> list[Finding]:
        dialect = scope.records.dialect
        out = []
        for part in parts:
            if part.name not in needs:
                continue
            of = f"{part.name} " if part.name else ""
            if not scope.places(part.field):
                known = can_say(dialect, part.field)
                out += no_destination(scope) if known else [silent_on(dialect, _named(what, part), part.name)]
            for p, need in wrong(scope, part, needs):
                note = default_note(p.said, dialect.name)
                why = f"{p.prefix}{of}{value(p)}{note}, not {need.text}"
                out.append(Finding(why, p.said.lines, about=about_of(p.label, part.name)))
        return list(dict.fromkeys(out))

    def mend(scope: Scope, needs: Needs) -> tuple[Records, list[Obstacle]]:
        records = scope.records
        obstacles: list[Obstacle] = []
        for part in parts:
            if part.name not in needs:
                continue
            for p, need in wrong(scope, part, needs):
                records, found = mend_value(records, p, need, part.name)
                obstacles += found
        return records, obstacles

    return Setting(name=name, ask=ask, facts=facts, judge=judge, mend=mend, **texts)


def _named(what: str, part: Part) -> str:
    return f"the {part.name} of {what}" if part.name else what
