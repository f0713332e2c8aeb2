"""level: the severities that leave for each destination, as a selection of facilities and
severities.
"""

from __future__ import annotations

from collections.abc import Mapping

from msgspec.structs import replace

from ivrel.core.form import Node, Report
from ivrel.core.policy.collector import Collector
from ivrel.core.policy.need import Need, Needs, read_need
from ivrel.core.reading.records import Records
from ivrel.core.reading.statements import Key
from ivrel.core.settings.chain import CHAIN
from ivrel.core.settings.contract import (
    Fact,
    Finding,
    Obstacle,
    Setting,
    about_of,
    need_of,
    no_destination,
    silent_on,
)
from ivrel.core.settings.places import ValuePlace, cannot_say
from ivrel.core.settings.scope import Destination, Scope
from ivrel.core.settings.selecting import (
    mend_channels,
    mend_destination,
    mend_selection,
    threshold_at,
)
from ivrel.core.settings.sending import (
    bounds,
    departure,
    described,
    knows_levels,
    levels_of,
    lines_of,
    picked,
    picks_of,
    sendings,
)
from ivrel.core.vocabulary.sourced import SourcedValue
from ivrel.core.vocabulary.values import THRESHOLD


def ask(node: Node, report: Report, collectors: Mapping[str, Collector]) -> Needs | None:
    """Read the least and the most that is to leave."""
    also = {"from": "at-least", "to": "at-most"}
    need = read_need(node, report, THRESHOLD.parse, THRESHOLD.choices, ordered=True, also=also)
    return {"": need} if need else None


def facts(scope: Scope) -> list[Fact]:
    """Tell the selection of each destination and channel."""
    return [
        Fact("level", d.label, channel, described(sent), sent.lines, sent.default)
        for d in scope.destinations
        for channel, sent in sendings(scope, d).items()
    ]


def judge(scope: Scope, needs: Needs) -> list[Finding]:
    """Find destinations that get too little, too much, or with a hole in it."""
    if not knows_levels(scope.records.dialect):
        return [silent_on(scope.records.dialect, "severities")]
    out = [] if scope.judged else no_destination(scope)
    for d in scope.judged:
        for channel, sent in sendings(scope, d).items():
            about = about_of(d.label, channel)
            need = need_of(needs, about)
            found = departure(sent, need)
            if found:
                # What is too much is in some line; what is missing is in none.
                lines = () if found.misses else _noisy(scope, d, need)
                of = f" of {channel}" if channel else ""
                out.append(
                    Finding(
                        found.kind,
                        about,
                        d.title,
                        described(sent),
                        need.text,
                        (*found.values, ("channel", channel), ("of", of)),
                        lines or sent.lines or d.lines(),
                        found.judged,
                        cannot=_cannot(scope, d, channel, need),
                    )
                )
    return out + _dangling(scope)


def _cannot(scope: Scope, d: Destination, channel: str, need: Need) -> Obstacle | None:
    """Return why a platform can never let leave what is asked for; None if it can."""
    records = scope.records
    dialect = scope.records.dialect
    if channel:
        table = "take" if dialect.has("take.category") else "feed"
        slot = f"{table}.level"
        feeds = dict(levels_of(scope, d, channel))
        if not feeds:
            return None
        # All feeds of a channel take their levels from the same statement: one shows what it can
        # say.
        feed, said = next(iter(feeds.items()))
        place = ValuePlace(feed, table, (feed,), slot, said, f"{d.title} of {channel}")
        found = cannot_say(dialect, place, need)
        return replace(found, about=about_of(d.label, channel)) if found else None
    # Picks and selections can say any set of severities.
    if dialect.has("destination.selection") or dialect.has("pick.destination"):
        return None
    at = (threshold_at(records, d, slot) for slot in ("destination.level", "level"))
    known = [place for place in at if place is not None]
    found_at = [cannot_say(dialect, place, need) for place in known]
    if not found_at:
        return None
    # It is enough that one threshold can say it.
    return found_at[0] if all(found_at) else None


def _noisy(scope: Scope, destination: Destination, need: Need) -> tuple[int, ...]:
    """Return the lines of the picks that take what may not leave."""
    _, high = bounds(need)
    picks = picks_of(scope, destination).values()
    return tuple(
        line for row in picks if not picked(scope.records, row) <= high for line in lines_of(row)
    )


def _orphans(scope: Scope) -> list[tuple[str, Key, SourcedValue]]:
    """Return rows that feed a destination which is not set."""
    refs = {d.ref for d in scope.destinations}
    return [
        (table, key, said)
        for table in ("pick", "give")
        for key, row in scope.records.rows(table).items()
        if (said := scope.records.get(f"{table}.destination", row)).value is not None
        and said.value not in refs
    ]


def _dangling(scope: Scope) -> list[Finding]:
    what = {"pick": "rule", "give": "feed"}
    return [
        Finding(
            "orphan",
            f"{table} {' '.join(map(str, key))}",
            str(key[0]),
            str(said.value),
            more=(("what", what[table]),),
            lines=said.lines,
        )
        for table, key, said in _orphans(scope)
    ]


def mend(scope: Scope, needs: Needs) -> tuple[Records, list[Obstacle]]:
    """Let leave what is asked for, by picks, thresholds or feeds."""
    records = scope.records
    obstacles: list[Obstacle] = []
    dialect = records.dialect
    if not knows_levels(dialect):
        return records, []
    if dialect.channels:
        # What one channel needs of a shared feed may change what another gets.
        for _ in range(ROUNDS):
            before = records
            obstacles = []
            for d in scope.judged:
                records, more = mend_channels(scope.on(records), d, needs)
                obstacles += more
            # A round that changed nothing is followed by none that does.
            if records is before:
                break
    for d in () if dialect.channels else scope.judged:
        need: Need = need_of(needs, d.label)
        if dialect.has("destination.selection"):
            records, more = mend_selection(scope.on(records), d, need)
        else:
            records, more = mend_destination(scope, records, d, need)
        obstacles += more
    # A row that feeds nothing goes, or it would feed whatever takes that name later.
    for table, key, _ in _orphans(scope):
        records = records.without(table, key)
    return records, obstacles


ROUNDS = 3  # so often all channels are gone through

SLOTS = (
    *("level", "destination.level", "destination.selection", "destination.surely"),
    *("pick.id", "pick.severity", "pick.level", "pick.facility", "pick.compare", "pick.action"),
    *("pick.destination", "feed.level", *CHAIN),
)


SETTING = Setting(
    name="level",
    slots=SLOTS,
    hangs_on=("destination.name", "destination.address", "feed.name"),
    kind="a severity; `from` (not quieter), `to` (not noisier)",
    meaning="the severities that leave for each collector",
    effect="more messages leave, or fewer: the volume on the line and at the collector changes",
    matters="too quiet hides the failure, too noisy fills the line; a list of severities can "
    "have a hole",
    meets="level: {from: warning, to: informational}  ←  … through notice",
    breaks="level: {from: warning}  ←  … through error; or error, alert and emergency without "
    "critical",
    ask=ask,
    facts=facts,
    judge=judge,
    mend=mend,
)
