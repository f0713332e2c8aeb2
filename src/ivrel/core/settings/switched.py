"""Messages of one category that are switched on by themselves, or leave by that category's
chain.
"""

from __future__ import annotations

from typing import Any

from msgspec.structs import replace

from ivrel.core.policy.need import Needs
from ivrel.core.reading.records import Records
from ivrel.core.settings.chain import CHAIN, bring, first_gap
from ivrel.core.settings.contract import Fact, Finding, Obstacle, Setting, no_destination
from ivrel.core.settings.scope import Scope
from ivrel.core.settings.valued import Part, valued
from ivrel.core.vocabulary.values import SWITCH


def switched(name: str, category: str, **texts: Any) -> Setting:
    """Return the setting of that name: a switch, or with categories the chain of one of them."""
    plain = valued(name, Part("", name, SWITCH), what=f"messages of {name}", **texts)

    def has(scope: Scope) -> bool:
        return category in scope.records.dialect.channels

    def facts(scope: Scope) -> list[Fact]:
        if not has(scope):
            return plain.facts(scope)
        return [Fact(name, "", "", "off" if first_gap(scope, category) else "on", (), False)]

    def judge(scope: Scope, needs: Needs) -> list[Finding]:
        if not has(scope):
            return plain.judge(scope, needs)
        if not scope.judged:
            return no_destination(scope)
        gap = first_gap(scope, category)
        if needs[""].accepts("off" if gap else "on"):
            return []
        if gap is None:
            return [Finding("unwanted-category", found="on", wanted="off", more=_what(category))]
        return [Finding("gap", found="off", wanted="on", more=(("gap", gap.why),), lines=gap.lines)]

    def mend(scope: Scope, needs: Needs) -> tuple[Records, list[Obstacle]]:
        if not has(scope):
            return plain.mend(scope, needs)
        if not judge(scope, needs):
            return scope.records, []
        if not needs[""].accepts("on"):
            return scope.records, [Obstacle("take-out", more=_what(category))]
        return bring(scope, [category])

    return replace(
        plain,
        facts=facts,
        judge=judge,
        mend=mend,
        hangs_on=CHAIN,
        reads=("collectors", "level"),
    )


def _what(category: str) -> tuple[tuple[str, str], ...]:
    return (("what", category),)
