"""Rhythm: how much a fleet, or a device, says in each hour, and time that passes as fast as that.

Devices that follow the day say little at night, and a gap at night is no sign of a failure. Seen on
a clock that runs as fast as messages are to be expected, any such process has the same pace at all
hours (time rescaling: F. Papangelou, "Integrability of expected increments of point processes and a
related random change of scale", Transactions of the American Mathematical Society 165, 1972). What
is to be expected of a device is taken from its own earlier days, at the same hours; where there are
too few, from all devices of the fleet, with the same weight.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Collection, Mapping, Sequence
from itertools import accumulate

from ivrel.core.measuring.times import Times

FEWEST_DEVICES = 5  # without which a rhythm is one of single devices
FEWEST_MOMENTS = 20  # of a device that counts
ENOUGH = 100  # moments in a span
HOUR = 3600
MOST_OF_USUAL = 3.0  # what a device says in a span counts so many times its mean at most
SLOWEST = 0.02  # of the mean pace: where nobody speaks, time goes on all the same
DAY = 86_400
FEWEST_DAYS = 3  # of a device's own, without which they do not tell its usual hours
OWN_SPANS = 24  # of a day


class Rhythm:
    """A clock that runs as fast as a fleet speaks; `begun`: its start, in seconds since 1970;
    `width`: of its spans, in seconds; `paces`: of each, 1 being the mean.
    """

    def __init__(self, begun: float, width: float, paces: Sequence[float]) -> None:
        self._begun = begun
        self._width = width
        self._paces = paces
        self._passed = [0.0, *accumulate(pace * width for pace in paces)]

    def passed(self, at: float) -> float:
        """Return how much of this clock's time has passed at a moment, in seconds."""
        since = min(max(at - self._begun, 0.0), self._width * len(self._paces))
        span = min(int(since // self._width), len(self._paces) - 1)
        return self._passed[span] + (since - span * self._width) * self._paces[span]


def rhythm_of(fleet: Collection[Times], until: float) -> Rhythm | None:
    """Return the rhythm of a fleet; None if too little is known of it.

    `until`: when the records end, in seconds since 1970.
    """
    devices = [moments for times in fleet if len(moments := times.moments) >= FEWEST_MOMENTS]
    if len(devices) < FEWEST_DEVICES:
        return None
    begun = float(min(moments[0] for moments in devices))
    length = until - begun
    number = sum(map(len, devices))
    width = max(HOUR, length * ENOUGH / number)
    spans = int(length // width)
    if spans < 3:
        return None
    width = length / spans
    edges = [begun + n * width for n in range(1, spans)]
    paces = [0.0] * spans
    for moments in devices:
        counts = [0] * spans
        for at in moments:
            counts[bisect_right(edges, at)] += 1
        most = MOST_OF_USUAL * len(moments) / spans
        capped = [min(count, most) for count in counts]
        for n, count in enumerate(capped):
            paces[n] += count / sum(capped) * spans / len(devices)
    around = [paces[0], *paces, paces[-1]]
    smooth = [(around[n] + 2 * around[n + 1] + around[n + 2]) / 4 for n in range(spans)]
    mean = sum(smooth) / spans
    return Rhythm(begun, width, [max(SLOWEST, pace / mean) for pace in smooth])


class Clocks:
    """The clock of each device: its own, of earlier days, or the fleet's.

    `times`: of all devices; `until`: when the records end, in seconds since 1970; `fleet`: the
    rhythm of all of them, None if there is none.
    """

    def __init__(self, times: Mapping[str, Times], until: float, fleet: Rhythm | None) -> None:
        self._times = times
        self._until = until
        self._fleet = fleet

    def of(self, device: str) -> Rhythm | None:
        """Return the clock of a device; None if it is that of all."""
        return own_rhythm(self._times[device], self._until) or self._fleet


def own_rhythm(times: Times, until: float) -> Rhythm | None:
    """Return the rhythm of a device's own days; None if too few are known."""
    moments = times.moments
    days = int((until - moments[0]) // DAY) if moments else 0
    if days < FEWEST_DAYS or len(moments) < FEWEST_MOMENTS * FEWEST_DAYS:
        return None
    begun = float(moments[0])
    width = DAY / OWN_SPANS
    by_day = [[0] * OWN_SPANS for _ in range(days + 1)]
    for at in moments:
        day, span = divmod(int((at - begun) // width), OWN_SPANS)
        by_day[min(day, days)][span] += 1
    counts = []
    for span in range(OWN_SPANS):
        # The busiest of the days counts as the second: one burst is no habit.
        some = sorted(row[span] for row in by_day[:days])
        counts.append(sum(some[:-1]) + some[-2])
    around = [counts[-1], *counts, counts[0]]
    smooth = [(around[n] + 2 * around[n + 1] + around[n + 2]) / 4 for n in range(OWN_SPANS)]
    mean = sum(smooth) / OWN_SPANS
    if not mean:
        return None
    paces = [max(SLOWEST, count / mean) for count in smooth]
    return Rhythm(begun, width, paces * (days + 2))
