"""Corrections as a ratio to an audit of the same devices, and how they grow with the lines that are
to be written.

`python bench/correct.py` measures the example's devices of each platform, and tables of growing
length. The yardstick is the audit of the same texts in the same run, by one process; CPU time, the
fastest of five rounds. `--devices 10000` measures the program instead, on a generated fleet of long
texts: `ivrel correct`, and `ivrel correct -o` with the time in which the files are written, as a
ratio to `ivrel audit`, all with as many processes as there are processors, and one audit with a
single process. `--example 15` does the same on the example's devices of all platforms, each so many
times, of which three in ten are not as asked.
"""

from __future__ import annotations

import argparse
import gc
import json
import os
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from datetime import date
from pathlib import Path

from generate import FAULTY, copies, generate

from ivrel.core import Corrector, Device, read_policy
from ivrel.core.dialects import Dialect
from ivrel.core.fleet import read_fleet
from ivrel.core.judging import Auditor
from ivrel.core.policy import Policy
from ivrel.demo.workspace import configurations, fleet_text, policy_text
from ivrel.sources.dialects import Dialects

IVREL = str(Path(sys.executable).parent / "ivrel")
DAY = date(2026, 11, 23)
DIALECTS = Dialects()
Case = tuple[Device, Dialect, bytes]


ROUNDS = 5


def seconds(cases: list[Case], policy: Policy, rounds: int = 1) -> tuple[float, float, int, int]:
    """Return the CPU seconds of audits and of corrections, the lines written, and how many are
    unproved.

    Of several rounds the fastest of each counts. As in the processes of a run, nothing is collected
    on the way.
    """
    gc.collect()
    gc.disable()
    audited, corrected, lines, unproved = 9e9, 9e9, 0, 0
    for _ in range(rounds):
        begun = time.process_time()
        auditor = Auditor(policy, DAY)
        for device, dialect, data in cases:
            auditor.audit(device, dialect, data, "x")
        between = time.process_time()
        corrector = Corrector(policy, DAY)
        done = [corrector.correct(device, dialect, data, "x") for device, dialect, data in cases]
        audited = min(audited, between - begun)
        corrected = min(corrected, time.process_time() - between)
        lines = sum(len(c.changes) for c in done)
        unproved = sum(1 for c in done if c.changes and not c.proved)
    gc.enable()
    return audited, corrected, lines, unproved


def tables(size: int) -> Iterator[tuple[str, Case]]:
    """Configurations in which so many rows are to be corrected."""
    rows = range(size)
    gates = "".join(f"gate.{n}.act = stop\n" for n in rows)
    texts = {
        "skarn": f"journal.target.a.inet = 198.51.100.21\n{gates}",
        "hollin": 'unit "x" { record { collector a { inet 198.51.100.21; } keeper { to a; } } '
        "gates {\n" + "".join(f" gate {n} {{ action stop; }}\n" for n in rows) + "} }\n",
        "quern": "events\n    export on\n" + "".join(f"    mute {n} text\n" for n in rows),
        "ietf-syslog": '{"ietf-syslog:syslog": {"actions": {"remote": {"destination": ['
        + ", ".join(
            f'{{"name": "d{n}", "udp": {{"address": "2001:db8::{n + 1:x}"}}}}' for n in rows
        )
        + "]}}}}",
    }
    # One line is written into a long text: so many interfaces, with ten lines each.
    interfaces = [
        {
            "name": f"port{n}",
            "type": "iana-if-type:ethernetCsmacd",
            "description": "up",
            "x": [1, 2],
        }
        for n in rows
    ]
    long = {
        "ietf-interfaces:interfaces": {"interface": interfaces},
        "ietf-syslog:syslog": {"actions": {"remote": {"destination": []}}},
    }
    texts["ietf-syslog, long"] = json.dumps(long, indent=2)
    for name, text in texts.items():
        yield (
            name,
            (
                Device("x", "firewall", "s", name.partition(",")[0]),
                DIALECTS[name.partition(",")[0]],
                text.encode(),
            ),
        )


RULES = """policy: p
collectors: {a: {address: 198.51.100.21}}
rules:
  - {rule: all, require: {collectors: [a]}}
  - {rule: gates, where: {platform: [skarn, hollin]}, require: {rules: {stop: open}}}
  - {rule: filters, where: {platform: quern}, require: {filters: none}}
"""


def fleet(write: Callable[[Path], int]) -> None:
    """Tell how long the program takes for a fleet, in seconds and CPU seconds; `write` writes it
    and returns how many devices it has.
    """
    one = str(min(os.sched_getaffinity(0)))
    with tempfile.TemporaryDirectory() as name:
        folder, out = Path(name) / "fleet", Path(name) / "out"
        devices = write(folder)
        audit = [IVREL, "audit", "-w", str(folder), "--format", "jsonl"]
        correct = [IVREL, "correct", "-w", str(folder)]
        calls = {
            "audit, one process": ["taskset", "-c", one, *audit],
            "audit": audit,
            "correct": [*correct, "--format", "json"],
            "correct -o": [*correct, "-o", str(out)],
        }
        taken = {}
        for told, call in calls.items():
            rounds = []
            for _ in range(3):
                shutil.rmtree(out, ignore_errors=True)
                before, begun = os.times(), time.monotonic()
                subprocess.run(call, stdout=subprocess.DEVNULL, check=False)
                wall, after = time.monotonic() - begun, os.times()
                cpu = after.children_user + after.children_system
                cpu -= before.children_user + before.children_system
                rounds.append((wall, cpu))
            taken[told] = wall, cpu = min(rounds)
            print(f"{told:<20}{wall:>8.2f} s{cpu:>9.2f} s of CPU")
        changed = len(list(out.glob("*/change.txt")))
        print(f"{changed:,} of {devices:,} devices changed")
        for name in ("correct", "correct -o"):
            times = (taken[name][0] / taken[told][0] for told in ("audit", "audit, one process"))
            told = "{:.1f} times an audit with as many processes, {:.1f} times one with one"
            print(f"{name:<11}{told.format(*times)}")


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--copies", type=int, default=1, help="times that each device is taken")
    parser.add_argument(
        "--sizes", type=int, nargs="+", default=[20, 40, 80, 160, 320], help="rows of the tables"
    )
    parser.add_argument("--devices", type=int, help="of a generated fleet, for the whole program")
    parser.add_argument("--example", type=int, help="copies of the example, for the whole program")
    args = parser.parse_args()
    if args.devices:
        fleet(lambda folder: generate(folder, args.devices, 1300))
        return
    if args.example:
        fleet(lambda folder: copies(folder, args.example, FAULTY))
        return
    policy = read_policy(policy_text(), "policy.yaml")
    by_platform: dict[str, list[Case]] = {}
    for device in read_fleet(fleet_text(), "fleet.yaml").devices:
        files = configurations()[device.name]
        if set(files) == {""}:
            case = device, DIALECTS[device.platform], files[""].encode()
            by_platform.setdefault(device.platform, []).append(case)
    print(
        f"{'platform':<14}{'devices':>8}{'lines':>7}{'unproved':>9}{'audit':>10}{'correct':>10}{'ratio':>8}"
    )
    for platform, cases in sorted(by_platform.items()):
        audit, corrected, lines, unproved = seconds(cases * args.copies, policy, ROUNDS)
        each = 1000 / (len(cases) * args.copies)
        row = f"{platform:<14}{len(cases) * args.copies:>8}{lines:>7}{unproved:>9}"
        print(f"{row}{audit * each:>7.1f} ms{corrected * each:>7.1f} ms{corrected / audit:>8.1f}")
    every = [case for cases in by_platform.values() for case in cases]
    audit, corrected, lines, unproved = seconds(every * args.copies, policy, ROUNDS)
    each, number = 1000 / (len(every) * args.copies), len(every) * args.copies
    row = f"{'all together':<14}{number:>8}{lines:>7}{unproved:>9}"
    print(f"{row}{audit * each:>7.1f} ms{corrected * each:>7.1f} ms{corrected / audit:>8.1f}")
    print(f"\n{'table of':<18}" + "".join(f"{size:>10}" for size in args.sizes) + "  rows")
    policy = read_policy(RULES, "policy.yaml")
    taken: dict[str, list[float]] = {}
    for size in args.sizes:
        for name, case in tables(size):
            taken.setdefault(name, []).append(seconds([case], policy)[1])
    for name, times in taken.items():
        print(f"{name:<18}" + "".join(f"{t:>8.2f} s" for t in times))


if __name__ == "__main__":
    main()
