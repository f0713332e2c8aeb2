"""Times the start of the program against an interpreter that only reads arguments, and prints the
ratios.

python bench/start.py
"""

from __future__ import annotations

import subprocess
import sys
import time
from pathlib import Path

ROUNDS = 15


def fastest(*words: str) -> float:
    """Return the shortest of some runs, in seconds."""
    times = []
    for _ in range(ROUNDS):
        start = time.perf_counter()
        subprocess.run(words, capture_output=True, check=True)
        times.append(time.perf_counter() - start)
    return min(times)


def main() -> None:
    program = str(Path(sys.executable).parent / "ivrel")
    yardstick = fastest(sys.executable, "-c", "import argparse, json")
    print(f"import argparse, json   {yardstick * 1000:6.1f} ms")
    for words in (["--version"], ["audit", "--help"]):
        took = fastest(program, *words)
        print(f"ivrel {' '.join(words):<17} {took * 1000:6.1f} ms   ratio {took / yardstick:.1f}")


if __name__ == "__main__":
    main()
