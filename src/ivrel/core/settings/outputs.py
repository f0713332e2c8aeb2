"""Outputs on the device itself, which a platform gives one threshold, or entries of facilities and
severities.
"""

from __future__ import annotations

from typing import Any

from msgspec.structs import replace

from ivrel.core.dialects.pattern import Flag
from ivrel.core.policy.need import Needs
from ivrel.core.reading.records import Records
from ivrel.core.settings.contract import Fact, Finding, Obstacle, Setting
from ivrel.core.settings.scope import Scope
from ivrel.core.settings.sending import departing, picked
from ivrel.core.settings.valued import Part, valued
from ivrel.core.vocabulary.said import Row
from ivrel.core.vocabulary.severity import NOTHING, Selection

# The slots of entries: what is shown where, of facilities and severities.
SHOW = ("show.output", "show.facility", "show.level", "show.compare", "show.action")


def output(name: str, *parts: Part, **texts: Any) -> Setting:
    """The setting of an output, whose first part is the severities that it shows."""
    plain = valued(name, *parts, **texts)
    level, rest = parts[0], parts[1:]

    def has(scope: Scope) -> bool:
        """Whether this platform says what the output shows entry by entry; all of its entries
        count.
        """
        return any(
            isinstance(item, Flag) and item.slot == "show.output" and item.value == name
            for pattern in scope.records.dialect.patterns
            for items in (*pattern.path, pattern.items)
            for item in items
        )

    def rows(scope: Scope) -> list[Row]:
        records = scope.records
        return [
            row
            for row in records.rows("show").values()
            if records.get("show.output", row).value == name
        ]

    def shown(scope: Scope) -> tuple[Selection, tuple[int, ...]]:
        taken = dropped = NOTHING
        lines: tuple[int, ...] = ()
        for row in rows(scope):
            if scope.records.get("show.action", row).value == "drop":
                dropped |= picked(scope.records, row, "show")
            else:
                taken |= picked(scope.records, row, "show")
            lines += tuple(line for said in row.values() for line in said.lines)
        return taken - dropped, tuple(sorted(set(lines)))

    def facts(scope: Scope) -> list[Fact]:
        if not has(scope) or not rows(scope):
            return plain.facts(scope)
        selection, lines = shown(scope)
        others = [fact for fact in plain.facts(scope) if fact.key != level.name]
        return [Fact(name, "", level.name, selection.describe(), lines, False), *others]

    def judge(scope: Scope, needs: Needs) -> list[Finding]:
        if not has(scope) or not rows(scope) or level.name not in needs:
            return plain.judge(scope, needs)
        selection, lines = shown(scope)
        found = departing(selection, needs[level.name])
        out: list[Finding] = []
        if found:
            out.append(
                Finding(
                    "output",
                    level.name,
                    f"the {name}",
                    selection.describe(),
                    needs[level.name].text,
                    found,
                    lines,
                    cannot=_only_read(scope, level.name),
                )
            )
        others = {part.name: needs[part.name] for part in rest if part.name in needs}
        return out + (plain.judge(scope, others) if others else [])

    def mend(scope: Scope, needs: Needs) -> tuple[Records, list[Obstacle]]:
        if not has(scope):
            return plain.mend(scope, needs)
        wrong = [f for f in judge(scope, needs) if f.about == level.name]
        obstacles = [_only_read(scope, level.name)] if wrong else []
        others = {part.name: needs[part.name] for part in rest if part.name in needs}
        if not others:
            return scope.records, obstacles
        records, more = plain.mend(scope, others)
        return records, [*obstacles, *more]

    return replace(plain, facts=facts, judge=judge, mend=mend)


def _only_read(scope: Scope, about: str) -> Obstacle:
    more = (("platform", scope.records.dialect.name),)
    return Obstacle("only-read", about, more=more, unable=True)
