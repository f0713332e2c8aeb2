"""What really leaves for a destination: its picks, thresholds and chains, as one selection for each channel."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from functools import lru_cache

from ivrel.core.dialects.records import Key, Records, Row, Said
from ivrel.core.dialects.slots import Value
from ivrel.core.settings.base import Destination, Scope
from ivrel.core.severity import EVERYTHING, NOTHING, Selection, selection_of, single, through


class Sending(Selection, frozen=True, gc=False):
    """The selection of one destination, with the lines that make it."""

    lines: tuple[int, ...] = ()
    default: bool = False


def sendings(scope: Scope, destination: Destination) -> dict[str, Sending]:
    """What leaves for a destination, channel by channel; a platform without channels has the one called ''."""
    at = ("level", destination.key)
    if at not in scope.memo:
        if scope.records.dialect.channels:
            channels = scope.records.dialect.channels
            scope.memo[at] = {channel: _by_channel(scope, destination, channel) for channel in channels}
        else:
            scope.memo[at] = {"": _sending(scope, destination)}
    found: dict[str, Sending] = scope.memo[at]
    return found


def reached(scope: Scope, destination: Destination) -> bool:
    """Whether anything leaves for a destination."""
    return any(sendings(scope, destination).values())


def _sending(scope: Scope, destination: Destination) -> Sending:
    """What its picks take, within its own threshold and the device's."""
    records = scope.records
    lines: tuple[int, ...] = ()
    bits, default = EVERYTHING.bits, True
    if records.dialect.has("pick.destination"):
        picks = picks_of(scope, destination).values()
        unpicked = records.get("pick.level").value
        bits = _chosen(records, picks).bits if picks or unpicked is None else threshold(str(unpicked)).bits
        default = not picks and unpicked is not None
        lines = tuple(line for row in picks for line in lines_of(row)) or destination.lines()
    whole = records.get("destination.selection", destination.row)
    if isinstance(whole.value, str):
        bits, lines, default = selection_of(whole.value).bits, whole.lines, whole.default
    for said in (records.get("destination.level", destination.row), records.get("level")):
        if said.value is not None:
            bits &= threshold(str(said.value)).bits
            lines += said.lines
            default = default and said.default
    return Sending(bits, lines, default)


def _by_channel(scope: Scope, destination: Destination, channel: str) -> Sending:
    """What of one channel leaves by the feeds that give to a destination."""
    records = scope.records
    lines: tuple[int, ...] = ()
    bits, default = 0, True
    for feed, said in levels_of(scope, destination, channel):
        value = said.value if said.value is not None else records.get("feed.level").value
        bits |= threshold(str(value)).bits if value is not None else EVERYTHING.bits
        lines += said.lines or gives_to(scope, destination)[feed].get("give.destination", said).lines
        default = default and said.default
    return Sending(bits, lines, default and bits != 0)


def gives_to(scope: Scope, destination: Destination) -> dict[Value, Row]:
    """The rows by which feeds give to a destination, by feed."""
    records = scope.records
    return {
        str(records.get("give.feed", row).value): row
        for row in records.rows("give").values()
        if records.get("give.destination", row).value == destination.ref
    }


def levels_of(scope: Scope, destination: Destination, channel: str) -> Iterator[tuple[str, Said]]:
    """The feeds that bring a channel to a destination, and the level of it in each."""
    records = scope.records
    for feed in gives_to(scope, destination):
        if records.dialect.has("take.category"):
            row = records.rows("take").get((feed, channel))
            if row is not None:
                yield str(feed), records.get("take.level", row)
        elif feed == channel:
            yield str(feed), records.get("feed.level", records.rows("feed").get((feed,), {}))


def threshold(severity: str) -> Selection:
    return NOTHING if severity == "none" else through(severity)


def picks_of(scope: Scope, destination: Destination) -> dict[Key, Row]:
    """The picks that feed a destination."""
    at: tuple[str, Key] = ("picks", ())
    if at not in scope.memo:
        fed: dict[Value | None, dict[Key, Row]] = {}
        for key, row in scope.records.rows("pick").items():
            said = scope.records.get("pick.destination", row).value
            fed.setdefault(None if isinstance(said, tuple) else said, {})[key] = row
        scope.memo[at] = fed
    found: dict[Key, Row] = scope.memo[at].get(destination.ref, {})
    return found


def _chosen(records: Records, picks: Iterable[Row]) -> Selection:
    """What all picks of a destination take together; what one of them drops, none takes."""
    taken = dropped = NOTHING
    for row in picks:
        if records.get("pick.action", row).value == "drop":
            dropped |= picked(records, row)
        else:
            taken |= picked(records, row)
    return taken - dropped


def picked(records: Records, row: Row) -> Selection:
    """The facilities and severities that one pick is about; a pick without a severity is about nothing."""
    facility = records.get("pick.facility", row).value
    of = None if facility in (None, "all") else str(facility)
    severity, level = row.get("pick.severity"), row.get("pick.level")
    if severity is not None:
        return _one(str(severity.value), of)
    if level is None or level.value == "none":
        return NOTHING
    if records.get("pick.compare", row).value == "exactly":
        return _one(str(level.value), of)
    return through(str(level.value), None if of is None else [of])


@lru_cache(maxsize=512)
def _one(severity: str, facility: str | None) -> Selection:
    return single(severity, None if facility is None else [facility])


def lines_of(row: Row) -> tuple[int, ...]:
    """The lines that say what a pick takes; those of the whole pick, if none does."""
    said = [row[slot] for slot in ("pick.severity", "pick.level", "pick.facility") if slot in row]
    return tuple(line for s in said or row.values() for line in s.lines)
