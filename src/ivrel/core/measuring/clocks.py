"""Clocks: how far the stamps of a device are from the time, and how fast they move away from it.

A message comes after it was stamped, so that the stamp lies behind the clock's true offset by the
delay, and by what the stamp leaves out of the second. The line that lies above all offsets, and
closest to them, is the clock: the edge of their convex hull above the mean of the times (S. Moon,
P. Skelly and D. Towsley, "Estimation and removal of clock skew from network delay measurements",
INFOCOM 1999). What lies below it is delay: of the network, of batches, of a relay, or of hours out
of coverage.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import UTC, datetime
from itertools import pairwise

from msgspec import Struct

from ivrel.core.measuring.pairs import Pair
from ivrel.core.vocabulary.wording import span

APART = 30.0  # seconds between offsets that are not of one level
LEVEL = 600.0  # seconds for which a clock keeps a level
FASTEST = 0.01  # of a clock that is one; what moves faster is messages that were held back
LATE = 60.0  # seconds of delay that are told
ROUND, NEARLY = (
    1800.0,
    60.0,
)  # zones differ by half hours, within the accuracy of a clock set by hand
FARTHEST_ZONE = 14 * 3600.0
YEAR = 365 * 86400.0
DAY = 86400.0
UNSET = 30 * DAY
DRIFT = 5e-6  # of a clock that something sets is far less
FOR_DRIFT = 6 * 3600.0  # seconds of messages from which it is told
FEWEST = 5  # messages without which nothing can be told


class Level(Struct, frozen=True):
    """A time without a setting of the clock: its offset in the middle, and its drift.

    `first`, `last`: when its messages came, in seconds since 1970; `offset`: how far it is ahead,
    in seconds; `drift`: seconds a second; None where the time is too short to tell.
    """

    first: float
    last: float
    number: int
    offset: float
    drift: float | None


class Clock(Struct, frozen=True):
    """The clock of a device as its messages show it.

    `number`: messages that tell; `levels`: in the order of time, more than one if it was set;
    `delay`, `delay_95`: the median and the 95th percentile of what messages came behind the first
    ones, in seconds; `late`: messages that came more than a minute behind, `latest`: by how much at
    most; `by_relay`: whether their delay is also that of a relay; `kind`: see KINDS; `example`: a
    message that shows it.
    """

    device: str
    number: int
    levels: tuple[Level, ...] = ()
    delay: float = 0.0
    delay_95: float = 0.0
    late: int = 0
    latest: float = 0.0
    by_relay: bool = False
    kind: str = "untold"
    example: Pair | None = None

    @property
    def offset(self) -> float | None:
        """How far it is ahead at last, in seconds; None if that cannot be told."""
        return self.levels[-1].offset if self.levels else None

    @property
    def drift(self) -> float | None:
        """Its drift in the longest time without being set; None if that cannot be told."""
        if not self.levels:
            return None
        return max(self.levels, key=lambda level: level.last - level.first).drift


# What can be wrong with a clock, the worst first.
KINDS = {
    "unset": "it was never set",
    "year": "it guesses the year, a year off",
    "zone": "it shows another zone than it says",
    "set": "it was set while it was heard",
    "drifts": "it is set by nothing, and drifts",
    "wrong": "it is off by more than is granted",
    "late": "messages were held back",
    "right": "it tells the time",
    "untold": "too few messages tell",
}


def clock_of(device: str, sample: Sequence[Pair], number: int, tolerance: float = 1.0) -> Clock:
    """Return the clock of a device, as far as its messages show it.

    `sample`: in order of arrival; `number`: of how many; `tolerance`: seconds that a clock may be
    off.
    """
    if len(sample) < FEWEST:
        return Clock(device, number)
    found = sorted(_levels(sample), key=lambda pair: pair[0].first)
    if not found:
        return Clock(device, number, by_relay=any(p.by_relay for p in sample))
    levels = tuple(level for level, _ in found)
    delays = sorted(max(0.0, _clock_at(levels, p.came) - p.offset) for p in sample)
    late = [delay for delay in delays if delay > LATE]
    # What is hours behind is no delay, if it is a level of its own.
    kind = _kind(levels, late, tolerance)
    worst = max(found, key=lambda pair: abs(pair[0].offset))[1]
    example = worst[0]
    if kind == "late":
        example = max(sample, key=lambda p: _clock_at(levels, p.came) - p.offset)
    return Clock(
        device, number, levels, delays[len(delays) // 2], delays[len(delays) * 95 // 100],
        len(late), delays[-1], any(p.by_relay for p in sample), kind, example,
    )  # fmt: skip


def _levels(sample: Sequence[Pair]) -> Iterator[tuple[Level, list[Pair]]]:
    """Yield the levels that the offsets keep for some time, each with its messages."""
    ordered = sorted(sample, key=lambda p: p.offset)
    groups: list[list[Pair]] = [[ordered[0]]]
    for before, pair in pairwise(ordered):
        if pair.offset - before.offset > APART:
            groups.append([])
        groups[-1].append(pair)
    for group in groups:
        group.sort()
        span = group[-1].came - group[0].came
        if len(group) < 3 or (span < LEVEL and 2 * len(group) < len(sample)):
            continue
        middle, slope = _envelope(group)
        if slope is not None and abs(slope) > FASTEST:
            continue
        yield Level(group[0].came, group[-1].came, len(group), middle, slope), group


def _envelope(group: Sequence[Pair]) -> tuple[float, float | None]:
    """Return the offset in the middle, and the drift, of the line above all offsets that is closest
    to them; no drift, where they came within too short a time.
    """
    first = group[0].came
    last = group[-1].came
    if last - first < LEVEL:
        return max(p.offset for p in group), None
    hull: list[tuple[float, float]] = []
    for pair in group:
        at = (pair.came - first, pair.offset)
        while len(hull) > 1 and _turns_left(hull[-2], hull[-1], at):
            hull.pop()
        if hull and hull[-1][0] == at[0]:  # of messages that came at once, the least late
            hull[-1] = max(hull[-1], at)
        else:
            hull.append(at)
    mean = sum(p.came - first for p in group) / len(group)
    for (x1, y1), (x2, y2) in pairwise(hull):
        if x1 <= mean <= x2:
            slope = (y2 - y1) / (x2 - x1)
            return y1 + slope * ((last - first) / 2 - x1), slope
    return max(p.offset for p in group), None


def _turns_left(a: tuple[float, float], b: tuple[float, float], c: tuple[float, float]) -> bool:
    """Whether b lies on or below the line from a to c."""
    return (b[0] - a[0]) * (c[1] - a[1]) >= (b[1] - a[1]) * (c[0] - a[0])


def _clock_at(levels: Sequence[Level], came: float) -> float:
    """Return the offset of the clock when a message came, by the level that is nearest in time."""
    level = min(levels, key=lambda one: max(one.first - came, came - one.last, 0.0))
    middle = (level.first + level.last) / 2
    return level.offset + (level.drift or 0.0) * (came - middle)


def _kind(levels: Sequence[Level], late: Sequence[float], tolerance: float) -> str:
    """Return the worst fault of a clock; see KINDS."""
    worst = max((level.offset for level in levels), key=abs)
    if abs(worst) > UNSET:
        years = round(worst / YEAR)
        is_year = abs(years) == 1 and abs(abs(worst) - YEAR) < 1.5 * DAY
        return "year" if is_year else "unset"
    if len(levels) > 1:
        return "set"
    if abs(worst) > tolerance and zone_of(worst):
        return "zone"
    drift = levels[0].drift
    if drift is not None and abs(drift) > DRIFT and levels[0].last - levels[0].first > FOR_DRIFT:
        return "drifts"
    if abs(worst) > tolerance:
        return "wrong"
    return "late" if late else "right"


def told(clock: Clock) -> str:
    """Return the description of a clock in words."""
    offset = clock.offset
    drift = clock.drift
    if not clock.number:
        return "no stamp with a date, beside the time at which it came"
    if offset is None:
        return "too few messages, or their stamps keep no time at all"
    worst = max((level.offset for level in clock.levels), key=abs)
    gains = "gains" if (drift or 0) > 0 else "loses"
    late = f"{clock.late} of its messages came up to {span(clock.latest)} late"
    said = {
        "unset": f"it is {_place(worst)}, as a clock that was never set",
        "year": f"it is {_place(worst)}: the year is guessed, not known",
        "zone": f"it is {_place(zone_of(worst))}, as a clock of another zone",
        "set": ", then ".join(_place(one.offset) for one in clock.levels),
        "wrong": f"it is {_place(worst)}",
        "drifts": f"it {gains} {span((drift or 0) * DAY)} a day, and is {_place(worst)}",
        "late": late,
        "right": "it tells the time",
    }[clock.kind]
    if clock.kind == "set":
        said = f"it was set at {_clock_time(clock.levels[1].first)}: {said}"
    return f"{said}; {late}" if clock.late and clock.kind != "late" else said


def _place(offset: float) -> str:
    if abs(offset) < 0.05:
        return "right"
    return f"{span(offset)} {'ahead' if offset > 0 else 'behind'}"


def _clock_time(seconds: float) -> str:
    return datetime.fromtimestamp(seconds, UTC).strftime("%Y-%m-%d %H:%M UTC")


def zone_of(offset: float) -> float:
    """Return the whole half hours that an offset is, in seconds; 0 if it is none.

    >>> zone_of(3600.4), zone_of(12.0)
    (3600.0, 0.0)
    """
    whole = round(offset / ROUND) * ROUND
    return whole if abs(offset - whole) <= NEARLY and abs(offset) <= FARTHEST_ZONE else 0.0
