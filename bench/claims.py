"""Whether claims about days of messages are true, where the truth is known.

`python bench/claims.py --days 200` makes days of 60 devices with faults of each kind, judges their
messages, and counts claims that are false, and what is wrong and not seen, by fault.
"""

from __future__ import annotations

import argparse
import sys
from collections import Counter
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

from days import FAULTS, day, outcomes


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--days", type=int, default=20, help="days")
    parser.add_argument("--devices", type=int, default=60, help="devices of each")
    parser.add_argument("--seed", type=int, default=0, help="number of the first day")
    args = parser.parse_args()
    number, false, missed, found = (Counter[str]() for _ in range(4))
    messages = 0
    for seed in range(args.seed, args.seed + args.days):
        one = day(seed, args.devices)
        messages += len(one.sent)
        number.update(truth.fault for truth in one.truth.values())
        for said in outcomes(one):
            false[said.fault] += said.is_false
            missed[said.fault] += said.is_missed
            found[said.fault] += said.claim.claim == "contradicted" and not said.is_false
            if said.is_false:
                c = said.claim
                print(f"  day {seed}, {said.device} ({said.fault}): {c.setting} {c.claim}: {c.why}")
    print(f"{args.days} days of {args.devices} devices, {messages:,} messages")
    print(f"  {'fault':30}{'devices':>8}{'false':>8}{'found':>8}{'missed':>8}")
    for fault in FAULTS:
        counts = (some[fault] for some in (number, false, found, missed))
        print(f"  {fault or 'none':30}" + "".join(f"{count:>8,}" for count in counts))
    totals = (some.total() for some in (number, false, found, missed))
    print(f"  {'all':30}" + "".join(f"{count:>8,}" for count in totals))


if __name__ == "__main__":
    main()
