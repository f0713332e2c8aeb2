"""Times reading and judging of each dialect on generated texts beside one `grep -c` over the same
files.

    python bench/dialects.py --devices 400

`irrelevant` is the cost of lines that have nothing to do with export: the same texts with ten times
as many of them.
"""

from __future__ import annotations

import argparse
import os
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from datetime import date
from pathlib import Path

from ivrel.core import Device, audit_text, read_policy
from ivrel.demo.texts import whole_text
from ivrel.demo.workspace import ExampleDevice, entries, policy_text
from ivrel.sources.dialects import Dialects

TODAY = date(2026, 11, 23)


def best(call: Callable[[], object], rounds: int = 3) -> float:
    """Return the shortest of some runs, in seconds."""
    times = []
    for _ in range(rounds):
        start = time.perf_counter()
        call()
        times.append(time.perf_counter() - start)
    return min(times)


def measure(
    entry: ExampleDevice, devices: int, lines: int, folder: Path
) -> tuple[float, float, float]:
    """Megabytes, seconds to read and judge all, seconds of one grep over the same files."""
    dialect, policy = Dialects()[entry.platform], read_policy(policy_text(), "policy.yaml")
    paths, fleet = [], []
    for n in range(devices):
        name = f"d{n:04d}"
        text = whole_text(entry.platform, name, entry.site, entry.identity, entry.text, lines)
        paths.append(folder / f"{entry.platform}-{lines}-{name}.conf")
        paths[-1].write_text(text)
        fleet.append(
            Device(name, entry.kind, entry.site, entry.platform, entry.groups, entry.identity)
        )

    def audit() -> None:
        for device, path in zip(fleet, paths, strict=True):
            audit_text(device, dialect, path.read_bytes(), policy, TODAY, path.name)

    grep = ["grep", "-c", "events", *map(str, paths)]
    env = {**os.environ, "LC_ALL": "C"}
    seconds = best(lambda: subprocess.run(grep, capture_output=True, env=env, check=False))
    return sum(p.stat().st_size for p in paths) / 1e6, best(audit), seconds


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--devices", type=int, default=400)
    parser.add_argument("--lines", type=int, default=1000)
    parser.add_argument(
        "--dialect", action="append", default=[], help="only this one (can be repeated)"
    )
    args = parser.parse_args()
    print(f"{args.devices} devices of about {args.lines} lines each, one process")
    print(
        f"{'dialect':<14}{'MB/s':>8}{'devices/s':>11}{'to grep':>9}{'irrelevant lines to grep':>26}"
    )
    seen: set[str] = set()
    with tempfile.TemporaryDirectory() as folder:
        for entry in entries():
            form = (
                "xml"
                if entry.text.lstrip().startswith("<")
                else "json"
                if entry.text.startswith("{")
                else ""
            )
            label = f"{entry.platform} {form}".strip()
            if label in seen or (args.dialect and entry.platform not in args.dialect):
                continue
            seen.add(label)
            size, audit, grep = measure(entry, args.devices, args.lines, Path(folder))
            _, longer, greps = measure(entry, args.devices, args.lines * 10, Path(folder))
            rest = (longer - audit) / max(greps - grep, 1e-9)
            row = f"{label:<14}{size / audit:>8.0f}{args.devices / audit:>11,.0f}"
            print(f"{row}{audit / grep:>9.1f}{rest:>26.1f}")
            sys.stdout.flush()
            for path in Path(folder).iterdir():
                path.unlink()


if __name__ == "__main__":
    main()
