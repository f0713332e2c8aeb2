"""Times whole `ivrel audit` runs against one `grep -c` over the same files, in turns, and prints
the ratio.

    python bench/audit.py --devices 10000 --lines 1300

The yardstick is the machine's own reading speed, so that figures of different machines can be
compared.
"""

from __future__ import annotations

import argparse
import os
import resource
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from statistics import median

import msgspec
from generate import generate

from ivrel.core.judging.judge import judge, scope_of
from ivrel.core.policy import effective
from ivrel.core.reading.records import read_records
from ivrel.core.settings.relevance import slots_to_read
from ivrel.sources.workspace import WorkspaceFiles

HERE = Path(__file__).parent
# Neither is usual, and both cost time: modules compiled anew at each start, output written byte by
# byte.
UNUSUAL = ("PYTHONDONTWRITEBYTECODE", "PYTHONUNBUFFERED")
PLAIN = {
    **{name: value for name, value in os.environ.items() if name not in UNUSUAL},
    "LC_ALL": "C",
}


def timed(command: list[str], codes: tuple[int, ...]) -> float:
    """Seconds that a command takes.

    Its output goes to a file, for grep stops early when it goes to /dev/null.
    """
    with tempfile.TemporaryFile() as out:
        start = time.perf_counter()
        done = subprocess.run(command, stdout=out, stderr=subprocess.DEVNULL, env=PLAIN)
        took = time.perf_counter() - start
    if done.returncode not in codes:
        sys.exit(f"{command[0]} ended with {done.returncode}")
    return took


def stages(folder: Path, devices: int) -> dict[str, float]:
    """Seconds that each stage of an audit takes for so many devices, one after the other in one
    process.
    """
    workspace = WorkspaceFiles(folder)
    some = workspace.fleet.devices[:devices]
    policy = workspace.policy
    took = dict.fromkeys(("files", "text to records", "judging", "writing"), 0.0)
    clock = time.perf_counter
    for device in some:
        dialect, asked = workspace.dialects[device.platform], effective(policy, device)
        start = clock()
        data, file = workspace.text(device)
        read = clock()
        records = read_records(dialect, data, slots_to_read(dialect, asked))
        known = clock()
        verdicts = judge(scope_of(device, records, policy, asked), asked, file)
        judged = clock()
        msgspec.json.encode(verdicts)
        for stage, seconds in zip(
            took, (read - start, known - read, judged - known, clock() - judged), strict=True
        ):
            took[stage] += seconds
    return took


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--devices", type=int, default=10_000)
    parser.add_argument("--lines", type=int, default=1300)
    parser.add_argument("--rounds", type=int, default=5)
    parser.add_argument("--format", default="json")
    args = parser.parse_args()
    folder = HERE / "data" / f"{args.devices}x{args.lines}"
    if not (folder / "fleet.csv").exists():
        print(f"generating {args.devices} devices of about {args.lines} lines", file=sys.stderr)
        generate(folder, args.devices, args.lines)
    files = sorted(str(path) for path in (folder / "configs").iterdir())
    size = sum(Path(path).stat().st_size for path in files)
    grep = ["grep", "-c", "events", *files]
    audit = [sys.executable, "-m", "ivrel", "audit", "-w", str(folder), "--format", args.format]
    timed(audit, (0, 1))  # the first run after a change compiles what changed
    greps, audits = [], []
    for _ in range(args.rounds):
        greps.append(timed(grep, (0, 1)))
        audits.append(timed(audit, (0, 1)))
    ratio = median(a / g for a, g in zip(audits, greps, strict=True))
    peak = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss / 1024
    print(f"{args.devices} devices, {size / 1e6:.0f} MB, medians of {args.rounds} rounds in turns")
    print(f"grep -c       {median(greps):7.3f} s")
    print(f"ivrel audit   {median(audits):7.3f} s   {args.devices / median(audits):,.0f} devices/s")
    print(f"ratio         {ratio:7.1f}")
    took = stages(folder, 500)
    whole = sum(took.values())
    print(
        "of which      "
        + ", ".join(f"{stage} {seconds / whole:.0%}" for stage, seconds in took.items())
    )
    print(f"peak memory   {peak:7.0f} MB (the largest process)")


if __name__ == "__main__":
    main()
