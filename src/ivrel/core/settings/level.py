"""level: the severities that leave for each destination, as a selection of facilities and severities."""

from __future__ import annotations

from collections.abc import Mapping
from functools import lru_cache

from ivrel.core.dialects.records import Key, Records, Row
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
from ivrel.core.severity import (
    EVERYTHING,
    NOTHING,
    SEVERITIES,
    Selection,
    as_threshold,
    describe_gap,
    holes,
    single,
    through,
)


def ask(node: Node, report: Report, collectors: Mapping[str, Collector]) -> Needs | None:
    also = {"from": "at-least", "to": "at-most"}
    need = read_need(node, report, THRESHOLD.parse, THRESHOLD.choices, ordered=True, also=also)
    return {"": need} if need else None


class Sending(Selection, frozen=True):
    """The selection of one destination, with the lines that make it."""

    lines: tuple[int, ...] = ()
    default: bool = False


def sending(scope: Scope, destination: Destination) -> Sending:
    """What leaves for a destination: what its picks take, within its own threshold and the device's."""
    at = ("level", destination.key)
    if at not in scope.memo:
        scope.memo[at] = _sending(scope, destination)
    found: Sending = scope.memo[at]
    return found


def _sending(scope: Scope, destination: Destination) -> Sending:
    records = scope.records
    lines: tuple[int, ...] = ()
    bits, default = EVERYTHING.bits, True
    if records.dialect.has("pick.id"):
        chosen = NOTHING
        for row in _picks(scope, destination).values():
            chosen |= _picked(records, row)
            lines += _lines(row)
        bits, default = chosen.bits, False
        lines = lines or destination.lines()
    for said in (records.get("destination.level", destination.row), records.get("level")):
        if said.value is not None:
            bits &= _threshold(str(said.value)).bits
            lines += said.lines
            default = default and said.default
    return Sending(bits, lines, default)


def _threshold(severity: str) -> Selection:
    return NOTHING if severity == "none" else through(severity)


def _picks(scope: Scope, destination: Destination) -> dict[Key, Row]:
    """The picks that feed a destination."""
    at: tuple[str, Key] = ("picks", ())
    if at not in scope.memo:
        fed: dict[Value | None, dict[Key, Row]] = {}
        for key, row in scope.records.rows("pick").items():
            said = scope.records.get("pick.destination", row).value
            fed.setdefault(None if isinstance(said, tuple) else said, {})[key] = row
        scope.memo[at] = fed
    name = destination.row.get("destination.name")
    found: dict[Key, Row] = scope.memo[at].get(name.value, {}) if name is not None else {}
    return found


def _picked(records: Records, row: Row) -> Selection:
    """What one pick takes; a pick without a severity takes nothing."""
    severity = records.get("pick.severity", row).value
    facility = records.get("pick.facility", row).value
    return NOTHING if severity is None else _one(str(severity), None if facility is None else str(facility))


@lru_cache(maxsize=512)
def _one(severity: str, facility: str | None) -> Selection:
    return single(severity, None if facility is None else [facility])


def _lines(row: Row) -> tuple[int, ...]:
    """The lines that say what a pick takes; those of the whole pick, if none does."""
    said = [row[slot] for slot in ("pick.severity", "pick.level", "pick.facility") if slot in row]
    return tuple(line for s in said or row.values() for line in s.lines)


def facts(scope: Scope) -> list[Fact]:
    out = []
    for d in scope.destinations:
        sent = sending(scope, d)
        out.append(Fact("level", d.label, sent.describe(), sent.lines, sent.default))
    return out


def judge(scope: Scope, needs: Needs) -> list[Finding]:
    out = [] if scope.judged else no_destination(scope)
    for d in scope.judged:
        sent, need = sending(scope, d), need_of(needs, d.label)
        why = _against(sent.bits, need)
        if why:
            lines = () if why.startswith("misses") else _noisy(scope, d, need)
            out.append(Finding(f"{d.title} {why}", lines or sent.lines))
    return out + _dangling(scope)


def _noisy(scope: Scope, destination: Destination, need: Need) -> tuple[int, ...]:
    """The lines of the picks that take what may not leave."""
    _, high = _bounds(need)
    picks = _picks(scope, destination).values()
    return tuple(line for row in picks if not _picked(scope.records, row) <= high for line in _lines(row))


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
    return _threshold(wanted[0]), _threshold(wanted[-1])


def _dangling(scope: Scope) -> list[Finding]:
    names = {said.value for d in scope.destinations if (said := d.row.get("destination.name"))}
    return [
        Finding(
            f"rule {key[0]} feeds '{said.value}', which is not set",
            said.lines,
        )
        for key, row in scope.records.rows("pick").items()
        if (said := scope.records.get("pick.destination", row)).value is not None and said.value not in names
    ]


def mend(scope: Scope, needs: Needs) -> tuple[Records, list[Obstacle]]:
    records, obstacles = scope.records, []
    dialect = records.dialect
    by_pick = dialect.has("pick.id")
    for d in scope.judged:
        need: Need = need_of(needs, d.label)
        slot = "destination.level" if dialect.has("destination.level") else "level"
        table, key = ("destination", d.key) if slot == "destination.level" else ("", ())
        place = Place(d.label, table, key, slot, records.get(slot, d.row), d.title)
        if not d.lines() and place.said.default and need.write and dialect.can_write(slot, need.write):
            need = need.only(need.write)  # a destination that is new gets what the policy says to write
        if not _against(sending(scope, d).bits, need):
            continue
        if by_pick:
            records = _mend_picks(scope, records, d, need)
        else:
            records, more = mend_value(records, place, need)
            obstacles += more
    names = {said.value for d in scope.destinations if (said := d.row.get("destination.name"))}
    for key, row in scope.records.rows("pick").items():
        if scope.records.get("pick.destination", row).value not in (None, *names):
            records = records.without("pick", key)
    return records, obstacles


def _mend_picks(scope: Scope, records: Records, destination: Destination, need: Need) -> Records:
    """One row for each severity that is missing, none for those that are too much."""
    picks = _picks(scope, destination)
    target = _target([_picked(records, row) for row in picks.values()], need)
    have = NOTHING
    for key, row in picks.items():
        taken = _picked(records, row)
        if taken <= target:
            have |= taken
        else:
            records = records.without("pick", key)
    name = str(destination.row["destination.name"].value)
    for severity in SEVERITIES:
        wanted = single(severity)
        if wanted <= target and not wanted <= have:
            key = (_fresh(records),)
            records = records.having("pick", key, "pick.id", key[0])
            records = records.having("pick", key, "pick.severity", severity)
            records = records.having("pick", key, "pick.destination", name)
    return records


def _target(taken: list[Selection], need: Need) -> Selection:
    """The threshold to reach: that of the fewest changes; of a destination without picks, the one to write."""
    first = need.choose(lambda v: True) or "none"
    if not taken:
        return _threshold(first)

    def changes(severity: str) -> int:
        target = _threshold(severity)
        kept = [t for t in taken if t <= target]
        have = NOTHING
        for t in kept:
            have |= t
        missing = sum(1 for s in SEVERITIES if single(s) <= target and not single(s) <= have)
        return len(taken) - len(kept) + missing

    accepted = [v for v in THRESHOLD.choices if need.accepts(v)]
    return _threshold(min(accepted, key=lambda v: (changes(v), v != first)))


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
