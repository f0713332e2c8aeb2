"""Silence: how likely is it that a healthy device says nothing for so long?

Messages come in bursts, so that a Poisson process, which has none, calls every pause behind a burst
a failure. What counts is the upper tail of a device's own gaps. Above a threshold, the gaps of very
many processes follow a generalised Pareto distribution (J. Pickands, "Statistical inference using
extreme order statistics", Annals of Statistics 3, 1975). Its shape and scale are estimated from all
of them but the longest, by probability-weighted moments (J. R. M. Hosking and J. R. Wallis,
"Parameter and quantile estimation for the generalized Pareto distribution", Technometrics 29,
1987), and the longest is held against it. Where the tail begins is not known: of several places,
the one that takes a long gap for the most likely decides. All of this is seen on a clock that runs
as fast as messages are to be expected (`rhythm`).

What that clock does not explain is not judged: a device that speaks at some hours much less than at
others, where no earlier day shows which hours these are. Devices that fall silent together are one
event, whatever its reason: their night, or what is between them and the collector.

Many devices are looked at, and each has many gaps. S. Holm's procedure ("A simple sequentially
rejective multiple test procedure", Scandinavian Journal of Statistics 6, 1979) keeps the chance of
even one false alarm over the whole fleet below the rate that is asked for.
"""

from __future__ import annotations

import math
from bisect import bisect_left, bisect_right
from collections.abc import Collection, Iterator, Mapping, Sequence
from itertools import pairwise
from statistics import median

from msgspec import Struct
from msgspec.structs import replace

from ivrel.core.measuring.rhythm import FEWEST_DEVICES, Clocks, Rhythm, rhythm_of
from ivrel.core.measuring.times import Times

TAILS = (4, 8)  # one in so many gaps belongs to the tail
LEAST = 15  # gaps in a tail
FEWEST = 20  # gaps without which nothing can be told
NEVER_SO_LONG = 0.001  # chance of a gap of the whole fleet that is no part of its rhythm
CAUTION = 0.4  # standard errors by which the tail is taken to be heavier than it seems
PARTS = 8  # of a device's record, in which it must speak about as much
UNEVEN = 4.0  # times the usual number of messages in a part, or one in so many
FEWEST_IN_PART = 6  # messages to be expected in a part
TOGETHER = 3  # devices that fall silent at once are one event
SHARE_TOGETHER = 0.1  # ... or this share of those that were heard
QUIET = 4.0  # times as many messages would be expected of a device that is silent, too
FAR = 4.0  # times its usual gap
STATES = ("silent", "together", "never", "open", "uneven", "usual", "seldom")


class Silence(Struct, frozen=True):
    """The longest silence of a device, on the clock of what is to be expected of it.

    `number`: its messages; `usual`: the mean of its other gaps, in seconds; `longest`: that
    silence, with `begun`, in seconds since 1970; `lasts`: whether it lasts to the end of the
    records; `chance`: that a healthy device has a gap so long in so many, None if it spoke too
    seldom; `enough`: how long it would have to be, in seconds, to be called one; `state`: 'silent';
    'together', with others; 'never', heard; 'open', far above the usual and not enough; 'uneven',
    not to be judged; 'usual'; 'seldom', heard too seldom to be judged.
    """

    device: str
    number: int
    usual: float | None = None
    longest: float | None = None
    begun: float | None = None
    lasts: bool = False
    chance: float | None = None
    enough: float | None = None
    state: str = "never"


class Tail(Struct, frozen=True):
    """The upper tail of gaps: `size` of them lie above `threshold`; `shape` and `scale` are those
    of a generalised Pareto distribution.
    """

    size: int
    threshold: float
    shape: float
    scale: float

    def chance(self, gap: float) -> float:
        """Return how likely it is that the longest of the gaps is so long."""
        excess = max(0.0, gap - self.threshold)
        if not self.shape:
            return min(1.0, self.size * math.exp(-excess / self.scale))
        beyond = math.pow(1 + self.shape * excess / self.scale, -1 / self.shape)
        return min(1.0, self.size * beyond)

    def enough(self, chance: float) -> float:
        """Return the gap of which that is so likely."""
        share = chance / self.size
        if not self.shape:
            return self.threshold - self.scale * math.log(share)
        return self.threshold + self.scale / self.shape * (math.pow(share, -self.shape) - 1)


def shapes(gaps: Sequence[float]) -> list[float]:
    """Return the shape of the upper tail of gaps without the longest, for each place of `TAILS` at
    which it may begin; none if there are too few gaps, or if all are alike.
    """
    return [max(0.0, _shape(excesses)) for excesses, _ in _upper(gaps)]


def tails(gaps: Sequence[float], usual: Sequence[float] = ()) -> list[Tail]:
    """Return the upper tail of gaps without the longest, from several places on; none if nothing
    can be said of longer ones.

    `usual`: the shapes of other devices; no tail is taken to be lighter than those.
    """
    out = []
    for n, (excesses, threshold) in enumerate(_upper(gaps)):
        size = len(excesses)
        least = usual[n] if n < len(usual) else 0.0
        shape = max(0.0, least, _shape(excesses))
        # The heavier a tail, the less is known of it.
        shape += CAUTION * (1 + shape) ** 3 / math.sqrt(size)
        # From a shape of 1 on, there is no mean, and nothing is too long.
        if shape >= 1:
            return []
        mean = sum(excesses) / size
        out.append(Tail(size + 1, threshold, shape, mean * (1 - shape)))
    return out


def _upper(gaps: Sequence[float]) -> Iterator[tuple[list[float], float]]:
    """Yield the excesses of the upper gaps without the longest, and the threshold below them."""
    ordered = sorted(gaps)[:-1]
    if len(gaps) < FEWEST:
        return
    for one_in in TAILS:
        size = min(max(LEAST, len(ordered) // one_in), len(ordered) - 1)
        threshold = ordered[-size - 1]
        excesses = [gap - threshold for gap in ordered[-size:]]
        if sum(excesses) > 0:
            yield excesses, threshold


def chance(gaps: Sequence[float], usual: Sequence[float] = ()) -> float | None:
    """Return how likely it is that the longest of the gaps of a healthy device is so long; None
    if there are too few of them. `usual`: the shapes of other devices' tails.
    """
    if len(gaps) < FEWEST:
        return None
    found = tails(gaps, usual)
    if found:
        return max(tail.chance(max(gaps)) for tail in found)
    ordered = sorted(gaps)
    # All the gaps are alike: nothing is known of a longer one, but that it is none of them.
    are_alike = ordered[-2] == ordered[len(ordered) // 2]
    return 1 / (len(gaps) + 1) if are_alike and ordered[-1] > ordered[-2] else 1.0


def _shape(excesses: Sequence[float]) -> float:
    """Return the shape of the tail, 0 for an exponential one (Hosking and Wallis, section 2.3)."""
    number = len(excesses)
    mean = sum(excesses) / number
    weighted = sum(y * (number - n - 1) for n, y in enumerate(excesses)) / (number - 1) / number
    below = mean - 2 * weighted
    return 2 - mean / below if below > 0 else 1.0


def silences(
    times: Mapping[str, Times], names: Sequence[str], until: float, rate: float
) -> list[Silence]:
    """Return the longest silence of each device, the least likely first.

    `names`: the devices of the fleet that are looked at; `until`: when the records end, in seconds
    since 1970; `rate`: of runs over a healthy fleet that call any device silent.
    """
    clocks = Clocks(times, until, _fleet_rhythm(times.values(), until))
    every = [_Gaps(name, times.get(name) or Times(), until, clocks) for name in names]
    usual = _usual_shapes([shapes(gaps.paced) for gaps in every])
    found = [gaps.longest(rate / len(names), usual) for gaps in every]
    tested = sorted((s for s in found if s.state == "usual"), key=lambda s: s.chance or 0)
    silent: set[str] = set()
    for n, one in enumerate(tested):
        if one.chance is None or one.chance > rate / (len(tested) - n):
            break
        silent.add(one.device)
    judged = []
    for gaps, one in zip(every, found, strict=True):
        if one.device in silent:
            state = "together" if _is_shared(one, every) else "silent"
            judged.append(replace(one, state=state))
        else:
            judged.append(gaps.open(one) if one.state == "usual" else one)
    return sorted(judged, key=lambda s: (STATES.index(s.state), s.chance or 0, s.device))


def _fleet_rhythm(fleet: Collection[Times], until: float) -> Rhythm | None:
    """Return the rhythm of a fleet; None if it has none, or if all of it fell silent at once: that
    is no rhythm, and each device is silent then.
    """
    moments = sorted({float(at) for times in fleet for at in times.moments})
    together = chance([after - before for before, after in pairwise([*moments, until])])
    return None if together is None or together < NEVER_SO_LONG else rhythm_of(fleet, until)


def _usual_shapes(every: Sequence[Sequence[float]]) -> list[float]:
    """Return the median shape of the devices' tails, place by place; none if they are few.

    One device has too few long gaps to show how heavy their tail is; a fleet has many.
    """
    known = [one for one in every if len(one) == len(TAILS)]
    if len(known) < FEWEST_DEVICES:
        return []
    return [median(row) for row in zip(*known, strict=True)]


def _is_shared(one: Silence, every: Sequence[_Gaps]) -> bool:
    """Whether several devices said much less than usual while one was silent."""
    heard = sum(1 for gaps in every if gaps.moments)
    begun = one.begun or 0.0
    ended = begun + (one.longest or 0.0)
    quiet = sum(gaps.is_quiet(begun, ended) for gaps in every if gaps.name != one.device)
    return quiet + 1 >= max(TOGETHER, SHARE_TOGETHER * heard)


class _Gaps:
    """The gaps of one device, in seconds and on the clock of what is to be expected of it."""

    def __init__(self, name: str, times: Times, until: float, clocks: Clocks) -> None:
        self.name = name
        self._times = times
        self._until = until
        self.moments = [float(at) for at in times.moments]
        self._ends = [*self.moments, until]
        lasts = bool(self.moments) and until - self.moments[-1] > times.width
        if not lasts:
            self._ends = self.moments
        self.gaps = [after - before for before, after in pairwise(self._ends)]
        self._lasts = lasts
        self._rhythm = clocks.of(name) if len(self.gaps) >= FEWEST else None
        passed = self._ends if self._rhythm is None else [*map(self._rhythm.passed, self._ends)]
        self.paced = [after - before for before, after in pairwise(passed)]

    def longest(self, rate: float, usual: Sequence[float]) -> Silence:
        """Return the longest silence.

        `rate`: the chance from which on one is too long; `usual`: the shapes of the fleet's tails.
        """
        number = self._times.number
        if not self.moments:
            return Silence(self.name, 0)
        if not self.gaps:
            return Silence(self.name, number, state="seldom")
        # The gap that is reported is the one that is held against the others.
        at = self.paced.index(max(self.paced))
        found = Silence(
            self.name,
            number,
            usual=(sum(self.gaps) - max(self.gaps)) / max(len(self.gaps) - 1, 1),
            longest=self.gaps[at],
            begun=self.moments[at],
            lasts=self._lasts and at == len(self.gaps) - 1,
            chance=chance(self.paced, usual),
            state="usual",
        )
        if found.chance is None:
            return replace(found, state="seldom")
        pace = self.paced[at] / self.gaps[at] if self.gaps[at] else 1.0
        some = tails(self.paced, usual)
        if some and pace:
            found = replace(found, enough=max(tail.enough(rate) for tail in some) / pace)
        is_any_length_usual = not some and found.chance == 1.0
        return (
            replace(found, state="uneven") if is_any_length_usual or self._is_uneven(at) else found
        )

    def open(self, found: Silence) -> Silence:
        """Return a silence that lasts, where it is far above the usual; else what was found."""
        if not self._lasts or found.usual is None or self.gaps[-1] <= FAR * found.usual:
            return found
        begun = self.moments[-1]
        return replace(found, longest=self.gaps[-1], begun=begun, lasts=True, state="open")

    def is_quiet(self, begun: float, ended: float) -> bool:
        """Whether the device said much less than usual in a time."""
        there = bisect_left(self.moments, ended) - bisect_right(self.moments, begun)
        outside = self._until - self.moments[0] - (ended - begun) if self.moments else 0.0
        if outside <= 0:
            return False
        expected = (len(self.moments) - there) / outside * (ended - begun)
        return expected >= QUIET and there * QUIET < expected

    def _is_uneven(self, at: int) -> bool:
        """Whether the device speaks at some times much less than at others, apart from the gap that
        is looked at.
        """
        every = [gap for n, gap in enumerate(self.paced) if n != at]
        length = sum(every)
        if not length:
            return False
        parts = min(PARTS, len(every) // FEWEST_IN_PART)
        if parts < 2:
            return True
        counts = [0] * parts
        passed = 0.0
        # A burst counts once: what is behind each other faster than usual is said at once.
        shortest = sorted(every)[len(every) // 2]
        for gap in every:
            passed += gap
            if gap >= shortest:
                counts[min(int(passed / length * parts), parts - 1)] += 1
        mean = sum(counts) / parts
        return any(count * UNEVEN < mean or count > mean * UNEVEN for count in counts)
