"""Outputs on the device itself, which a platform gives one threshold, or entries of facilities and
severities.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from msgspec import Struct
from msgspec.structs import replace

from ivrel.core.dialects.dialect import Dialect
from ivrel.core.dialects.items import Flag
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
    """Return the setting of an output, whose first part is the severities that it shows."""
    plain = valued(name, *parts, **texts)
    entries = _Entries(name, plain, parts[0].name, tuple(part.name for part in parts[1:]))
    return replace(plain, facts=entries.facts, judge=entries.judge, mend=entries.mend)


class _Entries(Struct, frozen=True):
    """An output that some platforms describe entry by entry; all of its entries count.

    `plain`: the setting where they do not; `level`: the part that entries are about; `rest`: all
    other parts.
    """

    name: str
    plain: Setting
    level: str
    rest: tuple[str, ...]

    def _is_known(self, dialect: Dialect) -> bool:
        """Whether this platform says what the output shows entry by entry."""
        return dialect.once(("entries", self.name), lambda: self._finds_itself(dialect))

    def _finds_itself(self, dialect: Dialect) -> bool:
        for pattern in dialect.patterns:
            items = [item for part in (*pattern.path, pattern.items) for item in part]
            shown = (i.value for i in items if isinstance(i, Flag) and i.slot == "show.output")
            if self.name in shown:
                return True
        return False

    def _rows(self, scope: Scope) -> list[Row]:
        records = scope.records
        if not self._is_known(records.dialect):
            return []
        rows = records.rows("show").values()
        return [row for row in rows if records.get("show.output", row).value == self.name]

    def _shown(self, scope: Scope, rows: Sequence[Row]) -> tuple[Selection, tuple[int, ...]]:
        """Return what the entries show together, and the lines that say so."""
        taken = dropped = NOTHING
        lines: set[int] = set()
        for row in rows:
            # Whatever the order of entries, what one of them drops is not shown.
            if scope.records.get("show.action", row).value == "drop":
                dropped |= picked(scope.records, row, "show")
            else:
                taken |= picked(scope.records, row, "show")
            lines.update(line for said in row.values() for line in said.lines)
        return taken - dropped, tuple(sorted(lines))

    def facts(self, scope: Scope) -> list[Fact]:
        """Tell what the output shows, and its other parts."""
        rows = self._rows(scope)
        if not rows:
            return self.plain.facts(scope)
        selection, lines = self._shown(scope, rows)
        others = [fact for fact in self.plain.facts(scope) if fact.key != self.level]
        whole = Fact(self.name, "", self.level, selection.describe(), lines, False)
        return [whole, *others]

    def judge(self, scope: Scope, needs: Needs) -> list[Finding]:
        """Find where the output shows too little or too much."""
        rows = self._rows(scope)
        if not rows or self.level not in needs:
            return self.plain.judge(scope, needs)
        selection, lines = self._shown(scope, rows)
        need = needs[self.level]
        found = departing(selection, need)
        out: list[Finding] = []
        if found:
            said, cannot = selection.describe(), _only_read(scope, self.level)
            about, title = self.level, f"the {self.name}"
            out.append(
                Finding("output", about, title, said, need.text, found, lines, cannot=cannot)
            )
        others = self._others(needs)
        return out + (self.plain.judge(scope, others) if others else [])

    def mend(self, scope: Scope, needs: Needs) -> tuple[Records, list[Obstacle]]:
        """Correct the other parts; entries are only read."""
        if not self._is_known(scope.records.dialect):
            return self.plain.mend(scope, needs)
        wrong = [f for f in self.judge(scope, needs) if f.about == self.level]
        obstacles = [_only_read(scope, self.level)] if wrong else []
        others = self._others(needs)
        if not others:
            return scope.records, obstacles
        records, more = self.plain.mend(scope, others)
        return records, [*obstacles, *more]

    def _others(self, needs: Needs) -> Needs:
        return {part: needs[part] for part in self.rest if part in needs}


def _only_read(scope: Scope, about: str) -> Obstacle:
    more = (("platform", scope.records.dialect.name),)
    return Obstacle("only-read", about, more=more, unable=True)
