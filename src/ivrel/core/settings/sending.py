"""What really leaves for a destination: its picks, thresholds and chains, as one selection for each channel."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from functools import lru_cache
from typing import Literal

from ivrel.core.dialects.dialect import Dialect
from ivrel.core.dialects.matching import Key
from ivrel.core.dialects.records import Records
from ivrel.core.dialects.said import Row, Said
from ivrel.core.dialects.slots import THRESHOLD, Value
from ivrel.core.settings.base import Destination, Scope
from ivrel.core.settings.need import Need
from ivrel.core.severity import (
    EVERYTHING,
    NOTHING,
    Selection,
    as_threshold,
    describe_gap,
    holes,
    selection_of,
    single,
    through,
)


class Sending(Selection, frozen=True, gc=False):
    """The selection of one destination, with the lines that make it."""

    lines: tuple[int, ...] = ()
    default: bool = False
    surely: int = -1  # of what may leave, what leaves whatever else decides; -1 is all of it

    @property
    def sure(self) -> Selection:
        """What leaves whatever a filter looks at besides."""
        return Selection(self.bits & self.surely if self.surely >= 0 else self.bits)

    @property
    def certain(self) -> bool:
        """Whether what leaves hangs on nothing but facility and severity."""
        return self.surely < 0


def sendings(scope: Scope, destination: Destination) -> dict[str, Sending]:
    """What leaves for a destination, channel by channel; a platform without channels has the one called ''."""
    return scope.once(lambda: _sendings(scope, destination), "sendings", destination.key)


def _sendings(scope: Scope, destination: Destination) -> dict[str, Sending]:
    channels = scope.records.dialect.channels
    if channels:
        return {channel: _by_channel(scope, destination, channel) for channel in channels}
    return {"": _sending(scope, destination)}


def reached(scope: Scope, destination: Destination) -> bool:
    """Whether anything leaves for a destination."""
    return any(sendings(scope, destination).values())


def lacking(scope: Scope, destination: Destination) -> str:
    """Why a device that is told of a destination never sends to it; '' if it does."""
    said = destination.row.get("destination.lacks")
    return "" if said is None else f"{destination.label} is told of, but {said.value}"


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
    surely = -1
    held = destination.row.get("destination.surely")
    if held is not None and isinstance(held.value, str):
        surely = selection_of(held.value).bits
        lines += held.lines
    for said in (records.get("destination.level", destination.row), records.get("level")):
        if said.value is not None:
            bits &= threshold(str(said.value)).bits
            lines += said.lines
            default = default and said.default
    return Sending(bits, lines, default, surely)


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
    return scope.once(lambda: _giving(scope), "gives").get(destination.ref, {})


def _giving(scope: Scope) -> dict[Value, dict[Value, Row]]:
    """The rows by which feeds give, by destination and feed."""
    records = scope.records
    out: dict[Value, dict[Value, Row]] = {}
    for row in records.rows("give").values():
        ref = records.get("give.destination", row).value
        if isinstance(ref, str | int):
            out.setdefault(ref, {})[str(records.get("give.feed", row).value)] = row
    return out


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


@lru_cache(maxsize=4096)
def against(bits: int, need: Need) -> str:
    """How a selection departs from what is asked; '' if it does not."""
    sent = Selection(bits)
    low, high = bounds(need)
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


def judged(sent: Sending, need: Need) -> tuple[str, Literal["breaks", "unknown"]]:
    """How what leaves departs from what is asked, and the verdict; '' if it does not.

    What hangs on more than facility and severity departs surely only if all that it may be does.
    """
    if sent.certain:
        return against(sent.bits, need), "breaks"
    low, high = bounds(need)
    said = []
    if not low <= sent:
        said.append(f"misses {describe_gap(low, sent)}" if sent else "gets nothing at all")
    if not sent.sure <= high:
        said.append(f"adds {describe_gap(sent.sure, high)}")
    if said:
        return ", ".join(said), "breaks"
    if low <= sent.sure and sent <= high and need.accepts(as_threshold(sent.sure) or as_threshold(sent) or "none"):
        return "", "breaks"
    return f"gets {described(sent)}: the rest hangs on more than facility and severity", "unknown"


def described(sent: Sending) -> str:
    """What leaves, in words."""
    return sent.describe() if sent.certain else f"at least {sent.sure.describe()}, at most {sent.describe()}"


def bounds(need: Need) -> tuple[Selection, Selection]:
    """What must leave, and what may."""
    wanted = [v for v in THRESHOLD.choices if need.accepts(v)]
    return threshold(wanted[0]), threshold(wanted[-1])


def knows_levels(dialect: Dialect) -> bool:
    """Whether a platform says anywhere which severities leave, or has a default for it."""
    slots = ("pick.destination", "destination.selection", "destination.level", "level", "feed.level", "take.level")
    return any(dialect.has(slot) or slot in dialect.defaults for slot in slots)


def threshold(severity: str) -> Selection:
    return NOTHING if severity == "none" else through(severity)


def picks_of(scope: Scope, destination: Destination) -> dict[Key, Row]:
    """The picks that feed a destination."""
    return scope.once(lambda: _fed(scope), "picks").get(destination.ref, {})


def _fed(scope: Scope) -> dict[Value | None, dict[Key, Row]]:
    fed: dict[Value | None, dict[Key, Row]] = {}
    for key, row in scope.records.rows("pick").items():
        said = scope.records.get("pick.destination", row).value
        fed.setdefault(None if isinstance(said, tuple) else said, {})[key] = row
    return fed


def _chosen(records: Records, picks: Iterable[Row]) -> Selection:
    """What all picks of a destination take together; what one of them drops, none takes."""
    taken = dropped = NOTHING
    for row in picks:
        if records.get("pick.action", row).value == "drop":
            dropped |= picked(records, row)
        else:
            taken |= picked(records, row)
    return taken - dropped


def picked(records: Records, row: Row, table: str = "pick") -> Selection:
    """The facilities and severities that one pick is about; a pick without a severity is about nothing."""
    facility = records.get(f"{table}.facility", row).value
    of = None if facility in (None, "all") else str(facility)
    severity, level = row.get(f"{table}.severity"), row.get(f"{table}.level")
    if severity is not None:
        return _one(str(severity.value), of)
    if level is None or level.value == "none":
        return NOTHING
    if records.get(f"{table}.compare", row).value == "exactly":
        return _one(str(level.value), of)
    return through(str(level.value), None if of is None else [of])


@lru_cache(maxsize=512)
def _one(severity: str, facility: str | None) -> Selection:
    return single(severity, None if facility is None else [facility])


def lines_of(row: Row) -> tuple[int, ...]:
    """The lines that say what a pick takes; those of the whole pick, if none does."""
    said = [row[slot] for slot in ("pick.severity", "pick.level", "pick.facility") if slot in row]
    return tuple(line for s in said or row.values() for line in s.lines)
