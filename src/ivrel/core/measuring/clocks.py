"""Clocks: how far the stamps of a device are from the time, and how fast they move away from it.

A message comes after it was stamped, so that the stamp lies behind the clock's true offset by the
delay, and by what the stamp leaves out of the second. The line that lies above all offsets, and
closest to them, is the clock: the edge of their convex hull above the mean of the times (S. Moon,
P. Skelly and D. Towsley, "Estimation and removal of clock skew from network delay measurements",
INFOCOM 1999). What lies below it is delay: of the network, of batches, of a relay, or of hours out
of coverage. A delay that all messages share cannot be told from a clock that is behind.
"""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Iterable, Iterator, Sequence
from datetime import UTC, datetime
from itertools import chain, groupby, pairwise
from statistics import median

from msgspec import Struct
from msgspec.structs import replace

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
FOR_DRIFT = 6 * 3600.0  # seconds of messages without which a drift is not judged
FEWEST = 5  # messages without which nothing can be told
SHORTEST_LEVEL = 3  # messages
CLOSE = 10.0  # times the usual gap of a level's messages: what came between two is later than both
SAME_STEP = 30.0  # seconds by which the steps of several devices differ if they are the collector's
SHARED_BY = 3  # devices, and most of those heard, whose common step is the collector's


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

    @property
    def at_end(self) -> float:
        """The offset when its last message came, in seconds."""
        return self.offset + (self.drift or 0.0) * (self.last - self.first) / 2


class Step(Struct, frozen=True):
    """A setting of a clock: it moved by `size` seconds, after the message that came at `after` and
    before the one at `before` (seconds since 1970).
    """

    after: float
    before: float
    size: float


class Clock(Struct, frozen=True):
    """The clock of a device as its messages show it.

    `number`: messages that tell; `levels`: in the order of time, more than one if it was set;
    `delay`, `delay_95`: the median and the 95th percentile of what messages came behind the first
    ones, in seconds; `late`: messages that came more than a minute behind, `latest`: by how much at
    most; `before_set`: messages of the time before it was set first; `by_relay`: whether their
    delay is also that of a relay; `kind`: see KINDS; `example`: a message that shows it.
    """

    device: str
    number: int
    levels: tuple[Level, ...] = ()
    delay: float = 0.0
    delay_95: float = 0.0
    late: int = 0
    latest: float = 0.0
    before_set: int = 0
    by_relay: bool = False
    kind: str = "untold"
    example: Pair | None = None

    @property
    def offset(self) -> float | None:
        """How far it is ahead at last, in seconds; None if that cannot be told."""
        return self.levels[-1].at_end if self.levels else None

    @property
    def steps(self) -> list[Step]:
        """The settings of the clock, in the order of time."""
        return [
            Step(one.last, other.first, other.offset - one.offset)
            for one, other in pairwise(self.levels)
        ]

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
    "wrong": "it is ahead by more than is granted",
    "behind": "its stamps lie behind, by its clock or by a constant delay",
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
    behind = [(_clock_at(levels, p.came) - p.offset, p) for p in sample]
    # Stamps of the time before a clock is first set lie decades behind, and are no delay.
    delays = sorted(max(0.0, delay) for delay, _ in behind if delay < UNSET)
    before_set = len(behind) - len(delays)
    late = [delay for delay in delays if delay > LATE]
    kind = _kind(levels, late, before_set, tolerance)
    example = found[-1][1][0]
    if kind == "late":
        example = max((pair for pair in behind if pair[0] < UNSET), key=lambda pair: pair[0])[1]
    return Clock(
        device,
        number,
        levels,
        delays[len(delays) // 2],
        delays[len(delays) * 95 // 100],
        late=len(late),
        latest=delays[-1],
        before_set=before_set,
        by_relay=any(p.by_relay for p in sample),
        kind=kind,
        example=example,
    )


def _levels(sample: Sequence[Pair]) -> Iterator[tuple[Level, list[Pair]]]:
    """Yield the levels that the offsets keep for some time, each with its messages."""
    kept: list[list[Pair]] = []
    for group in _alike(sample):
        if not any(_is_later(group, other) for other in kept):
            kept.append(group)
    ordered = sorted((pair, n) for n, group in enumerate(kept) for pair in group)
    for _, run in groupby(ordered, key=lambda one: one[1]):
        pairs = [pair for pair, _ in run]
        if len(pairs) >= SHORTEST_LEVEL:
            middle, slope = _envelope(pairs)
            yield Level(pairs[0].came, pairs[-1].came, len(pairs), middle, slope), pairs


def _alike(sample: Sequence[Pair]) -> Iterator[list[Pair]]:
    """Yield messages of about one offset in order of arrival, the least late group first."""
    ordered = sorted(sample, key=lambda p: -p.offset)
    groups: list[list[Pair]] = [[ordered[0]]]
    for before, pair in pairwise(ordered):
        if before.offset - pair.offset > APART:
            groups.append([])
        groups[-1].append(pair)
    for group in groups:
        group.sort()
        lasts = group[-1].came - group[0].came
        if len(group) < SHORTEST_LEVEL or (lasts < LEVEL and 2 * len(group) < len(sample)):
            continue
        _, slope = _envelope(group)
        if slope is None or abs(slope) <= FASTEST:
            yield group


def _is_later(group: Sequence[Pair], other: Sequence[Pair]) -> bool:
    """Whether most messages of a group came between those of another that is less late: then they
    are late, and the clock is the other's.
    """
    times = [p.came for p in other]
    usual = median(after - before for before, after in pairwise(times))
    close = max(LEVEL, CLOSE * usual)
    between = 0
    for pair in group:
        at = bisect_left(times, pair.came)
        between += 0 < at < len(times) and times[at] - times[at - 1] <= close
    return 2 * between > len(group)


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


def _kind(levels: Sequence[Level], late: Sequence[float], before_set: int, tolerance: float) -> str:
    """Return the worst fault of a clock at the end of the records; see KINDS."""
    now = levels[-1].at_end
    if abs(now) > UNSET:
        years = round(now / YEAR)
        is_year = abs(years) == 1 and abs(abs(now) - YEAR) < 1.5 * DAY
        return "year" if is_year else "unset"
    if len(levels) > 1 or before_set:
        return "set"
    if abs(now) > tolerance and zone_of(now):
        return "zone"
    drift = levels[0].drift
    if drift is not None and abs(drift) > DRIFT and levels[0].last - levels[0].first > FOR_DRIFT:
        return "drifts"
    if abs(now) > tolerance:
        return "wrong" if now > 0 else "behind"
    return "late" if late else "right"


def shared_steps(clocks: Iterable[Clock]) -> list[Step]:
    """Return the steps that most devices took together: there, the collector's clock was set."""
    heard = [clock for clock in clocks if clock.levels]
    most = max(SHARED_BY, len(heard) / 2)
    steps = sorted(chain.from_iterable(clock.steps for clock in heard), key=lambda s: s.after)
    found: list[Step] = []
    for step in steps:
        alike = [s for s in steps if _is_same(step, s)]
        if len(alike) >= most and not any(_is_same(step, s) for s in found):
            after = max(s.after for s in alike)
            before = min(s.before for s in alike)
            found.append(Step(after, max(before, after), median(s.size for s in alike)))
    return found


def _is_same(one: Step, other: Step) -> bool:
    is_at_once = one.after <= other.before and other.after <= one.before
    return is_at_once and abs(one.size - other.size) <= SAME_STEP


def without_steps(sample: Sequence[Pair], steps: Sequence[Step]) -> list[Pair]:
    """Return messages as if the collector's clock had not been set: their times are those of the
    clock that it has at the end.
    """
    out = []
    for pair in sample:
        # A collector that is set ahead lets all devices fall behind.
        shift = -sum(step.size for step in steps if pair.came <= step.after)
        out.append(replace(pair, came=pair.came + shift))
    return out


def told(clock: Clock) -> str:
    """Return the description of a clock in words."""
    offset = clock.offset
    drift = clock.drift
    if not clock.number:
        return "no stamp with a date, beside the time at which it came"
    if offset is None:
        return "too few messages, or their stamps keep no time at all"
    gains = "gains" if (drift or 0) > 0 else "loses"
    late = f"{clock.late} of its messages came up to {span(clock.latest)} late"
    said = {
        "unset": f"it is {_place(offset)}, as a clock that was never set",
        "year": f"it is {_place(offset)}: the year is guessed, not known",
        "zone": f"it is {_place(zone_of(offset))}, as a clock of another zone",
        "set": _settings(clock),
        "wrong": f"it is {_place(offset)}",
        "behind": f"its stamps lie {span(offset)} behind, by its clock or by a constant delay",
        "drifts": f"it {gains} {span((drift or 0) * DAY)} a day, and is {_place(offset)}",
        "late": late,
        "right": "it tells the time",
    }[clock.kind]
    return f"{said}; {late}" if clock.late and clock.kind != "late" else said


def _settings(clock: Clock) -> str:
    """Return when a clock was set, and how far it was off before and after, in words."""
    levels = clock.levels
    if len(levels) == 1:
        number = f"{clock.before_set} message{'' if clock.before_set == 1 else 's'}"
        return f"it was set after {number} with the time of a clock that was never set"
    places = ["never set" if abs(one.offset) > UNSET else _place(one.offset) for one in levels[:4]]
    more = f", and {len(levels) - 4} more times" if len(levels) > 4 else ""
    first = clock.steps[0]
    when = f"between {_clock_time(first.after)} and {_clock_time(first.before)} UTC"
    return f"it was set {when}: {', then '.join(places)}{more}"


def _place(offset: float) -> str:
    if abs(offset) < 0.05:
        return "right"
    return f"{span(offset)} {'ahead' if offset > 0 else 'behind'}"


def _clock_time(seconds: float) -> str:
    return datetime.fromtimestamp(seconds, UTC).strftime("%Y-%m-%d %H:%M:%S")


def zone_of(offset: float) -> float:
    """Return the whole half hours that an offset is, in seconds; 0 if it is none.

    >>> zone_of(3600.4), zone_of(12.0)
    (3600.0, 0.0)
    """
    whole = round(offset / ROUND) * ROUND
    return whole if abs(offset - whole) <= NEARLY and abs(offset) <= FARTHEST_ZONE else 0.0
