"""The program `ivrel`: finds the command, and turns what goes wrong into one clear line and an exit code."""

from __future__ import annotations

import argparse
import io
import os
import sys
from collections.abc import Sequence
from importlib import import_module
from typing import NoReturn

from ivrel import __version__

# The commands, in the order of the work; each is the module of that name, imported only when it is called.
COMMANDS = {
    "demo": "write the example workspace and run the whole job in it",
    "new": "write a commented workspace to start from",
    "fleet": "list the devices and whether each one's configuration is found",
    "read": "show what was understood of one configuration",
    "audit": "judge the devices against the policy",
    "explain": "show one device's verdicts from both ends: the rules and the lines",
    "correct": "write corrections, back-outs and the change sheet, proved on the text",
    "policy": "check the policy; show what it asks of one device",
    "dialect": "list, show, check and try dialects; start a new one; apply a change",
}

GOOD, WRONG = 0, 2  # 1 is a command's own: something does not meet what is asked


class Parser(argparse.ArgumentParser):
    """A parser whose mistakes are one line."""

    def error(self, message: str) -> NoReturn:
        self.exit(WRONG, f"{self.prog}: {message}; see '{self.prog} --help'\n")


def run() -> NoReturn:
    """The entry point."""
    sys.exit(main(sys.argv[1:]))


def main(words: Sequence[str]) -> int:
    """Runs the program with these arguments and returns its exit code."""
    _ready_streams()
    try:
        code = _main(words)
        sys.stdout.flush()
        return code
    except BrokenPipeError:
        # Whoever read the output has had enough; what is left in the buffer must not complain either.
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return GOOD
    except KeyboardInterrupt:
        return 130
    except OSError as problem:
        name = f"{problem.filename}: " if problem.filename else ""
        print(f"ivrel: {name}{(problem.strerror or str(problem)).lower()}", file=sys.stderr)
        return WRONG
    except Exception as problem:
        if os.environ.get("IVREL_TRACEBACK"):
            raise
        said = f"{type(problem).__name__}: {str(problem)[:200]!a}"
        print(f"ivrel: an error in Ivrel itself, {said}; IVREL_TRACEBACK=1 shows where", file=sys.stderr)
        return WRONG


def _ready_streams() -> None:
    """Makes sure that there is something to write to, and that it takes any sign."""
    for name in ("stdout", "stderr"):
        stream = getattr(sys, name)
        if stream is None:  # closed by whoever started the program
            setattr(sys, name, open(os.devnull, "w", encoding="utf-8"))  # noqa: SIM115, PTH123
        elif isinstance(stream, io.TextIOWrapper):
            stream.reconfigure(errors="backslashreplace")


def _main(words: Sequence[str]) -> int:
    parser = Parser(
        prog="ivrel",
        description="Audits the syslog export settings of a fleet, writes the correction, and proves it.",
        epilog="example:\n  ivrel demo                 see the whole job in a few seconds\n"
        "  ivrel audit -w FOLDER      audit your own workspace",
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )
    parser.add_argument("--version", action="version", version=f"ivrel {__version__}")
    commands = parser.add_subparsers(dest="command", metavar="COMMAND", parser_class=Parser)
    named = next((w for w in words if not w.startswith("-")), None)
    for name, about in COMMANDS.items():
        one = commands.add_parser(
            name, help=about, description=about, formatter_class=argparse.RawDescriptionHelpFormatter
        )
        if name == named:
            import_module(f"ivrel.cli.{name}").arguments(one)
    args = parser.parse_args(list(words))
    if args.command is None:
        parser.print_help()
        return WRONG
    from ivrel.core.mistakes import InputError, Unreadable, plain

    try:
        return int(args.run(args))
    except InputError as problem:
        for mistake in problem.mistakes:
            print(f"ivrel: {plain(str(mistake))}", file=sys.stderr)
        return WRONG
    except Unreadable as problem:
        print(f"ivrel: {plain(str(problem))}", file=sys.stderr)
        return WRONG
