"""categories: each category of message reaches a collector by an unbroken chain."""

from __future__ import annotations

from collections.abc import Mapping

from ivrel.core.form import ListOf, Node, Report, TextField
from ivrel.core.policy.collector import Collector
from ivrel.core.policy.need import Needs, SetNeed
from ivrel.core.reading.records import Records
from ivrel.core.settings.chain import CHAIN, MissingLink, bring, first_gap
from ivrel.core.settings.contract import Fact, Finding, Obstacle, Setting, no_destination
from ivrel.core.settings.scope import Scope
from ivrel.core.settings.sending import reached

CATEGORIES = ("system", "change", "login", "traffic", "threat")


def ask(node: Node, report: Report, collectors: Mapping[str, Collector]) -> Needs | None:
    """Read the categories that must leave."""
    names = ListOf(
        TextField("a category", choices=CATEGORIES), one_is_enough=True, filled=True
    ).read(node, report)
    return {"": SetNeed(includes=names)} if names else None


def _channels(scope: Scope, category: str) -> tuple[str, ...]:
    """Return the channels that a category goes by: itself, or the planes that the dialect says."""
    dialect = scope.records.dialect
    # A platform that divides its messages otherwise says in which of its planes a category is.
    by_plane = tuple(
        plane for plane, categories in dialect.categories.items() if category in categories
    )
    return by_plane or tuple(c for c in dialect.channels if c == category)


def facts(scope: Scope) -> list[Fact]:
    """Tell of each category whether it leaves."""
    known = [c for c in CATEGORIES if _channels(scope, c)]
    out = []
    for c in known:
        value = "does not leave" if _gap(scope, c) else "leaves"
        out.append(Fact("categories", "", c, value, (), False))
    return out


def _gap(scope: Scope, category: str) -> MissingLink | None:
    gaps = (first_gap(scope, channel) for channel in _channels(scope, category))
    return next((gap for gap in gaps if gap), None)


def judge(scope: Scope, needs: Needs) -> list[Finding]:
    """Find the first missing link of each category that is asked for."""
    need: SetNeed = needs[""]
    if not scope.judged:
        return no_destination(scope)
    if not scope.records.dialect.channels:
        # All messages go the same way, whatever they are about.
        if any(reached(scope, d) for d in scope.judged):
            return []
        return [Finding("silence")]
    out = []
    for category in need.wanted:
        if not _channels(scope, category):
            platform = scope.records.dialect.name
            out.append(Finding("no-category", category, category, platform, judged="unable"))
        elif gap := _gap(scope, category):
            more = (("gap", gap.why),)
            out.append(Finding("gap", category, category, more=more, lines=gap.lines))
    return out


def mend(scope: Scope, needs: Needs) -> tuple[Records, list[Obstacle]]:
    """Close the chains of the categories that are lost."""
    if not scope.records.dialect.channels:
        wrong = judge(scope, needs)
        return scope.records, [Obstacle("no-level-asked")] if wrong else []
    lost = [c for c in needs[""].wanted if _gap(scope, c)]
    return bring(scope, dict.fromkeys(ch for c in lost for ch in _channels(scope, c)))


def say(facts: list[Fact]) -> str:
    """Name the categories that leave."""
    return ", ".join(f.key for f in facts if f.value == "leaves") or (
        "nothing" if facts else "all alike"
    )


SETTING = Setting(
    name="categories",
    slots=(),
    hangs_on=("destination.name", "destination.address", "feed.name", *CHAIN),
    kind="system, change, login, traffic, threat",
    meaning="the categories of messages that reach a collector by an unbroken chain",
    effect="categories begin to arrive, or stop: alarms on them and the volume on the line change",
    matters="a chain of rule, feed and destination is silent as soon as one link is missing",
    meets="categories: [threat]  ←  feed f1 takes threat and gives to a collector",
    breaks="categories: [threat]  ←  feed f1 takes threat and gives to nothing",
    ask=ask,
    facts=facts,
    judge=judge,
    mend=mend,
    say=say,
    reads=("collectors", "level"),
)
