"""`ivrel demo [DIR]`: writes the example workspace and runs the whole job in it, telling what it
does.
"""

from __future__ import annotations

import argparse
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
    from ivrel.cli.telling import Teller
    from ivrel.demo.copies import write_copies
    from ivrel.demo.day import write_day
    from ivrel.demo.displays import write_displays
    from ivrel.demo.workspace import entries, new_workspace

    folder = Path(args.folder)
    new_workspace(folder, replace=args.replace)
    devices = entries()
    seeds = sum(len(e.seeds) for e in devices)
    platforms = len({e.platform for e in devices})
    say = Teller()
    say(
        f"Skerry Line, a ferry company: {len(devices)} devices of {platforms} platforms, three "
        f"collectors, {seeds} faults hidden in the configurations. One device is clean."
    )
    out = folder / "corrections"
    copies = folder / "corrected"

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
    write_displays(folder)
    call(
        "What the messages prove and contradict; also what no configuration tells of:",
        *("heard", "-w", folder, "--device", "holmsay-gw1", "--device", "orrin-fw1"),
        *(f"--at={name}={folder / 'heard' / name}.jsonl" for name in ("beacon-a", "beacon-b")),
    )
    call(
        "One device from three sides: its configuration, its own counters, what really came:",
        *("why", "-w", folder, "tarsk-sw1"),
        *(f"--at={name}={folder / 'heard' / name}.jsonl" for name in ("beacon-a", "beacon-b")),
    )
    call(
        "And what many messages tell of clocks, each by its stamps and the times of arrival:",
        *("measure", "clocks", "-w", folder),
        *("--device", "orrin-gw3", "--device", "tarsk-sw3", "--device", "brannay-gw*"),
        *(str(folder / "heard" / f"{name}.jsonl") for name in ("beacon-a", "beacon-b")),
    )
    say.step(f"Applying the corrections to copies, as the platforms would, into {copies}:")
    write_copies(folder, out, copies)
    second = call("And the audit of the copies:", "audit", "-w", copies)
    done = first == 1 and second == 0
    say.step(
        f"{'Every fault was found, corrected and proved' if done else 'Something went wrong'}. "
        f"Look around in {folder}; docs start in README.md; your own fleet starts with "
        "'ivrel new FOLDER'."
    )
    return 0 if done else 1
