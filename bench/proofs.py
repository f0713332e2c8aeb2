"""How many corrections are proved, by platform and cause, and whether they hold by other means.

`python bench/proofs.py --devices 2000` makes devices of all platforms with random faults, and
policies for them (the generators of the tests), the same for the same seed. Each correction is
computed and proved; `tests/independent.py` then works every property out again: every prefix of
the change applied to the text, each line left out in turn, the back-out read. What the proof holds
for true and that does not is told as wrong; there must be none.
"""

from __future__ import annotations

import argparse
import sys
from collections import Counter
from pathlib import Path

from hypothesis import HealthCheck, Phase, given, seed, settings
from hypothesis import strategies as st

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

from generated import BASES, device, policies, records, written
from independent import Checked

from ivrel.sources.dialects import Dialects

DIALECTS = Dialects()


class Counts:
    """What became of the devices of one platform."""

    def __init__(self) -> None:
        self.devices = self.changed = self.lines = 0
        self.unproved: Counter[str] = Counter()
        self.wrong: list[str] = []


def survey(base: str, number: int, start: int) -> Counts:
    """Return what becomes of so many generated devices."""
    dialect, out = DIALECTS[base.partition(".")[0]], Counts()

    @seed(start)
    @settings(
        max_examples=number,
        database=None,
        deadline=None,
        derandomize=False,
        phases=[Phase.generate],
        suppress_health_check=list(HealthCheck),
    )
    @given(st.data())
    def run(data: st.DataObject) -> None:
        if out.devices == number:
            return
        policy = data.draw(policies())
        text = written(dialect, base, data.draw(records(dialect, base)))
        one = Checked(base, dialect, device(dialect), policy, text)
        out.devices += 1
        out.changed += bool(one.done.changes)
        out.lines += len(one.done.changes)
        said = {p.name: p.why for p in one.done.proof if not p.holds}
        out.unproved.update(said)
        found = one.failing()
        out.wrong += [f"{name}: {why}" for name, why in found.items() if name not in said]

    run()
    return out


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--devices", type=int, default=2000, help="devices in all")
    parser.add_argument("--seed", type=int, default=7)
    args = parser.parse_args()
    each = -(-args.devices // len(BASES))
    print(f"{'platform':<16}{'devices':>8}{'changed':>8}{'lines':>7}{'unproved':>9}{'wrong':>6}")
    sums: Counter[str] = Counter()
    for base in sorted(BASES):
        c = survey(base, each, args.seed)
        unproved = sum(c.unproved.values())
        row = f"{base:<16}{c.devices:>8,}{c.changed:>8,}{c.lines:>7,}{unproved:>9}{len(c.wrong):>6}"
        causes = ", ".join(f"{name} {number}" for name, number in c.unproved.most_common())
        print(f"{row}  {causes}", flush=True)
        for said in c.wrong[:3]:
            print(f"    {said}")
        sums.update(
            devices=c.devices,
            changed=c.changed,
            lines=c.lines,
            unproved=unproved,
            wrong=len(c.wrong),
        )
    row = f"{'all together':<16}{sums['devices']:>8,}{sums['changed']:>8,}{sums['lines']:>7,}"
    print(f"{row}{sums['unproved']:>9}{sums['wrong']:>6}")


if __name__ == "__main__":
    main()
