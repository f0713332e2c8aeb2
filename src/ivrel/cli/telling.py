"""What the demo says between its commands."""

from __future__ import annotations

import argparse
import sys
from pathlib import Path

from ivrel.cli import common


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
