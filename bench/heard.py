"""What messages come to, as a ratio to `wc -l` and to `mawk` counting lines by host; what is
measured and counted of them, as a ratio to that.

`python bench/heard.py --lines 200000` writes the messages of the example's day, again and again,
and goes through them with `ivrel heard`, `wc -l` and `mawk` (or `awk`). The memory of `heard` is
measured for so many lines and for four times as many. `--dask` has it done by two workers of a
local Dask cluster, too, and by one process.
"""

from __future__ import annotations

import argparse
import shutil
import subprocess
import sys
import tempfile
import time
from itertools import cycle, islice
from pathlib import Path

from ivrel.demo.day import day
from ivrel.demo.workspace import write_workspace

MEASURED = (
    "import resource, subprocess, sys; subprocess.run(sys.argv[1:]); "
    "print(resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss, file=sys.stderr)"
)
OTHERS = (
    "measure silence", "measure clocks", "measure losses", "measure volume", "messages --by device",
    "messages --by kind",
)  # fmt: skip
IVREL = str(Path(sys.executable).parent / "ivrel")


def seconds(call: list[str]) -> tuple[float, int]:
    """Return how long a call takes, the faster of two, and the most memory that one of its
    processes takes, in MiB.
    """
    best = 9e9
    most = 0
    for _ in range(2):
        begun = time.monotonic()
        # In a process of its own, so that what other calls took is not counted.
        measured = [sys.executable, "-c", MEASURED, *call]
        done = subprocess.run(
            measured, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, check=False
        )
        best = min(best, time.monotonic() - begun)
        most = max(most, int(done.stderr.split()[-1]) // 1024)
    return best, most


def dask(words: list[str]) -> None:
    """Tell how long a call takes in one process, and with two workers of a local cluster."""
    import os

    from distributed import LocalCluster

    cpus = os.sched_getaffinity(0)
    alone, _ = seconds(["taskset", "-c", str(min(cpus)), IVREL, *words])
    options = {"n_workers": 2, "threads_per_worker": 1, "dashboard_address": ":0"}
    with LocalCluster(host="127.0.0.1", **options) as cluster:  # type: ignore[no-untyped-call]
        both, _ = seconds([IVREL, *words, "--scheduler", cluster.scheduler_address])
    print(f"  alone  {alone:8.2f} s, two workers of Dask {both:.2f} s")


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--lines", type=int, default=100_000, help="messages in the file")
    parser.add_argument("--dask", action="store_true", help="by two Dask workers, too")
    args = parser.parse_args()
    awk = shutil.which("mawk") or shutil.which("awk") or sys.exit("no mawk and no awk")
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        write_workspace(folder)
        lines = [one.data.replace(b"\n", b" ") + b"\n" for one in day()]
        memory: dict[str, list[int]] = {words: [] for words in ("heard", *OTHERS)}
        for times in (1, 4):
            path = folder / f"log{times}"
            with path.open("wb") as out:
                out.writelines(islice(cycle(lines), args.lines * times))
            heard, most = seconds([IVREL, "heard", "-w", name, str(path), "--format", "json"])
            memory["heard"].append(most)
            if times == 1:
                wc, _ = seconds(["wc", "-l", str(path)])
                counted, _ = seconds([awk, "{n[$4]++} END {for (h in n) print h, n[h]}", str(path)])
                print(f"{args.lines:,} messages, {path.stat().st_size / 1e6:.0f} MB")
                print(f"  heard  {heard:8.2f} s  {heard / args.lines * 1e6:6.2f} µs a message")
                ratio = f"heard takes {heard / counted:,.1f} times"
                print(f"  {Path(awk).name:<6} {counted:8.2f} s  {ratio}")
                print(f"  wc -l  {wc:8.2f} s  heard takes {heard / wc:,.0f} times")
            for words in OTHERS:
                call = [IVREL, *words.split(), "-w", name, str(path), "--format", "json"]
                took, most = seconds(call)
                memory[words].append(most)
                if times == 4:
                    print(f"  {words:22} {took:8.2f} s  {took / heard:.1f} times heard")
            if times == 1 and args.dask:
                dask(["heard", "-w", name, str(path), "--format", "json"])
        for words, (once, more) in memory.items():
            print(f"  memory of {words}: {once} MiB, of four times as many messages {more} MiB")


if __name__ == "__main__":
    main()
