"""Messages of one category that are switched on by themselves, or leave by that category's
chain.
"""

from __future__ import annotations

from typing import Any

from msgspec import Struct
from msgspec.structs import replace

from ivrel.core.policy.need import Needs
from ivrel.core.reading.records import Records
from ivrel.core.settings.chain import CHAIN, bring, first_gap
from ivrel.core.settings.contract import Fact, Finding, Obstacle, Setting, no_destination
from ivrel.core.settings.scope import Scope
from ivrel.core.settings.valued import ValuePart, valued
from ivrel.core.vocabulary.values import SWITCH


def switched(name: str, category: str, **texts: Any) -> Setting:
    """Return the setting of that name: a switch, or with categories the chain of one of them."""
    plain = valued(name, ValuePart("", name, SWITCH), what=f"messages of {name}", **texts)
    chain = _Chain(name, category, plain)
    return replace(
        plain,
        facts=chain.facts,
        judge=chain.judge,
        mend=chain.mend,
        hangs_on=CHAIN,
        reads=("collectors", "level"),
    )


class _Chain(Struct, frozen=True):
    """Messages of a category; `plain`: the setting on platforms that have a switch for them."""

    name: str
    category: str
    plain: Setting

    def _is_known(self, scope: Scope) -> bool:
        return self.category in scope.records.dialect.channels

    def facts(self, scope: Scope) -> list[Fact]:
        """Tell whether the category leaves."""
        if not self._is_known(scope):
            return self.plain.facts(scope)
        state = "off" if first_gap(scope, self.category) else "on"
        return [Fact(self.name, "", "", state, (), False)]

    def judge(self, scope: Scope, needs: Needs) -> list[Finding]:
        """Find the link of the chain that is missing, or that it is whole and must not be."""
        if not self._is_known(scope):
            return self.plain.judge(scope, needs)
        if not scope.judged:
            return no_destination(scope)
        gap = first_gap(scope, self.category)
        if needs[""].accepts("off" if gap else "on"):
            return []
        # The chain is whole although it must not be.
        if gap is None:
            more = _what(self.category)
            return [Finding("unwanted-category", found="on", wanted="off", more=more)]
        more = (("gap", gap.why),)
        return [Finding("gap", found="off", wanted="on", more=more, lines=gap.lines)]

    def mend(self, scope: Scope, needs: Needs) -> tuple[Records, list[Obstacle]]:
        """Close the chain; to open one is left to somebody who knows what else goes by it."""
        if not self._is_known(scope):
            return self.plain.mend(scope, needs)
        if not self.judge(scope, needs):
            return scope.records, []
        if not needs[""].accepts("on"):
            return scope.records, [Obstacle("take-out", more=_what(self.category))]
        return bring(scope, [self.category])


def _what(category: str) -> tuple[tuple[str, str], ...]:
    return (("what", category),)
