"""`ivrel demo [DIR]`: writes the example workspace and runs the whole job in it, telling what it
does.
"""

from __future__ import annotations

import argparse
import sys
from pathlib import Path

from ivrel.cli import common
from ivrel.cli.parsing import Parser


def arguments(parser: Parser) -> None:
    """Add the arguments of the command."""
    parser.add_argument(
        "folder",
        nargs="?",
        default="ivrel-demo",
        metavar="DIR",
        help="folder to write (default: ivrel-demo)",
    )
    parser.add_argument(
        "--replace", action="store_true", help="write into the folder even if it is not empty"
    )
    parser.add_argument(
        "--live",
        action="store_true",
        help="run the fleet as simulated devices on this machine and deliver the "
        "corrections to them",
    )
    common.example(
        parser, "ivrel demo", "ivrel demo /tmp/skerry --replace", "ivrel demo --live --replace"
    )
    parser.set_defaults(run=run)


def run(args: argparse.Namespace) -> int:
    """Run the command and return its exit code."""
    if args.live:
        from ivrel.cli.live_demo import run as live

        return live(args)
    return _on_files(args)


def _on_files(args: argparse.Namespace) -> int:
    """Run the job on saved configurations."""
    from ivrel.cli.main import main
    from ivrel.demo.day import write_day
    from ivrel.demo.workspace import entries, write_workspace
    from ivrel.sources.files import claim_folder

    folder = Path(args.folder)
    claim_folder(folder, args.replace)
    devices = entries()
    seeds = sum(len(e.seeds) for e in devices)
    platforms = len({e.platform for e in devices})
    say = Teller()
    say(
        f"Skerry Line, a ferry company: {len(devices)} devices of {platforms} platforms, three "
        f"collectors, {seeds} faults hidden in the configurations. One device is clean."
    )
    write_workspace(folder)
    out, copies = folder / "corrections", folder / "corrected"

    call = say.call
    call("The devices, and where their configurations are:", "fleet", "-w", folder)
    first = call("Every device against the policy, the worst first:", "audit", "-w", folder)
    one = ("explain", "-w", folder, "tarsk-fw2", "level")
    call("One verdict, from the rule and from the line:", *one)
    told = "The corrections, each proved on the text that it is made for, in waves:"
    say.command(f"ivrel correct -w {folder} --waves -o {out}", told)
    main(["correct", "-w", str(folder), "--waves", "-o", str(out), "--replace"])
    say.step(f"A day of messages, as they arrive at the collectors, into {folder / 'heard'}:")
    write_day(folder / "heard")
    call(
        "What the messages prove and contradict; also what no configuration tells of:",
        *("heard", "-w", folder, "--device", "holmsay-gw1", "--device", "orrin-fw1"),
        *(f"--at={name}={folder / 'heard' / name}.jsonl" for name in ("beacon-a", "beacon-b")),
    )
    call(
        "And what many messages tell of clocks, each by its stamps and the times of arrival:",
        *("measure", "clocks", "-w", folder),
        *("--device", "orrin-gw3", "--device", "tarsk-sw3", "--device", "brannay-gw*"),
        *(str(folder / "heard" / f"{name}.jsonl") for name in ("beacon-a", "beacon-b")),
    )
    say.step(f"Applying the corrections to copies, as the platforms would, into {copies}:")
    _write_copies(folder, out, copies)
    second = call("And the audit of the copies:", "audit", "-w", copies)
    done = first == 1 and second == 0
    say.step(
        f"{'Every fault was found, corrected and proved' if done else 'Something went wrong'}. "
        f"Look around in {folder}; docs start in README.md; your own fleet starts with "
        "'ivrel new FOLDER'."
    )
    return 0 if done else 1


def _write_copies(folder: Path, changes: Path, copies: Path) -> None:
    """Write a workspace whose configurations have been corrected as their platforms would."""
    from ivrel.core.correcting.changes import apply_change
    from ivrel.demo.workspace import entries
    from ivrel.sources.dialects import Dialects
    from ivrel.sources.files import read_configuration, read_text, write_configuration, write_text

    dialects = Dialects()
    for name in ("fleet.yaml", "policy.yaml"):
        write_text(copies / name, read_text(folder / name, name))
    for e in entries():
        name = e.device if e.files else f"{e.device}.conf"
        change = changes / e.device / "change.txt"
        before = data = read_configuration(folder / "configs" / name, name)
        if change.exists():
            data = apply_change(dialects[e.platform], data, change.read_text(), str(change))
        write_configuration(copies / "configs" / name, data, before)


class Teller:
    """Tells between the commands what is shown."""

    def __call__(self, text: str) -> None:
        from ivrel.output.terminal.screen import console

        sys.stdout.flush()
        console(common.columns(argparse.Namespace(width=None))).print(text, style="italic")

    def step(self, text: str) -> None:
        print()
        self(text)

    def call(self, told: str, *words: str | Path) -> int:
        """Run a command of the program, and return its exit code."""
        from ivrel.cli.main import main

        said = [str(word) for word in words]
        self.command(f"ivrel {' '.join(said)}", told)
        return main(said)

    def command(self, command: str, text: str) -> None:
        from ivrel.output.terminal.screen import console, line

        self.step(text)
        line(console(1000), ("$ ", "dim"), (command, "bold cyan"))
        print(flush=True)
