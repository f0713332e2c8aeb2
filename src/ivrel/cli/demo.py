"""`ivrel demo [DIR]`: writes the example workspace and runs the whole job in it, telling what it
does.
"""

from __future__ import annotations

import argparse
import sys
from pathlib import Path

from ivrel.cli import common


def arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "folder", nargs="?", default="ivrel-demo", metavar="DIR", help="default: ivrel-demo"
    )
    parser.add_argument(
        "--replace", action="store_true", help="write into a folder that already holds something"
    )
    common.example(parser, "ivrel demo", "ivrel demo /tmp/skerry --replace")
    parser.set_defaults(run=run)


def run(args: argparse.Namespace) -> int:
    from ivrel.cli.main import main
    from ivrel.demo.workspace import entries, write_workspace
    from ivrel.sources.dialects import Dialects
    from ivrel.sources.files import (
        claim_folder,
        read_configuration,
        read_text,
        write_configuration,
        write_text,
    )

    folder = Path(args.folder)
    claim_folder(folder, args.replace)
    devices = entries()
    seeds = sum(len(e.seeds) for e in devices)
    say = _Teller()
    say(
        f"Skerry Line, a ferry company: {len(devices)} devices of "
        f"{len({e.platform for e in devices})} platforms, "
        f"three collectors, "
        f"{seeds} faults hidden in the configurations. One device is clean."
    )
    write_workspace(folder)
    say.command(f"ivrel fleet -w {folder}", "The devices, and where their configurations are:")
    main(["fleet", "-w", str(folder)])
    say.command(f"ivrel audit -w {folder}", "Every device against the policy, the worst first:")
    first = main(["audit", "-w", str(folder)])
    say.command(
        f"ivrel explain -w {folder} tarsk-fw2 level",
        "One verdict, from the rule and from the line:",
    )
    main(["explain", "-w", str(folder), "tarsk-fw2", "level"])
    out = folder / "corrections"
    say.command(
        f"ivrel correct -w {folder} -o {out}",
        "The corrections, each proved on the text that it is made for:",
    )
    main(["correct", "-w", str(folder), "-o", str(out), "--replace"])
    say.step(
        f"Applying the corrections to copies, as the platforms would, into {folder}/corrected:"
    )
    copies, dialects = folder / "corrected", Dialects()
    for name in ("fleet.yaml", "policy.yaml"):
        write_text(copies / name, read_text(folder / name, name))
    for e in devices:
        name = e.device if e.files else f"{e.device}.conf"
        config, change = folder / "configs" / name, out / e.device / "change.txt"
        before = data = read_configuration(config, name)
        if change.exists():
            from ivrel.core.correcting.changes import apply_change

            data = apply_change(dialects[e.platform], data, change.read_text(), str(change))
        write_configuration(copies / "configs" / name, data, before)
    say.command(f"ivrel audit -w {copies}", "And the audit of the copies:")
    second = main(["audit", "-w", str(copies)])
    done = first == 1 and second == 0
    say.step(
        f"{'Every fault was found, corrected and proved' if done else 'Something went wrong'}. "
        f"Look around in {folder}; docs start in README.md; your own fleet starts with 'ivrel "
        "new FOLDER'."
    )
    return 0 if done else 1


class _Teller:
    """Tells between the commands what is shown."""

    def __call__(self, text: str) -> None:
        from ivrel.output.terminal.screen import console

        sys.stdout.flush()
        console(common.columns(argparse.Namespace(width=None))).print(text, style="italic")

    def step(self, text: str) -> None:
        print()
        self(text)

    def command(self, command: str, text: str) -> None:
        from ivrel.output.terminal.screen import console, line

        self.step(text)
        line(console(1000), ("$ ", "dim"), (command, "bold cyan"))
        print(flush=True)
