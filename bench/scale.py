"""Audits a very large fleet by two processes, and by two workers of a Dask cluster on this machine.

    python bench/scale.py --devices 100000 --lines 120

Both write JSON Lines as results come. Memory is that of the process that prints, at its peak.
"""

from __future__ import annotations

import argparse
import os
import subprocess
import sys
import time
from pathlib import Path

from generate import generate

HERE = Path(__file__).parent


def timed(command: list[str]) -> tuple[float, int]:
    """Return the seconds that a command takes, and the most memory that it had, in MB."""
    begun = time.perf_counter()
    with subprocess.Popen(command, stdout=subprocess.DEVNULL) as process:
        _, status, used = os.wait4(process.pid, 0)
        process.returncode = os.waitstatus_to_exitcode(status)
    if process.returncode not in (0, 1):
        sys.exit(f"{' '.join(command)} ended with {process.returncode}")
    return time.perf_counter() - begun, used.ru_maxrss // 1024


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--devices", type=int, default=100_000)
    parser.add_argument("--lines", type=int, default=120)
    parser.add_argument("--folder", type=Path, help="a fleet that was generated before")
    args = parser.parse_args()
    folder = args.folder or HERE / "data" / f"{args.devices}x{args.lines}"
    if not (folder / "fleet.csv").exists():
        print(f"generating {args.devices} devices of about {args.lines} lines", file=sys.stderr)
        generate(folder, args.devices, args.lines)
    audit = [sys.executable, "-m", "ivrel", "audit", "-w", str(folder), "--format", "jsonl"]
    from distributed import LocalCluster

    options = {"n_workers": 2, "threads_per_worker": 1, "dashboard_address": None}
    with LocalCluster(host="127.0.0.1", **options) as cluster:  # type: ignore[no-untyped-call]
        ways = {
            "processes": [],
            "Dask, one path": ["--scheduler", cluster.scheduler_address],
            "Dask, sent along": ["--scheduler", cluster.scheduler_address, "--send"],
        }
        print(f"{'by':<18}{'seconds':>9}{'devices/s':>11}{'memory':>11}")
        for name, words in ways.items():
            took, memory = timed([*audit, *words])
            print(f"{name:<18}{took:>9.1f}{args.devices / took:>11,.0f}{memory:>8} MB", flush=True)


if __name__ == "__main__":
    main()
