"""rules: traffic rules record as asked, and what they record goes somewhere."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from ivrel.core.form import Node, Report
from ivrel.core.policy.collector import Collector
from ivrel.core.policy.need import Need, Needs, read_need, read_parts
from ivrel.core.reading.records import Records
from ivrel.core.reading.statements import DOUBT, Key
from ivrel.core.settings.contract import Fact, Finding, More, Obstacle, Setting, silent_on
from ivrel.core.settings.places import ValuePlace, cannot_say, mend_value
from ivrel.core.settings.scope import Scope
from ivrel.core.vocabulary.sourced import Row, lines_of_rows
from ivrel.core.vocabulary.values import TELL, VERDICT

RULES_NAMED = 5  # so many rules are named; the rest is counted


def ask(node: Node, report: Report, collectors: Mapping[str, Collector]) -> Needs | None:
    """Read what rules that pass and that stop traffic are to record."""

    def read(child: Node) -> Need | None:
        return read_need(child, report, TELL.parse, TELL.choices)

    return read_parts(node, report, dict.fromkeys(VERDICT.choices, read), "rules that")


def _tells(scope: Scope) -> Iterator[tuple[Key, Row, str, str]]:
    """Yield every rule, what it does with traffic, and what of it it records.

    A rule that may do otherwise than it seems is left out: a finding of its own reports it.
    """
    records = scope.records
    for key, row in records.rows("gate").items():
        action = records.get("gate.action", row).value
        if action is not None and DOUBT not in row:
            yield key, row, str(action), str(records.get("gate.tell", row).value or "none")


def facts(scope: Scope) -> list[Fact]:
    """Count the rules by what they do and record."""
    if not scope.records.dialect.has("gate.tell"):
        return []
    counts: dict[tuple[str, str], int] = {}
    for _, _, action, tell in _tells(scope):
        counts[action, tell] = counts.get((action, tell), 0) + 1
    found = sorted(counts.items())
    return [Fact("rules", a, t, str(n), (), False) for (a, t), n in found]


def _wrong(scope: Scope, needs: Needs) -> list[tuple[Key, Row, str, str]]:
    return [
        rule for rule in _tells(scope) if rule[2] in needs and not needs[rule[2]].accepts(rule[3])
    ]


def _unfed(scope: Scope, needs: Needs) -> list[tuple[Key, Row]]:
    """Rules that record and have no feed, on a platform whose rules name one."""
    if not scope.records.dialect.has("gate.feed"):
        return []
    rules = [
        (key, row) for key, row, action, tell in _tells(scope) if action in needs and tell != "none"
    ]
    return [(key, row) for key, row in rules if scope.records.get("gate.feed", row).value is None]


def judge(scope: Scope, needs: Needs) -> list[Finding]:
    """Find rules that record otherwise, and those whose records go nowhere."""
    if not scope.records.dialect.has("gate.tell"):
        return [silent_on(scope.records.dialect, "traffic rules that record")]
    out = []
    for key, row in scope.records.rows("gate").items():
        # A rule with a statement that is not understood may record otherwise than it seems.
        if DOUBT in row:
            doubt = row[DOUBT]
            title = f"rule {key[0]}"
            more = (("line", str(doubt.lines[0])), ("text", str(doubt.value)))
            out.append(
                Finding(
                    "doubtful-rule", title, title, more=more, lines=doubt.lines, judged="unknown"
                )
            )
    for action, need in needs.items():
        wrong = [
            (key, row, tell) for key, row, does, tell in _wrong(scope, needs) if does == action
        ]
        # Firewalls have hundreds of rules: those that are wrong in the same way are reported once.
        for tell in dict.fromkeys(tell for _, _, tell in wrong):
            rows = [(key, row) for key, row, told in wrong if told == tell]
            first = _place(rows[0][0], rows[0][1], action, tell, scope.records)
            out.append(
                Finding(
                    "rules-tell",
                    f"{action} {tell}",
                    f"rules that {action}",
                    tell,
                    need.text,
                    (("action", action), *_named(rows)),
                    lines_of_rows(row for _, row in rows),
                    cannot=cannot_say(scope.records.dialect, first, need),
                )
            )
    unfed = _unfed(scope, needs)
    if unfed:
        out.append(
            Finding(
                "rules-unfed",
                "feed",
                more=_named(unfed),
                lines=lines_of_rows(row for _, row in unfed),
            )
        )
    return out


def _named(rows: list[tuple[Key, Row]]) -> More:
    """Return how many rules there are, the names of the first, and how many more."""
    names = ", ".join(str(key[0]) for key, _ in rows[:RULES_NAMED])
    rest = str(len(rows) - RULES_NAMED) if len(rows) > RULES_NAMED else ""
    return (("count", str(len(rows))), ("names", names), ("more", rest))


def _place(key: Key, row: Row, action: str, tell: str, records: Records) -> ValuePlace:
    said = records.get("gate.tell", row)
    return ValuePlace(f"{action} {tell}", "gate", key, "gate.tell", said, f"rules that {action}")


def mend(scope: Scope, needs: Needs) -> tuple[Records, list[Obstacle]]:
    """Let rules record as asked, and give to a feed."""
    records = scope.records
    dialect = scope.records.dialect
    if not dialect.has("gate.tell"):
        return records, []
    obstacles: dict[Obstacle, None] = {}
    for key, row, action, tell in _wrong(scope, needs):
        place = _place(key, row, action, tell, records)
        records, more = mend_value(records, place, needs[action])
        obstacles |= dict.fromkeys(more)
    feeds = sorted({str(key[0]) for key in records.rows("give")})
    # Rules that have only now begun to record need a feed as well.
    unfed = _unfed(scope.on(records), needs)
    if unfed and not feeds:
        return records, [*obstacles, Obstacle("no-feed", "feed")]
    # The policy asks only that records go somewhere. The first feed by name is as good as any, and
    # the same at each run.
    for key, _ in unfed:
        records = records.having("gate", key, "gate.feed", feeds[0])
    return records, list(obstacles)


def say(facts: list[Fact]) -> str:
    """Return the counts in few words."""
    return ", ".join(f"{f.value} {f.key}" for f in facts) or "not looked at"


SETTING = Setting(
    name="rules",
    slots=("gate.id", "gate.action", "gate.tell", "gate.feed"),
    kind="pass, stop: what is recorded (none, open, close, both)",
    meaning="what the traffic rules of a firewall record",
    effect="traffic rules begin to record, or stop: firewalls can send very many of these messages",
    matters="a rule that stops traffic and tells nobody makes every question about it a guess",
    meets="rules: {stop: [open, both]}  ←  gate 20 { action stop; record open; }",
    breaks="rules: {stop: [open, both]}  ←  gate 20 { action stop; }",
    ask=ask,
    facts=facts,
    judge=judge,
    mend=mend,
    say=say,
    reads=("categories",),
    by_row="gate",
)
