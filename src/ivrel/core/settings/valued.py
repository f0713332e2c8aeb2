"""Settings that are values, each said once for the device, for each destination, or for each feed.

Most settings have one value; some fall into parts
(`memory: {level: debug, size: {at-least: 65536}}`).
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from typing import Any

from msgspec import Struct
from yaml import MappingNode

from ivrel.core.dialects.slots import slot_of
from ivrel.core.form import Node, Report
from ivrel.core.policy.collector import Collector
from ivrel.core.policy.need import Need, Needs, read_need, read_parts
from ivrel.core.reading.records import Records
from ivrel.core.settings.contract import (
    Fact,
    Finding,
    Obstacle,
    Setting,
    about_of,
    default_of,
    need_of,
    no_destination,
    silent_on,
)
from ivrel.core.settings.places import PLACES, ValuePlace, can_say, cannot_say, mend_value, places
from ivrel.core.settings.scope import Scope
from ivrel.core.vocabulary.values import NUMBER, RATE, ValueType


class ValuePart(Struct, frozen=True):
    """One value of a setting: its name ('' if it is the only one), its field, its type.

    `ordered`: whether ranges of its values mean something.
    """

    name: str
    field: str
    type: ValueType
    ordered: bool = False

    @property
    def slots(self) -> tuple[str, ...]:
        """The slots that say it: of the device, of destinations, of feeds."""
        every = (slot_of(self.field, table) for table in reversed(PLACES))
        return tuple(slot for slot in every if slot is not None)


Wants = Callable[[Scope, ValuePlace, Need], Need]


def same(scope: Scope, place: ValuePlace, need: Need) -> Need:
    """Return the same need for every place."""
    return need


class Values(Struct, frozen=True):
    """A setting of that name whose parts are values: what `Setting` takes of it.

    `what`: what a platform without a statement for it lacks; `absent`: the value where nothing is
    said; `more`: further words that a policy may ask for, which `wants` turns into values of one
    place.
    """

    name: str
    parts: tuple[ValuePart, ...]
    what: str
    absent: str = "not set"
    more: tuple[str, ...] = ()
    wants: Wants = same

    def ask(self, node: Node, report: Report, collectors: Mapping[str, Collector]) -> Needs | None:
        """Read what a policy asks for."""
        # A setting of one value, or one of several parts of which only the first is asked for:
        # `memory: debug` is short for `memory: {level: debug}`.
        if [part.name for part in self.parts] == [""] or not isinstance(node, MappingNode):
            first = self.parts[0]
            need = self._read(first, node, report)
            return {first.name: need} if need else None

        def reader(part: ValuePart) -> Callable[[Node], Need | None]:
            return lambda child: self._read(part, child, report)

        return read_parts(node, report, {part.name: reader(part) for part in self.parts})

    def _read(self, part: ValuePart, node: Node, report: Report) -> Need | None:
        choices = (*self.more, *part.type.choices) if part.type.choices else ()

        def parse(word: str) -> Any:
            return word if word in self.more else part.type.parse(word)

        numbers = part.type in (NUMBER, RATE)
        return read_need(node, report, parse, choices, ordered=part.ordered, numbers=numbers)

    def _value(self, place: ValuePlace) -> str:
        return self.absent if place.said.value is None else str(place.said.value)

    def facts(self, scope: Scope) -> list[Fact]:
        """Tell what a configuration says, part by part and place by place."""
        out = []
        for part in self.parts:
            for p in places(scope, part.field, every=True):
                said = p.said
                value = self._value(p)
                out.append(Fact(self.name, p.label, part.name, value, said.lines, said.default))
        return out

    def _wrong(
        self, scope: Scope, part: ValuePart, needs: Needs
    ) -> Iterator[tuple[ValuePlace, Need]]:
        for p in places(scope, part.field):
            need = needs[part.name] if part.name else need_of(needs, p.label)
            need = self.wants(scope, p, need)
            if not need.accepts(self._value(p)):
                yield p, need

    def judge(self, scope: Scope, needs: Needs) -> list[Finding]:
        """Find the values that are not as asked."""
        dialect = scope.records.dialect
        out = []
        for part in self.parts:
            if part.name not in needs:
                continue
            if not places(scope, part.field):
                # No place to say it: either there is no destination yet, or no statement of the
                # platform says it.
                if can_say(dialect, part.field):
                    out += no_destination(scope)
                else:
                    what = f"the {part.name} of {self.what}" if part.name else self.what
                    out.append(silent_on(dialect, what, part.name))
            for p, need in self._wrong(scope, part, needs):
                out.append(
                    Finding(
                        "value",
                        about_of(p.label, part.name),
                        p.title,
                        self._value(p),
                        need.text,
                        (("part", part.name),),
                        p.said.lines,
                        default=default_of(p.said, dialect),
                        cannot=cannot_say(dialect, p, need, part.name),
                    )
                )
        # Parts may all lack the same thing, which is reported once.
        return list(dict.fromkeys(out))

    def mend(self, scope: Scope, needs: Needs) -> tuple[Records, list[Obstacle]]:
        """Write what is asked for where something else is said."""
        records = scope.records
        obstacles: list[Obstacle] = []
        for part in self.parts:
            for p, need in self._wrong(scope, part, needs) if part.name in needs else ():
                records, found = mend_value(records, p, need, part.name)
                obstacles += found
        return records, obstacles


def valued(
    name: str,
    *parts: ValuePart,
    what: str,
    absent: str = "not set",
    more: tuple[str, ...] = (),
    wants: Wants = same,
    also: tuple[str, ...] = (),
    **texts: Any,
) -> Setting:
    """Return the setting of that name; `also`: slots that say it in addition to those of its
    parts."""
    for part in parts:
        # A name that is misspelled in the table of settings would be a setting that never finds
        # anything.
        if not part.slots:
            raise ValueError(f"setting {name}: no slot is called '{part.field}' anywhere")
    v = Values(name, parts, what, absent, more, wants)
    slots = (*also, *(slot for part in parts for slot in part.slots))
    return Setting(
        name=name, slots=slots, ask=v.ask, facts=v.facts, judge=v.judge, mend=v.mend, **texts
    )
