"""Takes the pictures in docs/screenshots from the example, in a real terminal: needs Xvfb, xterm
imagemagick and chromium.

./do screenshots
"""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

HERE = Path(__file__).parent
PICTURES = {
    "audit": "ivrel audit holmsay-* tarsk-* --today 2026-11-23 | head -43",
    "explain": "ivrel explain tarsk-fw2 level; ivrel explain brannay-fw1 facility",
    "correct": "ivrel correct holmsay-sw1 orrin-gw1 brannay-fw2 --today 2026-11-23",
    "read": "ivrel read tarsk-sw1; ivrel fleet --site tarsk",
    "heard": "ivrel heard --at beacon-a=heard/beacon-a.jsonl --at beacon-b=heard/beacon-b.jsonl "
    "--at beacon-s=heard/beacon-s.jsonl --device 'orrin-*' --device holmsay-gw1 --setting export "
    "--setting facility --setting level --setting stamp --setting source --setting origin",
    "messages": "ivrel messages heard/beacon-a.jsonl --site tarsk --severity error --most 16; "
    "ivrel messages heard/beacon-*.jsonl --by kind --most 12",
    "measure": "ivrel measure silence heard/*.jsonl --site mv-gannet; "
    "ivrel measure losses heard/*.jsonl --site tarsk; "
    "ivrel measure volume heard/*.jsonl --by site --if-level debug",
    "trace": "ivrel trace heard/beacon-b.jsonl --line 14",
    "why": "ivrel why tarsk-sw1 --at beacon-a=heard/beacon-a.jsonl "
    "--at beacon-b=heard/beacon-b.jsonl",
    "policy": "ivrel policy --today 2026-11-23 | head -43",
    "learn": "ivrel dialect learn ours configs/holmsay-gw1.conf configs/orrin-gw3.conf "
    "configs/tarsk-gw1.conf configs/brannay-gw1.conf; ivrel dialect cover ours configs/*-gw1.conf",
    "dialect": "ivrel dialect try marl configs/orrin-sw2.conf | head -40",
}
PICTURES["whatif"] = (
    "ivrel policy --compare proposed.yaml kelby-fw1 brannay-sw1 brannay-gw2 tarsk-gw1 "
    "--today 2026-11-23; "
    "sed -i s/critical/error/ corrections/tarsk-fw2/change.txt; "
    "ivrel correct --prove corrections --site tarsk --today 2026-11-23"
)
# What is done with simulated devices, one of which does not speak, in this order.
SILENT = "holmsay-gw2"
LIVE = {
    "deliver": "ivrel deliver corrections --expect --udp 5514 --tcp 5601 --within 3s "
    "--stop-after 3 --no-ask --kind router --kind switch",
    "gather": "ivrel gather --since --kind router --kind switch --all | head -43",
}
# Pages, as a browser without a window shows them.
PAGES = {"sheet": "corrections/change-sheet.html"}
BROWSER = (
    *("chromium", "--headless", "--no-sandbox", "--disable-gpu", "--hide-scrollbars"),
    *("--disable-background-networking", "--disable-sync", "--window-size=1280,1240"),
)
HEARD = [f"heard/beacon-{name}.jsonl" for name in "abs"]
# What Matplotlib draws, without a terminal.
FIGURES = {
    "arrivals": ["silence", *HEARD],
    "clocks": ["clocks", *HEARD],
    "volume": ["volume", *HEARD, "--if-level", "debug"],
}


def main() -> None:
    tools = ("Xvfb", "xterm", "import", "chromium")
    missing = [tool for tool in tools if not shutil.which(tool)]
    if missing:
        sys.exit(
            f"screenshots: {', '.join(missing)} not found; on Debian: apt-get install xvfb xterm "
            "imagemagick chromium"
        )
    wanted = sys.argv[1:] or [*PICTURES, *FIGURES, *PAGES, *LIVE]
    with tempfile.TemporaryDirectory() as folder, screen() as display:
        env = {
            **os.environ,
            "DISPLAY": display,
            "PATH": f"{Path(sys.executable).parent}:{os.environ['PATH']}",
        }
        env.pop("COLUMNS", None)
        subprocess.run(
            [sys.executable, "-m", "ivrel", "demo", f"{folder}/demo"],
            env=env,
            check=True,
            capture_output=True,
        )
        for name in wanted:
            if name in FIGURES:
                target = HERE / "screenshots" / f"{name}.png"
                words = [*FIGURES[name], "--figure", str(target), "--format", "json"]
                call = [sys.executable, "-m", "ivrel", "measure", *words]
                subprocess.run(call, cwd=Path(folder) / "demo", env=env, capture_output=True)
                print(f"wrote docs/screenshots/{name}.png")
                continue
            if name in PAGES:
                target = HERE / "screenshots" / f"{name}.png"
                again = "correct --waves -o corrections --replace --today 2026-11-23".split()
                call = [sys.executable, "-m", "ivrel", *again]
                subprocess.run(call, cwd=Path(folder) / "demo", env=env, capture_output=True)
                page = f"file://{folder}/demo/{PAGES[name]}"
                profile = f"--user-data-dir={folder}/browser"
                call = [*BROWSER, profile, f"--screenshot={target}", page]
                subprocess.run(call, check=True, capture_output=True, timeout=60)
                print(f"wrote docs/screenshots/{name}.png")
                continue
            if name in PICTURES:
                take(name, PICTURES[name], Path(folder) / "demo", env)
        if any(name in LIVE for name in wanted):
            with living(Path(folder) / "live", env):
                for name in LIVE:
                    take(name, LIVE[name], Path(folder) / "live", env, seconds=40)


@contextmanager
def living(folder: Path, env: dict[str, str]) -> Iterator[None]:
    """Have the example run as simulated devices, with corrections that are ready."""

    def call(*words: str) -> None:
        where = () if words[0] == "standin" else ("-w", str(folder))
        call = [sys.executable, "-m", "ivrel", *words, *where]
        subprocess.run(call, env=env, stdout=subprocess.DEVNULL, check=False)

    call("standin", "--new", str(folder))
    words = ["standin", "-w", str(folder), "--fault", f"{SILENT}=silent"]
    devices = subprocess.Popen([sys.executable, "-m", "ivrel", *words], env=env)
    try:
        time.sleep(4)
        call("gather", "--learn-keys")
        call("gather")
        call("correct", "--waves", "-o", str(folder / "corrections"))
        yield
    finally:
        devices.terminate()
        devices.wait()


@contextmanager
def screen() -> Iterator[str]:
    """A virtual screen of 1280 by 800."""
    display = ":97"
    server = subprocess.Popen(
        ["Xvfb", display, "-screen", "0", "1280x800x24"], stderr=subprocess.DEVNULL
    )
    try:
        time.sleep(1)
        yield display
    finally:
        server.terminate()
        server.wait()


def take(name: str, command: str, folder: Path, env: dict[str, str], seconds: float = 6) -> None:
    """Runs a command line in a terminal of the whole screen and takes its picture after a time."""
    first = command.split(" | ")[0].split("; ")
    shown = "; ".join(f"printf '\\033[2m$ \\033[0m{part}\\n\\n'; {part}" for part in first)
    # A pipe would take the colours away: the terminal itself cuts off what is below its last line.
    if " | " in command:
        shown = f"script -qc '{first[0]}' /dev/null | {command.split(' | ')[1]}"
    script = f"{shown}; sleep 60"
    terminal = subprocess.Popen(
        [
            *("xterm", "-geometry", "140x46+0+0", "-fa", "DejaVu Sans Mono", "-fs", "11"),
            *("-bg", "#101418", "-fg", "#d8dee4", "+sb", "-b", "12", "-e", "sh", "-c", script),
        ],
        cwd=folder,
        env=env,
    )
    try:
        time.sleep(seconds)
        target = HERE / "screenshots" / f"{name}.png"
        subprocess.run(["import", "-window", "root", str(target)], env=env, check=True)
        print(f"wrote docs/screenshots/{name}.png")
    finally:
        terminal.terminate()
        terminal.wait()


if __name__ == "__main__":
    main()
