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
from ivrel.core.settings.contract import Fact, Finding, Obstacle, Setting, about_of
from ivrel.core.settings.scope import Scope
from ivrel.core.settings.sending import Sending, departure, described, entries_of
from ivrel.core.settings.valued import ValuePart, valued
from ivrel.core.vocabulary.severity import EVERYTHING
from ivrel.core.vocabulary.sourced import Row, lines_of_rows

# The slots of entries: what is shown where, of facilities and severities.
SHOW = ("show.output", "show.name", "show.facility", "show.level", "show.compare", "show.action")


def output(name: str, *parts: ValuePart, **texts: Any) -> Setting:
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

    def _shown(self, scope: Scope) -> list[_Shown]:
        """Return the selection of each output of this kind: the console, or one file each."""
        records = scope.records
        if not self._is_known(records.dialect):
            return []
        rows: dict[str, list[Row]] = {}
        for row in records.rows("show").values():
            if records.get("show.output", row).value == self.name:
                name = records.get("show.name", row).value
                rows.setdefault("" if name is None else str(name), []).append(row)
        return [_shown(scope, name, some) for name, some in rows.items()]

    def facts(self, scope: Scope) -> list[Fact]:
        """Tell what each output shows, and its other parts."""
        shown = self._shown(scope)
        if not shown:
            return self.plain.facts(scope)
        others = [fact for fact in self.plain.facts(scope) if fact.key != self.level]
        of_each = [
            Fact(self.name, one.name, self.level, described(one.selection), one.lines, False)
            for one in shown
        ]
        return [*of_each, *others]

    def judge(self, scope: Scope, needs: Needs) -> list[Finding]:
        """Find where an output shows too little or too much."""
        shown = self._shown(scope)
        if not shown or self.level not in needs:
            return self.plain.judge(scope, needs)
        need = needs[self.level]
        out: list[Finding] = []
        for one in shown:
            found = departure(one.selection, need)
            if found is None:
                continue
            sure = found.judged == "breaks"
            out.append(
                Finding(
                    "output" if sure else "output-unsure",
                    about_of(one.name, self.level),
                    f"the {self.name} {one.name}".rstrip(),
                    described(one.selection),
                    need.text,
                    found.values,
                    one.lines,
                    found.judged,
                    cannot=_only_read(scope, about_of(one.name, self.level)) if sure else None,
                )
            )
        others = self._others(needs)
        return out + (self.plain.judge(scope, others) if others else [])

    def mend(self, scope: Scope, needs: Needs) -> tuple[Records, list[Obstacle]]:
        """Correct the other parts; entries are only read."""
        if not self._is_known(scope.records.dialect):
            return self.plain.mend(scope, needs)
        entries = {about_of(one.name, self.level) for one in self._shown(scope)}
        wrong = dict.fromkeys(f.about for f in self.judge(scope, needs) if f.about in entries)
        obstacles = [_only_read(scope, about) for about in wrong]
        others = self._others(needs)
        if not others:
            return scope.records, obstacles
        records, more = self.plain.mend(scope, others)
        return records, [*obstacles, *more]

    def _others(self, needs: Needs) -> Needs:
        return {part: needs[part] for part in self.rest if part in needs}


class _Shown(Struct, frozen=True):
    """What one output shows: the name of the file, '' for the console; the lines that say so."""

    name: str
    selection: Sending
    lines: tuple[int, ...]


def _shown(scope: Scope, name: str, rows: Sequence[Row]) -> _Shown:
    # A file that is named without any entry takes everything, as a destination does.
    entries = [row for row in rows if "show.level" in row or "show.facility" in row]
    selection = entries_of(scope.records, entries, "show") if entries else Sending(EVERYTHING.bits)
    return _Shown(name, selection, lines_of_rows(rows))


def _only_read(scope: Scope, about: str) -> Obstacle:
    more = (("platform", scope.records.dialect.name),)
    return Obstacle("only-read", about, more=more, unable=True)
