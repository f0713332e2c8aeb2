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
    no_choice,
    no_destination,
    silent_on,
)
from ivrel.core.settings.places import Place, cannot_say, mend_value
from ivrel.core.settings.rows import is_number
from ivrel.core.settings.scope import Destination, Scope
from ivrel.core.settings.sending import (
    bounds,
    departing,
    departure,
    described,
    gives_to,
    knows_levels,
    lacking,
    levels_of,
    lines_of,
    picked,
    picks_of,
    sendings,
    threshold,
)
from ivrel.core.vocabulary.said import Row, Said
from ivrel.core.vocabulary.severity import (
    NOTHING,
    SEVERITIES,
    Selection,
    single,
)
from ivrel.core.vocabulary.values import THRESHOLD, Value


def ask(node: Node, report: Report, collectors: Mapping[str, Collector]) -> Needs | None:
    also = {"from": "at-least", "to": "at-most"}
    need = read_need(node, report, THRESHOLD.parse, THRESHOLD.choices, ordered=True, also=also)
    return {"": need} if need else None


def facts(scope: Scope) -> list[Fact]:
    return [
        Fact("level", d.label, channel, described(sent), sent.lines, sent.default)
        for d in scope.destinations
        for channel, sent in sendings(scope, d).items()
    ]


def judge(scope: Scope, needs: Needs) -> list[Finding]:
    if not knows_levels(scope.records.dialect):
        return [silent_on(scope.records.dialect, "severities")]
    out = [] if scope.judged else no_destination(scope)
    for d in scope.judged:
        for channel, sent in sendings(scope, d).items():
            about = about_of(d.label, channel)
            need = need_of(needs, about)
            found = departure(sent, need)
            if found:
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
    records, dialect = scope.records, scope.records.dialect
    if channel:
        table = "take" if dialect.has("take.category") else "feed"
        slot = f"{table}.level"
        feeds = dict(levels_of(scope, d, channel))
        if not feeds:
            return None
        feed, said = next(iter(feeds.items()))
        place = Place(feed, table, (feed,), slot, said, f"{d.title} of {channel}")
        found = cannot_say(dialect, place, need)
        return replace(found, about=about_of(d.label, channel)) if found else None
    if dialect.has("destination.selection") or dialect.has("pick.destination"):
        return None
    at = (_threshold_at(records, d, slot) for slot in ("destination.level", "level"))
    known = [place for place in at if place is not None]
    found_at = [cannot_say(dialect, place, need) for place in known]
    if not found_at:
        return None
    # It is enough that one threshold can say it.
    return found_at[0] if all(found_at) else None


def _noisy(scope: Scope, destination: Destination, need: Need) -> tuple[int, ...]:
    """The lines of the picks that take what may not leave."""
    _, high = bounds(need)
    picks = picks_of(scope, destination).values()
    return tuple(
        line for row in picks if not picked(scope.records, row) <= high for line in lines_of(row)
    )


def _orphans(scope: Scope) -> list[tuple[str, Key, Said]]:
    """Rows that feed a destination which is not set."""
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
    records = scope.records
    obstacles: list[Obstacle] = []
    dialect = records.dialect
    if not knows_levels(dialect):
        return records, []
    if dialect.channels:
        # What one channel needs of a shared feed may change what another gets.
        for _ in range(ROUNDS):
            before, obstacles = records, []
            for d in scope.judged:
                records, more = _mend_channels(scope.on(records), d, needs)
                obstacles += more
            if records is before:
                break
    for d in () if dialect.channels else scope.judged:
        need: Need = need_of(needs, d.label)
        if dialect.has("destination.selection"):
            records, more = _mend_selection(scope.on(records), d, need)
        else:
            records, more = _mend_destination(scope, records, d, need)
        obstacles += more
    for table, key, _ in _orphans(scope):
        records = records.without(table, key)
    return records, obstacles


ROUNDS = 3  # so often all channels are gone through

SLOTS = (
    *("level", "destination.level", "destination.selection", "destination.surely"),
    *("pick.id", "pick.severity", "pick.level", "pick.facility", "pick.compare", "pick.action"),
    *("pick.destination", "feed.level", *CHAIN),
)


def _mend_destination(
    scope: Scope, records: Records, d: Destination, need: Need
) -> tuple[Records, list[Obstacle]]:
    """The picks of a destination, or the threshold that cuts off too much or too little: its own,
    the device's.
    """
    dialect = records.dialect
    own, wide = (_threshold_at(records, d, slot) for slot in ("destination.level", "level"))
    new = not d.lines() and (own is None or own.said.default)
    slot = "destination.level" if own else "level"
    if new and need.write and dialect.can_write(slot, need.write):
        need = need.only(need.write)  # a destination that is new gets what the policy says to write
    sent = sendings(scope.on(records), d)[""]
    if not departing(sent, need):
        return records, []
    if dialect.has("pick.destination"):
        if need.choose(lambda v: True) is None and not picks_of(scope, d):
            return records, [no_choice(d.title, d.label)]
        return _mend_picks_of(scope, records, d, need), []
    obstacles: list[Obstacle] = []
    low, high = bounds(need)
    for place in (own, wide):
        if place is None:
            continue
        passes = threshold(str(place.said.value)) if place.said.value is not None else low
        # Both thresholds must let pass what is asked for; it is enough that one holds back the
        # rest.
        last = place is (own or wide)
        unfit = not passes <= high or not need.accepts(str(place.said.value))
        if not low <= passes or (last and unfit):
            records, more = mend_value(records, place, need)
            obstacles += more
    return records, obstacles


def _threshold_at(records: Records, d: Destination, slot: str) -> Place | None:
    """Where a threshold stands, if this platform has it."""
    if not records.dialect.has(slot):
        return None
    if slot == "level":
        return Place(d.label, "", (), slot, records.get(slot), d.title)
    row = records.rows("destination").get(d.key, {})
    return Place(d.label, "destination", d.key, slot, records.get(slot, row), d.title)


def _mend_selection(scope: Scope, d: Destination, need: Need) -> tuple[Records, list[Obstacle]]:
    """The whole selection of a destination at once: what the policy says to write."""
    found = departure(sendings(scope, d)[""], need)
    if found is None or found.judged == "unknown":
        return scope.records, []
    if lack := lacking(scope, d):
        said = (("found", lack),)
        return scope.records, [Obstacle("told-of", d.label, d.label, more=said)]
    wanted = need.choose(lambda v: True)
    if wanted is None:
        return scope.records, [no_choice(d.title, d.label)]
    records = scope.records.having(
        "destination", d.key, "destination.selection", threshold(wanted).word
    )
    if "destination.surely" in records.rows("destination")[d.key]:
        records = records.having("destination", d.key, "destination.surely", None)
    return records, []


def _mend_channels(scope: Scope, d: Destination, needs: Needs) -> tuple[Records, list[Obstacle]]:
    """Brings every channel to a destination, by a feed that there is, at a level as asked."""
    records = scope.records
    obstacles: list[Obstacle] = []
    for channel in records.dialect.channels:
        need: Need = need_of(needs, f"{d.label} {channel}")
        if departing(sendings(scope.on(records), d)[channel], need):
            records, more = mend_channel(scope.on(records), d, channel, need)
            obstacles += more
    return records, obstacles


def mend_channel(
    now: Scope, d: Destination, channel: str, need: Need
) -> tuple[Records, list[Obstacle]]:
    """Brings one channel to a destination, by a feed that there is, at a level as asked."""
    records, dialect = now.records, now.records.dialect
    obstacles: list[Obstacle] = []
    takes = dialect.has("take.category")
    bringing = dict(levels_of(now, d, channel))
    fresh = not bringing
    if fresh and takes:
        feed = _feed_for(now, d, channel)
        records = records.having("give", (feed, d.ref), "give.destination", d.ref)
        if (feed, channel) not in records.rows("take"):
            records = records.having("take", (feed, channel), "take.category", channel)
    elif fresh:
        records = records.having("give", (channel, d.ref), "give.destination", d.ref)
    own = need.only(need.write) if fresh and need.write else need
    _, high = bounds(need)
    levels = dict(levels_of(now.on(records), d, channel))
    noisy = [f for f, said in levels.items() if not threshold(str(said.value or "debug")) <= high]
    # What is too noisy must go; if that is not enough, one feed is raised; if that is not, all are
    # set.
    for feeds in ([] if fresh else noisy, list(levels)[:1], list(levels)):
        if departing(sendings(now.on(records), d)[channel], own):
            for feed in feeds:
                table, key = ("take", (feed, channel)) if takes else ("feed", (feed,))
                said = records.get(f"{table}.level", records.rows(table).get(key, {}))
                place = Place(feed, table, key, f"{table}.level", said, f"{d.title} of {channel}")
                exact = own.choose(lambda v, place=place: dialect.can_write(place.slot, v))  # type: ignore[misc]
                records, more = mend_value(records, place, own.only(exact) if exact else own)
                obstacles += [replace(o, about=f"{d.label} {channel}") for o in more]
    return records, obstacles


def _feed_for(scope: Scope, d: Destination, channel: str) -> str:
    """A feed for a channel: one that gives to the destination, one that takes it for another, or a
    new one.
    """
    records = scope.records
    gives = [str(feed) for feed in gives_to(scope, d)]
    if gives:
        return gives[0]
    known = {str(key[0]): None for table in ("give", "take") for key in records.rows(table)}
    taking = [feed for feed in known if (feed, channel) in records.rows("take")]
    if taking:
        return taking[0]
    return next(name for n in range(1, len(known) + 2) if (name := f"f{n}") not in known)


def _mend_picks_of(scope: Scope, records: Records, destination: Destination, need: Need) -> Records:
    """One row for each severity that is missing, none for those that are too much; or one row with
    a threshold.
    """
    picks = picks_of(scope, destination)
    if records.dialect.has("pick.level"):
        return _mend_threshold(records, destination, picks, need)
    target = _target([picked(records, row) for row in picks.values()], need)
    have = NOTHING
    for key, row in picks.items():
        taken = picked(records, row)
        if taken <= target:
            have |= taken
        else:
            records = records.without("pick", key)
    for severity in SEVERITIES:
        wanted = single(severity)
        if wanted <= target and not wanted <= have:
            new = {"pick.id": _fresh(records), "pick.severity": severity}
            records = _with_pick(records, {**new, "pick.destination": destination.ref})
    return records


def _mend_threshold(
    records: Records, destination: Destination, picks: Mapping[Key, Row], need: Need
) -> Records:
    """One pick of all facilities through a threshold in place of all others."""
    level = need.choose(lambda v: records.dialect.can_write("pick.level", v)) or "none"
    new = {"pick.facility": "all", "pick.level": level, "pick.destination": destination.ref}
    for old in picks:
        records = records.without("pick", old)
    return _with_pick(records, new)


def _with_pick(records: Records, values: Mapping[str, Value]) -> Records:
    key = tuple(values[slot] for slot in records.dialect.keys["pick"])
    for slot, value in values.items():
        records = records.having("pick", key, slot, value)
    return records


def _target(taken: list[Selection], need: Need) -> Selection:
    """The threshold to reach: that of the fewest changes; of a destination without picks, the one
    to write.
    """
    first = need.choose(lambda v: True)
    if not taken:
        return threshold(first or "none")

    def changes(severity: str) -> int:
        target = threshold(severity)
        kept = [t for t in taken if t <= target]
        have = NOTHING
        for t in kept:
            have |= t
        missing = sum(1 for s in SEVERITIES if single(s) <= target and not single(s) <= have)
        return len(taken) - len(kept) + missing

    # Silence is no way to be rid of what is too noisy, unless it is asked for.
    accepted = [
        v for v in THRESHOLD.choices if need.accepts(v) and (v != "none" or first == "none")
    ]
    return threshold(min(accepted, key=lambda v: (changes(v), v != first)))


def _fresh(records: Records) -> str:
    """The first number behind all that are used."""
    used = [int(str(key[0])) for key in records.rows("pick") if is_number(key[0])]
    return str(max(used, default=0) + 1)


SETTING = Setting(
    name="level",
    slots=SLOTS,
    hangs_on=("destination.name", "destination.address", "feed.name"),
    kind="a severity; `from` (not quieter), `to` (not noisier)",
    meaning="the severities that leave for each collector",
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
