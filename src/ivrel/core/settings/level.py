"""level: the severities that leave for each destination, as a selection of facilities and severities."""

from __future__ import annotations

from collections.abc import Mapping
from functools import lru_cache

from ivrel.core.dialects.records import Key, Records, Row, Said
from ivrel.core.dialects.slots import THRESHOLD, Value
from ivrel.core.form import Node, Report
from ivrel.core.settings.base import (
    Collector,
    Destination,
    Fact,
    Finding,
    Needs,
    Obstacle,
    Place,
    Scope,
    Setting,
    mend_value,
    need_of,
    no_destination,
)
from ivrel.core.settings.need import Need, read_need
from ivrel.core.settings.sending import gives_to, levels_of, lines_of, picked, picks_of, sendings, threshold
from ivrel.core.severity import (
    NOTHING,
    SEVERITIES,
    Selection,
    as_threshold,
    describe_gap,
    holes,
    single,
)


def ask(node: Node, report: Report, collectors: Mapping[str, Collector]) -> Needs | None:
    also = {"from": "at-least", "to": "at-most"}
    need = read_need(node, report, THRESHOLD.parse, THRESHOLD.choices, ordered=True, also=also)
    return {"": need} if need else None


def facts(scope: Scope) -> list[Fact]:
    return [
        Fact("level", f"{d.label} {channel}".strip(), sent.describe(), sent.lines, sent.default)
        for d in scope.destinations
        for channel, sent in sendings(scope, d).items()
    ]


def judge(scope: Scope, needs: Needs) -> list[Finding]:
    out = [] if scope.judged else no_destination(scope)
    for d in scope.judged:
        for channel, sent in sendings(scope, d).items():
            need = need_of(needs, f"{d.label} {channel}".strip())
            why = _against(sent.bits, need)
            if why:
                lines = () if why.startswith("misses") else _noisy(scope, d, need)
                of = f" of {channel}" if channel else ""
                out.append(Finding(f"{d.title} {why}{of}", lines or sent.lines or d.lines()))
    return out + _dangling(scope)


def _noisy(scope: Scope, destination: Destination, need: Need) -> tuple[int, ...]:
    """The lines of the picks that take what may not leave."""
    _, high = _bounds(need)
    picks = picks_of(scope, destination).values()
    return tuple(line for row in picks if not picked(scope.records, row) <= high for line in lines_of(row))


@lru_cache(maxsize=4096)
def _against(bits: int, need: Need) -> str:
    """How a selection departs from what is asked; '' if it does not."""
    sent = Selection(bits)
    low, high = _bounds(need)
    said = []
    if not low <= sent:
        said.append(f"misses {describe_gap(low, sent)}" if sent else "gets nothing at all")
    if not sent <= high:
        said.append(f"adds {describe_gap(sent, high)}")
    gap = holes(sent) - low
    if gap:
        said.append(f"has a hole at {describe_gap(gap, NOTHING)}")
    if not said and not need.accepts(as_threshold(sent) or "none"):
        said.append(f"gets {sent.describe()}, not {need.text}")
    return ", ".join(said)


def _bounds(need: Need) -> tuple[Selection, Selection]:
    """What must leave, and what may."""
    order = THRESHOLD.choices
    wanted = [v for v in order if need.accepts(v)]
    return threshold(wanted[0]), threshold(wanted[-1])


def _orphans(scope: Scope) -> list[tuple[str, Key, Said]]:
    """Rows that feed a destination which is not set."""
    refs = {d.ref for d in scope.destinations}
    return [
        (table, key, said)
        for table in ("pick", "give")
        for key, row in scope.records.rows(table).items()
        if (said := scope.records.get(f"{table}.destination", row)).value is not None and said.value not in refs
    ]


def _dangling(scope: Scope) -> list[Finding]:
    what = {"pick": "rule", "give": "feed"}
    return [
        Finding(f"{what[table]} {key[0]} feeds '{said.value}', which is not set", said.lines)
        for table, key, said in _orphans(scope)
    ]


def mend(scope: Scope, needs: Needs) -> tuple[Records, list[Obstacle]]:
    records, obstacles = scope.records, []
    dialect = records.dialect
    for d in scope.judged:
        if dialect.channels:
            records, more = _mend_channels(scope.on(records), d, needs)
            obstacles += more
            continue
        need: Need = need_of(needs, d.label)
        if dialect.has("destination.selection"):
            records = _mend_selection(scope.on(records), d, need)
            continue
        slot = "destination.level" if dialect.has("destination.level") else "level"
        table, key = ("destination", d.key) if slot == "destination.level" else ("", ())
        place = Place(d.label, table, key, slot, records.get(slot, d.row), d.title)
        if not d.lines() and place.said.default and need.write and dialect.can_write(slot, need.write):
            need = need.only(need.write)  # a destination that is new gets what the policy says to write
        if not _against(sendings(scope, d)[""].bits, need):
            continue
        if dialect.has("pick.destination"):
            records = _mendpicks_of(scope, records, d, need)
        else:
            records, more = mend_value(records, place, need)
            obstacles += more
    for table, key, _ in _orphans(scope):
        records = records.without(table, key)
    return records, obstacles


def _mend_selection(scope: Scope, d: Destination, need: Need) -> Records:
    """The whole selection of a destination at once: what the policy says to write."""
    if not _against(sendings(scope, d)[""].bits, need):
        return scope.records
    wanted = threshold(need.choose(lambda v: True) or "none")
    return scope.records.having("destination", d.key, "destination.selection", wanted.word)


def _mend_channels(scope: Scope, d: Destination, needs: Needs) -> tuple[Records, list[Obstacle]]:
    """Brings every channel to a destination, by a feed that there is, at a level as asked."""
    records = scope.records
    obstacles: list[Obstacle] = []
    for channel in records.dialect.channels:
        need: Need = need_of(needs, f"{d.label} {channel}")
        if _against(sendings(scope.on(records), d)[channel].bits, need):
            records, more = mend_channel(scope.on(records), d, channel, need)
            obstacles += more
    return records, obstacles


def mend_channel(now: Scope, d: Destination, channel: str, need: Need) -> tuple[Records, list[Obstacle]]:
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
    _, high = _bounds(need)
    levels = dict(levels_of(now.on(records), d, channel))
    noisy = [f for f, said in levels.items() if not threshold(str(said.value or "debug")) <= high]
    # What is too noisy must go; if that is not enough, one feed is raised; if that is not, all are set.
    for feeds in ([] if fresh else noisy, list(levels)[:1], list(levels)):
        if _against(sendings(now.on(records), d)[channel].bits, own):
            for feed in feeds:
                table, key = ("take", (feed, channel)) if takes else ("feed", (feed,))
                said = records.get(f"{table}.level", records.rows(table).get(key, {}))
                place = Place(feed, table, key, f"{table}.level", said, f"{d.title} of {channel}")
                exact = own.choose(lambda v, place=place: dialect.can_write(place.slot, v))  # type: ignore[misc]
                records, more = mend_value(records, place, own.only(exact) if exact else own)
                obstacles += more
    return records, obstacles


def _feed_for(scope: Scope, d: Destination, channel: str) -> str:
    """A feed for a channel: one that gives to the destination, one that takes it for another, or a new one."""
    records = scope.records
    gives = [str(feed) for feed in gives_to(scope, d)]
    if gives:
        return gives[0]
    known = {str(key[0]): None for table in ("give", "take") for key in records.rows(table)}
    taking = [feed for feed in known if (feed, channel) in records.rows("take")]
    if taking:
        return taking[0]
    return next(name for n in range(1, len(known) + 2) if (name := f"f{n}") not in known)


def _mendpicks_of(scope: Scope, records: Records, destination: Destination, need: Need) -> Records:
    """One row for each severity that is missing, none for those that are too much; or one row with a threshold."""
    picks = picks_of(scope, destination)
    if records.dialect.has("pick.level"):
        return _mendthreshold(records, destination, picks, need)
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


def _mendthreshold(records: Records, destination: Destination, picks: Mapping[Key, Row], need: Need) -> Records:
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
    """The threshold to reach: that of the fewest changes; of a destination without picks, the one to write."""
    first = need.choose(lambda v: True) or "none"
    if not taken:
        return threshold(first)

    def changes(severity: str) -> int:
        target = threshold(severity)
        kept = [t for t in taken if t <= target]
        have = NOTHING
        for t in kept:
            have |= t
        missing = sum(1 for s in SEVERITIES if single(s) <= target and not single(s) <= have)
        return len(taken) - len(kept) + missing

    accepted = [v for v in THRESHOLD.choices if need.accepts(v)]
    return threshold(min(accepted, key=lambda v: (changes(v), v != first)))


def _fresh(records: Records) -> str:
    """The first number behind all that are used."""
    used = [int(str(key[0])) for key in records.rows("pick") if str(key[0]).isdigit()]
    return str(max(used, default=0) + 1)


SETTING = Setting(
    name="level",
    kind="a severity; `from` (not quieter), `to` (not noisier)",
    meaning="the severities that leave for each collector",
    matters="too quiet hides the failure, too noisy fills the line; a list of severities can have a hole",
    meets="level: {from: warning, to: informational}  ←  … through notice",
    breaks="level: {from: warning}  ←  … through error; or error, alert and emergency without critical",
    ask=ask,
    facts=facts,
    judge=judge,
    mend=mend,
)
