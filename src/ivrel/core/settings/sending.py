"""What really leaves for a destination: its picks, thresholds and chains, as one selection for each
channel.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from functools import lru_cache
from typing import Literal

from msgspec import Struct

from ivrel.core.dialects.dialect import Dialect
from ivrel.core.policy.need import Need
from ivrel.core.reading.records import Records
from ivrel.core.reading.statements import Key
from ivrel.core.settings.contract import More
from ivrel.core.settings.scope import Destination, Scope
from ivrel.core.vocabulary.severity import (
    EVERYTHING,
    NOTHING,
    Selection,
    describe_gap,
    holes,
    selection_of,
    single,
    thresholds,
    through,
)
from ivrel.core.vocabulary.sourced import Row, SourcedValue
from ivrel.core.vocabulary.values import THRESHOLD, Value


class Sending(Selection, frozen=True, gc=False):
    """The selection of one destination, with the lines that make it."""

    lines: tuple[int, ...] = ()
    default: bool = False
    surely: int = -1  # of what may leave, what leaves whatever else decides; -1 is all of it

    @property
    def sure(self) -> Selection:
        """What is sent, whatever else a filter checks."""
        return Selection(self.bits & self.surely if self.surely >= 0 else self.bits)

    @property
    def certain(self) -> bool:
        """Whether what leaves depends on nothing but facility and severity."""
        return self.surely < 0


def sendings(scope: Scope, destination: Destination) -> dict[str, Sending]:
    """Return the messages that are sent to a destination, channel by channel.

    A platform without channels has the one called ''.
    """
    return scope.once(lambda: _sendings(scope, destination), "sendings", destination.key)


def _sendings(scope: Scope, destination: Destination) -> dict[str, Sending]:
    channels = scope.records.dialect.channels
    if channels:
        return {channel: _by_channel(scope, destination, channel) for channel in channels}
    return {"": _sending(scope, destination)}


def reached(scope: Scope, destination: Destination) -> bool:
    """Whether anything leaves for a destination."""
    records = scope.records
    has = scope.records.dialect.has
    # Where no pick can drop anything, one that takes something is enough: there can be many.
    adds_up = not (records.dialect.channels or has("pick.action") or has("destination.selection"))
    if adds_up and has("pick.destination"):
        most = EVERYTHING.bits
        for said in _thresholds(records, destination):
            most &= threshold(str(said.value)).bits
        for row in records.rows("pick").values():
            is_of_it = records.get("pick.destination", row).value == destination.ref
            if is_of_it and picked(records, row).bits & most:
                return True
    return any(sendings(scope, destination).values())


def _thresholds(records: Records, destination: Destination) -> list[SourcedValue]:
    """Return the thresholds that cut what leaves for a destination: its own, and the device's."""
    both = records.get("destination.level", destination.row), records.get("level")
    return [said for said in both if said.value is not None]


def lacking(scope: Scope, destination: Destination) -> str:
    """Return the settings that are missing before a device sends to a destination.

    '' if nothing.
    """
    said = destination.row.get("destination.lacks")
    return "" if said is None else str(said.value)


def _sending(scope: Scope, destination: Destination) -> Sending:
    """Return the selection of a destination's picks, within its own threshold and the device's."""
    records = scope.records
    lines: tuple[int, ...] = ()
    bits = EVERYTHING.bits
    surely = -1
    default = True
    if records.dialect.has("pick.destination"):
        # A platform with picks sends what some pick takes; only where no pick names a destination
        # does what holds without one decide.
        picks = picks_of(scope, destination).values()
        unpicked = records.get("pick.level").value
        if picks or unpicked is None:
            entries = entries_of(records, picks, "pick")
            bits = entries.bits
            surely = entries.surely
        else:
            bits = threshold(str(unpicked)).bits
        default = not picks and unpicked is not None
        lines = tuple(line for row in picks for line in lines_of(row)) or destination.lines()
    # A selection worked out elsewhere, from a program of rules, replaces what picks would say.
    whole = records.get("destination.selection", destination.row)
    if isinstance(whole.value, str):
        bits = selection_of(whole.value).bits
        lines = whole.lines
        default = whole.default
        surely = -1
    # Filters on text can hold back some of what the selection lets through.
    held = destination.row.get("destination.surely")
    if held is not None and isinstance(held.value, str):
        surely = selection_of(held.value).bits
        lines += held.lines
    # Thresholds cut in turn: a message leaves only if it passes each of them.
    for said in _thresholds(records, destination):
        bits &= threshold(str(said.value)).bits
        lines += said.lines
        default = default and said.default
    return Sending(bits, lines, default, surely)


def _by_channel(scope: Scope, destination: Destination, channel: str) -> Sending:
    """Return the messages of one channel that reach a destination by its feeds."""
    records = scope.records
    lines: tuple[int, ...] = ()
    bits = 0
    default = True
    for feed, said in levels_of(scope, destination, channel):
        value = said.value if said.value is not None else records.get("feed.level").value
        # Feeds add up: what any of them brings arrives. A feed that names no level brings all.
        bits |= threshold(str(value)).bits if value is not None else EVERYTHING.bits
        lines += (
            said.lines or gives_to(scope, destination)[feed].get("give.destination", said).lines
        )
        default = default and said.default
    return Sending(bits, lines, default and bits != 0)


def gives_to(scope: Scope, destination: Destination) -> dict[Value, Row]:
    """Return the rows that connect feeds to a destination, by feed."""
    return scope.once(lambda: _giving(scope), "gives").get(destination.ref, {})


def _giving(scope: Scope) -> dict[Value, dict[Value, Row]]:
    """Return the rows that connect feeds, by destination and feed."""
    records = scope.records
    out: dict[Value, dict[Value, Row]] = {}
    for row in records.rows("give").values():
        ref = records.get("give.destination", row).value
        if isinstance(ref, str | int):
            out.setdefault(ref, {})[str(records.get("give.feed", row).value)] = row
    return out


def levels_of(
    scope: Scope, destination: Destination, channel: str
) -> Iterator[tuple[str, SourcedValue]]:
    """Yield the feeds that bring a channel to a destination, and the level of it in each."""
    records = scope.records
    for feed in gives_to(scope, destination):
        if records.dialect.has("take.category"):
            row = records.rows("take").get((feed, channel))
            # What a feed does not take, it does not bring, whatever its level.
            if row is not None:
                yield str(feed), records.get("take.level", row)
        elif feed == channel:
            yield str(feed), records.get("feed.level", records.rows("feed").get((feed,), {}))


def departing(sent: Selection, need: Need) -> More:
    """Return how a selection departs from what is asked, as the values of a sentence; () if not."""
    low, high = bounds(need)
    out: list[tuple[str, str]] = []
    if not low <= sent:
        out += [("missing", describe_gap(low, sent)), ("some", "yes" if sent else "")]
    if not sent <= high:
        out.append(("extra", describe_gap(sent, high)))
    # A severity that is left out between two that leave is a hole, which no threshold describes.
    # What `low` holds is reported as missing already.
    gap = holes(sent) - low
    if gap:
        out.append(("hole", describe_gap(gap, NOTHING)))
    # Within the bounds, but not one of the values: a policy may list some and leave out those
    # between.
    if not out and not all(map(need.accepts, thresholds(sent))):
        out.append(("other", "yes"))
    return tuple(out)


class SendingDeviation(Struct, frozen=True):
    """How what leaves departs from what is asked: a kind of finding, its values, and the
    verdict.
    """

    kind: str
    values: More
    judged: Literal["breaks", "unknown"] = "breaks"

    @property
    def misses(self) -> bool:
        """Whether something that must leave does not."""
        return any(name == "missing" for name, _ in self.values)


def departure(sent: Sending, need: Need) -> SendingDeviation | None:
    """Return how what leaves departs from what is asked; None if it does not.

    What depends on more than facility and severity departs surely only if all that it may be does.
    """
    if sent.certain:
        values = departing(sent, need)
        return SendingDeviation("selection", values) if values else None
    low, high = bounds(need)
    out: list[tuple[str, str]] = []
    if not low <= sent:
        out += [("missing", describe_gap(low, sent)), ("some", "yes" if sent else "")]
    if not sent.sure <= high:
        out.append(("extra", describe_gap(sent.sure, high)))
    if out:
        return SendingDeviation("selection", tuple(out))
    # Nothing departs surely. It is as asked only if both bounds are; else nobody can tell.
    words = thresholds(sent.sure) | thresholds(Selection(sent.bits))
    if low <= sent.sure and sent <= high and all(map(need.accepts, words)):
        return None
    return SendingDeviation("selection-unsure", (), "unknown")


def described(sent: Sending) -> str:
    """Return the messages that are sent, in words."""
    return (
        sent.describe()
        if sent.certain
        else f"at least {sent.sure.describe()}, at most {sent.describe()}"
    )


@lru_cache(maxsize=512)
def bounds(need: Need) -> tuple[Selection, Selection]:
    """Return the least and the most messages that are sent."""
    wanted = [v for v in THRESHOLD.choices if need.accepts(v)]
    return threshold(wanted[0]), threshold(wanted[-1])


def knows_levels(dialect: Dialect) -> bool:
    """Whether a platform says anywhere which severities leave, or has a default for it."""
    slots = (
        "pick.destination",
        "destination.selection",
        "destination.level",
        "level",
        "feed.level",
        "take.level",
    )
    return any(dialect.has(slot) or slot in dialect.defaults for slot in slots)


def is_threshold(value: str) -> bool:
    """Whether a value can be written as a threshold."""
    return value in THRESHOLD.choices


def threshold(severity: str) -> Selection:
    """Return the selection through a severity; nothing for 'none'."""
    return NOTHING if severity == "none" else through(severity)


def picks_of(scope: Scope, destination: Destination) -> dict[Key, Row]:
    """Return the picks that feed a destination."""
    return scope.once(lambda: _fed(scope), "picks").get(destination.ref, {})


def _fed(scope: Scope) -> dict[Value | None, dict[Key, Row]]:
    fed: dict[Value | None, dict[Key, Row]] = {}
    for key, row in scope.records.rows("pick").items():
        said = scope.records.get("pick.destination", row).value
        fed.setdefault(None if isinstance(said, tuple) else said, {})[key] = row
    return fed


def entries_of(records: Records, rows: Iterable[Row], table: str) -> Sending:
    """Return the selection of all entries together; messages that one of them drops are in none.

    RFC 9742 does not tell whether an entry of one facility with the severity `none` takes it back
    from an entry of all facilities: what both are about may leave or not.
    """
    taken = dropped = taken_back = NOTHING
    for row in rows:
        if records.get(f"{table}.action", row).value == "drop":
            dropped |= picked(records, row, table)
            continue
        taken |= picked(records, row, table)
        level, facility = (
            records.get(f"{table}.{slot}", row).value for slot in ("level", "facility")
        )
        if level == "none" and facility not in (None, "all"):
            taken_back |= through("debug", [str(facility)])
    left = taken - dropped
    sure = left - taken_back
    return Sending(left.bits, surely=-1 if sure == left else sure.bits)


def picked(records: Records, row: Row, table: str = "pick") -> Selection:
    """Return the facilities and severities that one pick is about.

    A pick without a severity is about nothing.
    """
    facility = records.get(f"{table}.facility", row).value
    of = None if facility in (None, "all") else str(facility)
    severity = row.get(f"{table}.severity")
    level = row.get(f"{table}.level")
    if severity is not None:
        return _one(str(severity.value), of)
    # Without a severity there is no message that the pick could be about.
    if level is None or level.value == "none":
        return NOTHING
    if records.get(f"{table}.compare", row).value == "exactly":
        return _one(str(level.value), of)
    return through(str(level.value), None if of is None else [of])


@lru_cache(maxsize=512)
def _one(severity: str, facility: str | None) -> Selection:
    return single(severity, None if facility is None else [facility])


def lines_of(row: Row) -> tuple[int, ...]:
    """Return the lines that say what a pick takes; those of the whole pick, if none does."""
    said = [row[slot] for slot in ("pick.severity", "pick.level", "pick.facility") if slot in row]
    return tuple(line for s in said or row.values() for line in s.lines)
