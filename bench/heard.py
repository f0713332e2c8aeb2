"""What messages come to, as a ratio to `wc -l` and to `mawk` counting lines by host.

`python bench/heard.py --lines 200000` writes the messages of the example's day, again and again,
and goes through them with `ivrel heard`, `wc -l` and `mawk` (or `awk`). The memory of `heard` is
measured for so many lines and for four times as many.
"""

from __future__ import annotations

import argparse
import resource
import shutil
import subprocess
import sys
import tempfile
import time
from itertools import cycle, islice
from pathlib import Path

from ivrel.demo.day import day
from ivrel.demo.workspace import write_workspace

IVREL = str(Path(sys.executable).parent / "ivrel")


def seconds(call: list[str]) -> tuple[float, int]:
    """Return how long a call takes, the faster of two, and the most memory of any call so far in
    MiB.
    """
    best = 9e9
    for _ in range(2):
        begun = time.monotonic()
        subprocess.run(call, stdout=subprocess.DEVNULL, check=False)
        best = min(best, time.monotonic() - begun)
    return best, resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss // 1024


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--lines", type=int, default=100_000, help="messages in the file")
    args = parser.parse_args()
    awk = shutil.which("mawk") or shutil.which("awk") or sys.exit("no mawk and no awk")
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        write_workspace(folder)
        lines = [one.data.replace(b"\n", b" ") + b"\n" for one in day()]
        memory = []
        for times in (1, 4):
            path = folder / f"log{times}"
            with path.open("wb") as out:
                out.writelines(islice(cycle(lines), args.lines * times))
            heard, most = seconds([IVREL, "heard", "-w", name, str(path), "--format", "json"])
            memory.append(most)
            if times == 1:
                wc, _ = seconds(["wc", "-l", str(path)])
                counted, _ = seconds([awk, "{n[$4]++} END {for (h in n) print h, n[h]}", str(path)])
                print(f"{args.lines:,} messages, {path.stat().st_size / 1e6:.0f} MB")
                print(f"  heard  {heard:8.2f} s  {heard / args.lines * 1e6:6.1f} µs a message")
                ratio = f"heard takes {heard / counted:,.0f} times"
                print(f"  {Path(awk).name:<6} {counted:8.2f} s  {ratio}")
                print(f"  wc -l  {wc:8.2f} s  heard takes {heard / wc:,.0f} times")
        print(f"  memory {memory[0]} MiB, of four times as many messages {memory[1]} MiB")


if __name__ == "__main__":
    main()
