"""filters: nothing on the way drops what is asked for."""

from __future__ import annotations

from collections.abc import Mapping

from ivrel.core.form import Node, Report, TextField
from ivrel.core.policy.collector import Collector
from ivrel.core.policy.need import Need, Needs
from ivrel.core.reading.records import Records
from ivrel.core.reading.statements import Key
from ivrel.core.settings.contract import Fact, Finding, Obstacle, Setting, silent_on
from ivrel.core.settings.scope import Scope
from ivrel.core.settings.sending import picks_of
from ivrel.core.vocabulary.sourced import Row, lines_of_rows


def ask(node: Node, report: Report, collectors: Mapping[str, Collector]) -> Needs | None:
    """Read 'none', which is all that can be asked."""
    word = TextField("'none'", choices=("none",)).read(node, report)
    return {"": Need(any_of=("none",))} if word else None


def _drops(scope: Scope) -> list[tuple[str, Key, Row]]:
    """Return the rows that drop messages: for all destinations, or for one that is asked for."""
    records = scope.records
    out: list[tuple[str, Key, Row]] = [
        ("mute", key, row) for key, row in records.rows("mute").items()
    ]
    for d in scope.judged:
        for key, row in picks_of(scope, d).items():
            if records.get("pick.action", row).value == "drop":
                out.append(("pick", key, row))
    return out


def _finding(scope: Scope, table: str, key: Key, row: Row) -> Finding:
    get = scope.records.get
    about = f"{table} {' '.join(map(str, key))}"
    if table == "mute":
        text = str(get("mute.text", row).value)
        return Finding("dropped-text", about, found=text, lines=lines_of_rows([row]))
    facility = str(get("pick.facility", row).value)
    to = str(get("pick.destination", row).value)
    return Finding("dropped-facility", about, to, facility, lines=lines_of_rows([row]))


def facts(scope: Scope) -> list[Fact]:
    """Tell what drops messages."""
    out = []
    for table, key, row in _drops(scope):
        said = _finding(scope, table, key, row).why
        out.append(Fact("filters", str(key[0]), "", said, lines_of_rows([row]), False))
    return out


def judge(scope: Scope, needs: Needs) -> list[Finding]:
    """Find what drops messages."""
    dialect = scope.records.dialect
    if (
        not any(map(dialect.has, ("mute.text", "mute.id", "pick.action")))
        and "mute" not in dialect.never
    ):
        return [silent_on(dialect, "filters")]
    return [_finding(scope, table, key, row) for table, key, row in _drops(scope)]


def mend(scope: Scope, needs: Needs) -> tuple[Records, list[Obstacle]]:
    """Take away what drops messages."""
    records = scope.records
    for table, key, _ in _drops(scope):
        records = records.without(table, key)
    return records, []


def say(facts: list[Fact]) -> str:
    """Return a short description of a filter that drops messages."""
    return "; ".join(f.value for f in facts) or "none"


SETTING = Setting(
    name="filters",
    slots=("mute.id", "mute.text"),
    hangs_on=("destination.name", "destination.address", "feed.name", "pick.action"),
    kind="none",
    meaning="what drops messages before they leave",
    effect="messages that were dropped on the way begin to arrive",
    matters="a filter that was set against noise years ago drops the one line that matters today",
    meets="filters: none  ←  nothing that drops messages",
    breaks="filters: none  ←  mute 10 link flap",
    ask=ask,
    facts=facts,
    judge=judge,
    mend=mend,
    say=say,
)
