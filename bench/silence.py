"""How often a healthy fleet is called silent, beside the rate that is asked for.

`python bench/silence.py` makes days of messages of fleets in which nothing is wrong, by several
kinds of traffic, and counts the runs in which any device is called silent; and what becomes of one
that dies.
"""

from __future__ import annotations

import argparse
import sys
from collections import Counter
from pathlib import Path
from random import Random

from ivrel.core.measuring.silence import silences
from ivrel.core.measuring.times import Times

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

from traffic import DAY, KINDS

RATES = (0.01, 0.05, 0.1)


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--runs", type=int, default=200, help="healthy fleets")
    parser.add_argument("--devices", type=int, default=20, help="devices of each")
    parser.add_argument("--kind", action="append", choices=KINDS, help="only this traffic")
    args = parser.parse_args()
    print(f"{args.runs} runs over {args.devices} healthy devices: alarms in a hundred runs;")
    print("of a device that dies 8 hours before the end: found, not to be judged, missed")
    print(f"  {'traffic':16}{'days':>5}" + "".join(f"{f'at {rate:g}':>9}" for rate in RATES))
    for name in args.kind or KINDS:
        for days in (1, 7):
            alarms, states = run(name, days, args.runs, args.devices)
            shares = "".join(f"{100 * alarms[rate] / args.runs:>9.1f}" for rate in RATES)
            found = states["silent"] + states["together"]
            counts = found, args.runs - found - states["usual"], states["usual"]
            dead = "".join(f"{count:>7}" for count in counts)
            print(f"  {name:16}{days:>5}{shares}{dead}", flush=True)


def run(name: str, days: int, runs: int, devices: int) -> tuple[Counter[float], Counter[str]]:
    """Return the alarms at each rate, and the states of a device that dies."""
    alarms, states = Counter[float](), Counter[str]()
    for n in range(runs):
        fleet = {}
        for m in range(devices):
            times = fleet[f"d{m}"] = Times()
            for at in KINDS[name](Random(f"{name}.{n}.{m}"), days):
                times.add_time(at)
        for rate in RATES:
            found = silences(fleet, sorted(fleet), days * DAY, rate)
            alarms[rate] += any(one.state == "silent" for one in found)
        dead = fleet["d0"] = Times()
        for at in KINDS[name](Random(f"{name}.{n}.0"), days):
            if at < days * DAY - DAY / 3:
                dead.add_time(at)
        found = silences(fleet, sorted(fleet), days * DAY, 0.05)
        states[next(one.state for one in found if one.device == "d0")] += 1
    return alarms, states


if __name__ == "__main__":
    main()
