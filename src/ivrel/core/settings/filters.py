"""filters: nothing on the way drops what is asked for."""

from __future__ import annotations

from collections.abc import Mapping

from ivrel.core.dialects.matching import Key
from ivrel.core.dialects.records import Records
from ivrel.core.dialects.said import Row
from ivrel.core.form import Node, Report, Text
from ivrel.core.settings.base import Collector, Fact, Finding, Needs, Obstacle, Scope, Setting, silent_on
from ivrel.core.settings.need import Need
from ivrel.core.settings.sending import picks_of


def ask(node: Node, report: Report, collectors: Mapping[str, Collector]) -> Needs | None:
    word = Text("'none'", choices=("none",)).read(node, report)
    return {"": Need(any_of=("none",))} if word else None


def _drops(scope: Scope) -> list[tuple[str, Key, Row]]:
    """The rows that drop messages: for all destinations, or for one that is asked for."""
    records = scope.records
    out: list[tuple[str, Key, Row]] = [("mute", key, row) for key, row in records.rows("mute").items()]
    for d in scope.judged:
        for key, row in picks_of(scope, d).items():
            if records.get("pick.action", row).value == "drop":
                out.append(("pick", key, row))
    return out


def _lines(row: Row) -> tuple[int, ...]:
    return tuple(sorted({line for said in row.values() for line in said.lines}))


def _text(scope: Scope, table: str, row: Row) -> str:
    if table == "mute":
        return f"messages with '{scope.records.get('mute.text', row).value}' are dropped"
    facility = scope.records.get("pick.facility", row).value
    return f"messages of {facility} are dropped for {scope.records.get('pick.destination', row).value}"


def facts(scope: Scope) -> list[Fact]:
    return [Fact("filters", str(key[0]), _text(scope, t, row), _lines(row), False) for t, key, row in _drops(scope)]


def judge(scope: Scope, needs: Needs) -> list[Finding]:
    dialect = scope.records.dialect
    if not any(map(dialect.has, ("mute.text", "mute.id", "pick.action"))) and "mute" not in dialect.never:
        return [silent_on(dialect, "filters")]
    return [
        Finding(_text(scope, table, row), _lines(row), about=f"{table} {' '.join(map(str, key))}")
        for table, key, row in _drops(scope)
    ]


def mend(scope: Scope, needs: Needs) -> tuple[Records, list[Obstacle]]:
    records = scope.records
    for table, key, _ in _drops(scope):
        records = records.without(table, key)
    return records, []


def say(facts: list[Fact]) -> str:
    return "; ".join(f.value for f in facts) or "none"


SETTING = Setting(
    name="filters",
    kind="none",
    meaning="what drops messages before they leave",
    matters="a filter that was set against noise years ago drops the one line that matters today",
    meets="filters: none  ←  nothing that drops messages",
    breaks="filters: none  ←  mute 10 link flap",
    ask=ask,
    facts=facts,
    judge=judge,
    mend=mend,
    say=say,
)
