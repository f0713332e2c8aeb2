"""The parser of the commands: errors in one line, options in groups."""

from __future__ import annotations

import argparse
from collections.abc import Sequence
from typing import Any, NoReturn

from ivrel.cli.problems import WRONG

# The groups of options, in the order in which a command's help shows them.
DEVICES = "which devices"
INPUT = "input"
MESSAGES = "messages"
JUDGING = "judging"
CARE = "care"
OUTPUT = "output"
SPEED = "speed"
GROUPS = (DEVICES, INPUT, MESSAGES, JUDGING, CARE, OUTPUT, SPEED)


class Parser(argparse.ArgumentParser):
    """A parser whose errors are one line, and whose options are in groups."""

    def __init__(self, *args: Any, **options: Any) -> None:
        super().__init__(*args, **options)
        # A group without options is not shown.
        self._by_title = {title: self.add_argument_group(title) for title in GROUPS}

    def group(self, title: str) -> argparse._ArgumentGroup:
        """Return a group of GROUPS; commands add their options to it."""
        return self._by_title[title]

    def format_usage(self) -> str:
        """Return the usage: arguments by name, and that there are options."""
        return f"usage: {self._short()}\n"

    def format_help(self) -> str:
        """Return the help, which begins with the usage."""
        whole = super().format_help()
        _, _, rest = whole.partition("\n\n")
        return f"usage: {self._short()}\n\n{rest}"

    def _short(self) -> str:
        words = [self.prog, "[options]"]
        for action in self._arguments_of():
            name = str(action.metavar or action.dest)
            many = {"*": f"[{name} ...]", "+": f"{name} [{name} ...]", "?": f"[{name}]"}
            words.append(many.get(str(action.nargs), name))
        return " ".join(words)

    def _arguments_of(self) -> Sequence[argparse.Action]:
        return [one for one in self._actions if not one.option_strings]

    def error(self, message: str) -> NoReturn:
        """End the program with one line and exit code 2."""
        self.exit(WRONG, f"{self.prog}: {message}; see '{self.prog} --help'\n")
