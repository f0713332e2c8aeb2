"""Silence: how likely is it that a healthy device says nothing for so long?

Messages come in bursts, so that a Poisson process, which has none, calls every pause behind a burst
a failure. What counts is the upper tail of a device's own gaps. Above a threshold, the gaps of very
many processes follow a generalised Pareto distribution (J. Pickands, "Statistical inference using
extreme order statistics", Annals of Statistics 3, 1975). Its shape and scale are estimated from all
of them but the longest, by probability-weighted moments (J. R. M. Hosking and J. R. Wallis,
"Parameter and quantile estimation for the generalized Pareto distribution", Technometrics 29,
1987), and the longest is held against it. All of this is seen on the clock of the fleet
(`rhythm.py`).

Many devices are looked at, and each has many gaps. S. Holm's procedure ("A simple sequentially
rejective multiple test procedure", Scandinavian Journal of Statistics 6, 1979) keeps the chance of
even one false alarm over the whole fleet below the rate that is asked for.
"""

from __future__ import annotations

import math
from collections.abc import Collection, Mapping, Sequence
from itertools import pairwise

from msgspec import Struct

from ivrel.core.measuring.rhythm import Rhythm, rhythm_of
from ivrel.core.measuring.times import Times

TAIL = 4  # one in so many gaps belongs to the tail
LEAST = 15  # gaps in a tail
FEWEST = 20  # gaps without which nothing can be told
NEVER_SO_LONG = 0.001  # chance of a gap of the whole fleet that is no part of its rhythm
CAUTION = 0.5  # standard errors by which the tail is taken to be heavier than it seems


class Silence(Struct, frozen=True):
    """The longest silence of a device, on the clock of its fleet.

    `number`: its messages; `usual`: the median gap, in seconds; `longest`: that silence, with
    `begun`, in seconds since 1970; `lasts`: whether it lasts to the end of the records; `chance`:
    that a healthy device has a gap so long in so many, None if it spoke too seldom; `state`:
    'silent', 'usual', 'seldom' or 'never'.
    """

    device: str
    number: int
    usual: float | None = None
    longest: float | None = None
    begun: float | None = None
    lasts: bool = False
    chance: float | None = None
    state: str = "never"


def chance(gaps: Sequence[float]) -> float | None:
    """Return how likely it is that the longest of the gaps of a healthy device is so long; None
    if there are too few of them.
    """
    if len(gaps) < FEWEST:
        return None
    ordered = sorted(gaps)
    size = min(max(LEAST, len(ordered) // TAIL), len(ordered) - 1)
    threshold = ordered[-size - 1]
    *rest, longest = (gap - threshold for gap in ordered[-size:])
    if sum(rest) <= 0:
        # All the gaps are alike: nothing is known of a longer one, but that it is none of them.
        return 1.0 if longest <= 0 else 1 / (len(gaps) + 1)
    mean = sum(rest) / len(rest)
    shape = max(0.0, _shape(rest, mean) + CAUTION / math.sqrt(len(rest)))
    if shape >= 1:
        return 1.0
    beyond: float
    if shape:
        beyond = (1 + shape * longest / (mean * (1 - shape))) ** (-1 / shape)
    else:
        beyond = (1 + longest / sum(rest)) ** -float(
            len(rest)
        )  # exponential, of a mean that is estimated
    return min(1.0, size * beyond)


def _shape(excesses: Sequence[float], mean: float) -> float:
    """Return the shape of the tail, 0 for an exponential one (Hosking and Wallis, section 2.3)."""
    number = len(excesses)
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
    rhythm = _rhythm(times.values(), until)
    found = [_longest(name, times.get(name) or Times(), until, rhythm) for name in names]
    tested = sorted((s for s in found if s.chance is not None), key=lambda s: s.chance or 0)
    silent: set[str] = set()
    for n, one in enumerate(tested):
        if one.chance is None or one.chance > rate / (len(tested) - n):
            break
        silent.add(one.device)
    judged = [_judged(one, one.device in silent) for one in found]
    order = ("silent", "never", "usual", "seldom")
    return sorted(judged, key=lambda s: (order.index(s.state), s.chance or 0, s.device))


def _longest(name: str, times: Times, until: float, rhythm: Rhythm | None) -> Silence:
    moments = times.moments
    if not moments:
        return Silence(name, 0)
    gaps = [float(after - before) for before, after in pairwise(moments)]
    begins = [float(at) for at in moments]
    last = until - moments[-1]
    if last > times.width:
        gaps.append(last)
    if not gaps:
        return Silence(name, times.number, state="seldom")
    paced = gaps
    if rhythm is not None:
        passed = [*(rhythm.passed(begun) for begun in begins), rhythm.passed(until)]
        paced = [after - before for before, after in pairwise(passed)][: len(gaps)]
    # The gap that is reported is the one that is held against the others.
    at = paced.index(max(paced))
    return Silence(
        name, times.number, sorted(gaps)[len(gaps) // 2], gaps[at], begins[at],
        at == len(moments) - 1, chance(paced),
    )  # fmt: skip


def _rhythm(fleet: Collection[Times], until: float) -> Rhythm | None:
    """Return the rhythm of a fleet; None if it has none, or if all of it fell silent at once: that
    is no rhythm, and each device is silent then.
    """
    every = sorted({float(at) for times in fleet for at in times.moments})
    together = chance([after - before for before, after in pairwise([*every, until])])
    return None if together is None or together < NEVER_SO_LONG else rhythm_of(fleet, until)


def _judged(one: Silence, is_silent: bool) -> Silence:
    if not one.number:
        return one
    state = "seldom" if one.chance is None else "silent" if is_silent else "usual"
    return Silence(
        one.device, one.number, one.usual, one.longest, one.begun, one.lasts, one.chance, state
    )
