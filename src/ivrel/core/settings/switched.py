"""Messages of one category that are switched on by themselves, or leave by the chain of that category."""

from __future__ import annotations

from typing import Any

from msgspec.structs import replace

from ivrel.core.dialects.records import Records
from ivrel.core.dialects.slots import SWITCH
from ivrel.core.settings.base import Fact, Finding, Needs, Obstacle, Scope, Setting, no_destination
from ivrel.core.settings.chain import bring, first_gap
from ivrel.core.settings.valued import Part, valued


def switched(name: str, category: str, **texts: Any) -> Setting:
    """The setting of that name: a switch, or on platforms with categories the chain of one of them."""
    plain = valued(name, Part("", name, SWITCH), what=f"messages of {name}", **texts)

    def has(scope: Scope) -> bool:
        return category in scope.records.dialect.channels

    def facts(scope: Scope) -> list[Fact]:
        if not has(scope):
            return plain.facts(scope)
        return [Fact(name, "", "off" if first_gap(scope, category) else "on", (), False)]

    def judge(scope: Scope, needs: Needs) -> list[Finding]:
        if not has(scope):
            return plain.judge(scope, needs)
        if not scope.judged:
            return no_destination(scope)
        gap = first_gap(scope, category)
        if needs[""].accepts("off" if gap else "on"):
            return []
        return [Finding(gap[0], gap[1]) if gap else Finding(f"messages of {category} leave, and are not to")]

    def mend(scope: Scope, needs: Needs) -> tuple[Records, list[Obstacle]]:
        if not has(scope):
            return plain.mend(scope, needs)
        if not judge(scope, needs):
            return scope.records, []
        if not needs[""].accepts("on"):
            return scope.records, [Obstacle(f"take {category} out of the feeds by hand")]
        return bring(scope, [category])

    return replace(plain, facts=facts, judge=judge, mend=mend, reads=("collectors", "level"))
