"""Selecting what leaves for a destination: the picks, thresholds and feeds that make it so."""

from __future__ import annotations

from collections.abc import Mapping

from msgspec.structs import replace

from ivrel.core.policy.need import Need, Needs
from ivrel.core.reading.records import Records
from ivrel.core.reading.statements import Key
from ivrel.core.settings.contract import (
    Obstacle,
    need_of,
    no_choice,
)
from ivrel.core.settings.places import ValuePlace, mend_value
from ivrel.core.settings.rows import is_number
from ivrel.core.settings.scope import Destination, Scope
from ivrel.core.settings.sending import (
    bounds,
    departing,
    departure,
    gives_to,
    is_threshold,
    lacking,
    levels_of,
    picked,
    picks_of,
    sendings,
    threshold,
)
from ivrel.core.vocabulary.severity import (
    NOTHING,
    SEVERITIES,
    Selection,
    adjusted,
    by_threshold,
    single,
)
from ivrel.core.vocabulary.sourced import Row
from ivrel.core.vocabulary.values import THRESHOLD, Value


def mend_destination(
    scope: Scope, records: Records, d: Destination, need: Need
) -> tuple[Records, list[Obstacle]]:
    """Return the picks of a destination, or the threshold that cuts off too much or too little: its
    own, the device's.
    """
    dialect = records.dialect
    own, wide = (threshold_at(records, d, slot) for slot in ("destination.level", "level"))
    # What holds for the whole device is not new with a destination.
    new = not d.lines() and (own.said.default if own else wide is None)
    slot = "destination.level" if own else "level"
    if new:
        need = need.for_new(lambda v: dialect.can_write(slot, v))
    sent = sendings(scope.on(records), d)[""]
    if not departing(sent, need):
        return records, []
    if dialect.has("pick.destination"):
        if need.choose(is_threshold) is None and not picks_of(scope, d):
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


def threshold_at(records: Records, d: Destination, slot: str) -> ValuePlace | None:
    """Return the place of a threshold, if this platform has one."""
    if not records.dialect.has(slot):
        return None
    if slot == "level":
        return ValuePlace(d.label, "", (), slot, records.get(slot), d.title)
    row = records.rows("destination").get(d.key, {})
    return ValuePlace(d.label, "destination", d.key, slot, records.get(slot, row), d.title)


def mend_selection(scope: Scope, d: Destination, need: Need) -> tuple[Records, list[Obstacle]]:
    """Return the whole selection of a destination at once: what the policy says to write."""
    found = departure(sendings(scope, d)[""], need)
    # A destination that comes with this correction gets what is asked for, and nobody's filter.
    if found is None or (found.judged == "unknown" and d.lines()):
        return scope.records, []
    if lack := lacking(scope, d):
        said = (("found", lack),)
        return scope.records, [Obstacle("told-of", d.label, d.label, more=said)]
    # An action with the selection of another is written in a way that says more than is asked, so
    # that none is preferred for being there already.
    wanted = replace(need, prefer=(), unsure=False).choose(is_threshold)
    if wanted is None:
        return scope.records, [no_choice(d.title, d.label)]
    sent = sendings(scope, d)[""]
    # Facilities that are as asked stay as they are, unless nobody knows what of them leaves.
    target = adjusted(sent, need.accepts, wanted) if sent.certain else threshold(wanted)
    records = scope.records.having("destination", d.key, "destination.selection", target.word)
    # The selection is said again, and is sure.
    if "destination.surely" in records.rows("destination")[d.key]:
        records = records.having("destination", d.key, "destination.surely", None)
    return records, []


def mend_channels(scope: Scope, d: Destination, needs: Needs) -> tuple[Records, list[Obstacle]]:
    """Bring every channel to a destination, by a feed that there is, at a level as asked."""
    records = scope.records
    obstacles: list[Obstacle] = []
    for channel in records.dialect.channels:
        need: Need = need_of(needs, f"{d.label} {channel}")
        if _is_new(scope.on(records), d, channel):
            # What another setting has brought there gets what the policy says to write.
            need = need.for_new(is_threshold)
        if departing(sendings(scope.on(records), d)[channel], need):
            records, more = mend_channel(scope.on(records), d, channel, need)
            obstacles += more
    return records, obstacles


def _is_new(now: Scope, d: Destination, channel: str) -> bool:
    """Whether all that brings a channel to a destination has come with this correction."""
    gives = gives_to(now, d)
    feeds = [feed for feed, _ in levels_of(now, d, channel)]
    return bool(feeds) and not any(
        said.lines for feed in feeds for said in gives.get(feed, {}).values()
    )


def mend_channel(
    now: Scope, d: Destination, channel: str, need: Need
) -> tuple[Records, list[Obstacle]]:
    """Bring one channel to a destination, by a feed that there is, at a level as asked."""
    records = now.records
    dialect = now.records.dialect
    obstacles: list[Obstacle] = []
    takes = dialect.has("take.category")
    bringing = dict(levels_of(now, d, channel))
    fresh = not bringing
    # Nothing brings the channel there: a feed is made to take it and to give to the destination.
    if fresh and takes:
        feed = _feed_for(now, d, channel)
        records = records.having("give", (feed, d.ref), "give.destination", d.ref)
        if (feed, channel) not in records.rows("take"):
            records = records.having("take", (feed, channel), "take.category", channel)
    elif fresh:
        records = records.having("give", (channel, d.ref), "give.destination", d.ref)
    own = need.for_new(is_threshold) if fresh else need
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
                place = ValuePlace(
                    feed, table, key, f"{table}.level", said, f"{d.title} of {channel}"
                )
                exact = own.choose(lambda v, place=place: dialect.can_write(place.slot, v))  # type: ignore[misc]
                records, more = mend_value(records, place, own.only(exact) if exact else own)
                obstacles += [replace(o, about=f"{d.label} {channel}") for o in more]
    return records, obstacles


def _feed_for(scope: Scope, d: Destination, channel: str) -> str:
    """Return a feed for a channel: one that gives to the destination, one that takes it for
    another, or a new one.
    """
    records = scope.records
    gives = [str(feed) for feed in gives_to(scope, d)]
    if gives:
        return gives[0]
    # A dictionary rather than a set: the order of the text decides, at each run alike.
    known = {str(key[0]): None for table in ("give", "take") for key in records.rows(table)}
    taking = [feed for feed in known if (feed, channel) in records.rows("take")]
    if taking:
        return taking[0]
    return next(name for n in range(1, len(known) + 2) if (name := f"f{n}") not in known)


def _mend_picks_of(scope: Scope, records: Records, destination: Destination, need: Need) -> Records:
    """Return one row for each severity that is missing, none for those that are too much.

    Or one row with a threshold.
    """
    picks = picks_of(scope, destination)
    if records.dialect.has("pick.level"):
        return _mend_threshold(records, destination, picks, need)
    target = _target([picked(records, row) for row in picks.values()], need)
    have = NOTHING
    for key, row in picks.items():
        taken = picked(records, row)
        # A pick that takes anything too much goes, and what it took besides is picked again.
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
    """Return picks that give the departing facilities an accepted threshold; one pick of all
    facilities in place of all others, where picks cannot say that.
    """
    level = need.choose(lambda v: records.dialect.can_write("pick.level", v)) or "none"
    few = _mend_facilities(records, destination, picks, need, level)
    if few is not None:
        return few
    new = {"pick.facility": "all", "pick.level": level, "pick.destination": destination.ref}
    for old in picks:
        records = records.without("pick", old)
    return _with_pick(records, new)


MOST_NEW = 4  # picks of single facilities that are written


def _mend_facilities(
    records: Records, destination: Destination, picks: Mapping[Key, Row], need: Need, level: str
) -> Records | None:
    """Return picks that keep the facilities which are as asked; None if picks cannot say that."""
    dropping = any(records.get("pick.action", row).value == "drop" for row in picks.values())
    if not picks or dropping or not records.dialect.has("pick.facility"):
        return None
    exact = any(records.get("pick.compare", row).value == "exactly" for row in picks.values())
    taken = {key: picked(records, row) for key, row in picks.items()}
    sent = NOTHING
    for some in taken.values():
        sent |= some
    target = adjusted(sent, need.accepts, level)
    have = NOTHING
    for key, some in taken.items():
        # A pick that takes anything too much goes, and what it took besides is picked again.
        if some <= target:
            have |= some
        else:
            records = records.without("pick", key)
    missing = by_threshold(target - have)
    new = [(facility, word) for word, names in missing.items() for facility in names]
    if exact or len(new) > MOST_NEW:
        return None
    for facility, word in new:
        said = {"pick.facility": facility, "pick.level": word}
        records = _with_pick(records, {**said, "pick.destination": destination.ref})
    return records


def _with_pick(records: Records, values: Mapping[str, Value]) -> Records:
    key = tuple(values[slot] for slot in records.dialect.keys["pick"])
    for slot, value in values.items():
        records = records.having("pick", key, slot, value)
    return records


def _target(taken: list[Selection], need: Need) -> Selection:
    """Return the threshold to reach: that of the fewest changes.

    Of a destination without picks, the one to write.
    """
    first = need.choose(is_threshold)
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
    """Return the first number behind all that are used."""
    used = [int(str(key[0])) for key in records.rows("pick") if is_number(key[0])]
    return str(max(used, default=0) + 1)
