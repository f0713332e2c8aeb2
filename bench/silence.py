"""How often a healthy fleet is called silent, beside the rate that is asked for.

`python bench/silence.py` makes days of messages of fleets in which nothing is wrong, by several
kinds of traffic, and counts the days on which any device is called silent.
"""

from __future__ import annotations

import argparse
import math
from collections.abc import Callable, Iterator
from random import Random

from ivrel.core.measuring.silence import silences
from ivrel.core.measuring.times import Times

DAY = 86_400
RATES = (0.01, 0.05, 0.1)


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


KINDS: dict[str, Callable[[Random, int], Iterator[float]]] = {
    "at random": at_random, "bursts": bursts, "heavy bursts": heavy_bursts, "by day": by_day,
}  # fmt: skip


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--runs", type=int, default=200, help="healthy fleets")
    parser.add_argument("--devices", type=int, default=40, help="devices of each")
    args = parser.parse_args()
    print(f"{args.runs} runs over {args.devices} healthy devices: alarms in a hundred runs")
    print(f"  {'traffic':16}{'days':>6}" + "".join(f"{f'at {rate:g}':>10}" for rate in RATES))
    for name, kind in KINDS.items():
        for days in (1, 7):
            alarms = dict.fromkeys(RATES, 0)
            for n in range(args.runs):
                fleet = {}
                for m in range(args.devices):
                    times = fleet[f"d{m}"] = Times()
                    for at in kind(Random(f"{name}.{n}.{m}"), days):
                        times.add_time(at)
                for rate in RATES:
                    found = silences(fleet, sorted(fleet), days * DAY, rate)
                    alarms[rate] += any(one.state == "silent" for one in found)
            shares = (100 * number / args.runs for number in alarms.values())
            print(f"  {name:16}{days:>6}" + "".join(f"{share:>10.1f}" for share in shares))


if __name__ == "__main__":
    main()
