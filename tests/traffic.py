"""Kinds of traffic: when a healthy device speaks, for some days, in seconds from their beginning."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator
from itertools import accumulate
from random import Random

DAY = 86_400


def bursts(dice: Random, days: int) -> Iterator[float]:
    """As the example's devices speak: several times in a row, now and then."""
    at = 0.0
    while True:
        at += dice.expovariate(1 / 900)
        for _ in range(dice.choice((1, 1, 2, 5))):
            if (at := at + dice.expovariate(1 / 4)) >= days * DAY:
                return
            yield at


def at_random(dice: Random, days: int) -> Iterator[float]:
    """A Poisson process."""
    at = 0.0
    while (at := at + dice.expovariate(1 / 600)) < days * DAY:
        yield at


def heavy_bursts(dice: Random, days: int) -> Iterator[float]:
    """Bursts whose sizes have a heavy tail."""
    at = 0.0
    while True:
        at += dice.expovariate(1 / 1500)
        for _ in range(int(dice.paretovariate(1.2))):
            if (at := at + dice.expovariate(1 / 20)) >= days * DAY:
                return
            yield at


def by_day(dice: Random, days: int) -> Iterator[float]:
    """Six times as many messages at noon as at midnight."""
    at = 0.0
    while (at := at + dice.expovariate(1.7 / 900)) < days * DAY:
        if dice.random() < max(0.3, 1 - 0.7 * math.cos(2 * math.pi * at / DAY)) / 1.7:
            yield at


def thinned(dice: Random, days: int, pace: Callable[[float], float]) -> Iterator[float]:
    """A Poisson process of which a share is kept that depends on the hour of the day."""
    at = 0.0
    while (at := at + dice.expovariate(1 / 300)) < days * DAY:
        if dice.random() < pace(at / 3600 % 24):
            yield at


def office(dice: Random, days: int, shift: int = 0) -> Iterator[float]:
    """Office hours: at night, 3 per cent of what is said by day."""
    yield from thinned(dice, days, lambda hour: 1.0 if 8 <= (hour + shift) % 24 < 18 else 0.03)


def two_zones(dice: Random, days: int) -> Iterator[float]:
    """Office hours of two zones, eight hours apart."""
    yield from office(dice, days, dice.choice((0, 8)))


def some_offices(dice: Random, days: int) -> Iterator[float]:
    """Half of the devices keep office hours."""
    yield from (office(dice, days) if dice.random() < 0.5 else at_random(dice, days))


def night_jobs(dice: Random, days: int) -> Iterator[float]:
    """An hour of much each night, and little else."""
    out: list[float] = []
    for day in range(days):
        at = day * DAY + 7200 + dice.random() * 300
        out += accumulate((dice.expovariate(1 / 15) for _ in range(200)), initial=at)
    at = 0.0
    while (at := at + dice.expovariate(1 / 3600)) < days * DAY:
        out.append(at)
    yield from sorted(out)


def heavy_gaps(dice: Random, days: int) -> Iterator[float]:
    """Gaps of a Pareto distribution of shape 1.3."""
    at = 0.0
    while (at := at + dice.paretovariate(1.3) * 200) < days * DAY:
        yield at


def on_and_off(dice: Random, days: int) -> Iterator[float]:
    """A message a minute for two hours or so, and nothing for four."""
    at = 0.0
    while at < days * DAY:
        end = min(at + dice.expovariate(1 / 7200), days * DAY)
        while (at := at + dice.expovariate(1 / 60)) < end:
            yield at
        at = end + dice.expovariate(1 / 14400)


KINDS: dict[str, Callable[[Random, int], Iterator[float]]] = {
    "at random": at_random, "bursts": bursts, "heavy bursts": heavy_bursts, "by day": by_day,
    "office hours": office, "two zones": two_zones, "some offices": some_offices,
    "night jobs": night_jobs, "heavy gaps": heavy_gaps, "on and off": on_and_off,
}  # fmt: skip
