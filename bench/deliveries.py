"""Kills deliveries at random moments, and shows that no device is left at a third state.

python bench/deliveries.py [--devices N] [--kills N] [--faults SHARE] [--seed N]

Each round begins with the same fleet of stand-ins, of whose sessions a share has a fault. The
delivery is killed (SIGKILL), its resumption too, several times; then it is resumed to its end.
Every device must read as before or as proved, and as the journal says.
"""

from __future__ import annotations

import argparse
import shutil
import subprocess
import sys
import tempfile
import time
from collections import Counter
from pathlib import Path
from random import Random

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

from fleets import PROGRAM, call, kill, proved_texts, standins, states, third_states, write_fleet

KILLS = 5  # of one round
START = 0.4  # seconds in which the program only starts
CAREFUL = ("--no-ask", "--stop-after", "100000", "--at-once", "40")


def main() -> None:
    """Kill, resume, compare; the exit code is 1 if a device is at a third state."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--devices", type=int, default=200)
    parser.add_argument("--kills", type=int, default=100)
    parser.add_argument("--faults", type=float, default=0.1)
    parser.add_argument("--seed", type=int, default=1)
    args = parser.parse_args()
    dice, killed, wrong = Random(args.seed), 0, 0
    ended: Counter[str] = Counter()
    rounds = 0
    with tempfile.TemporaryDirectory() as name:
        folder, corrections = Path(name) / "w", Path(name) / "corrections"
        write_fleet(folder, args.devices)
        with standins(folder):
            call("gather", "-w", folder)
        call("correct", "-w", folder, "--waves", "--first", "40", "-o", corrections, code=None)
        befores, proved = proved_texts(folder, corrections)
        seconds = 0.0
        while killed < args.kills:
            rounds += 1
            for path in (folder / ".ivrel").glob("deliver*"):  # each round has a journal of its own
                shutil.rmtree(path) if path.is_dir() else path.unlink()
            faults = ("--faults", str(args.faults), "--seed", str(args.seed * 1000 + rounds))
            with standins(folder, *faults):
                begun = time.monotonic()
                for _ in range(KILLS if seconds else 0):
                    left = _left(folder)
                    moment = START + dice.random() * (seconds - START) * left
                    killed += left > 0 and _killed(_words(folder, corrections), moment)
                call(*_words(folder, corrections), code=None)
                # How long one takes that is not killed is measured once.
                seconds = seconds or time.monotonic() - begun
                found = third_states(folder, befores, proved)
                ended.update(states(folder).values())
            wrong += len(found)
            for line in found:
                print(line)
            print(f"round {rounds}: {killed} kills, {len(found)} wrong", flush=True)
    print(f"{args.devices} devices, {killed} deliveries killed in {rounds} rounds")
    print(", ".join(f"{number} {state}" for state, number in ended.most_common()))
    print(f"{wrong} devices at a third state, or at another than the journal says")
    sys.exit(1 if wrong else 0)


def _words(folder: Path, corrections: Path) -> list[str]:
    """Return the call that begins a delivery, or goes on with what was begun."""
    what = "--resume" if states(folder) else str(corrections)
    return ["deliver", "-w", str(folder), what, *CAREFUL]


def _left(folder: Path) -> float:
    """Return the share of the devices that are not done."""
    said = states(folder)
    if not said:
        return 1.0
    return sum(state in ("waiting", "in flight", "in doubt") for state in said.values()) / len(said)


def _killed(words: list[str], seconds: float) -> bool:
    """Run the program and kill it after so many seconds; return whether it was still running."""
    process = subprocess.Popen(
        [PROGRAM, *words], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
    )
    try:
        process.wait(seconds)
    except subprocess.TimeoutExpired:
        kill(process)
        return True
    return False


if __name__ == "__main__":
    main()
