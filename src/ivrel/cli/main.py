"""The program `ivrel`: finds the command, and turns what goes wrong into one clear line and an exit
code.
"""

from __future__ import annotations

import argparse
import io
import os
import sys
from collections.abc import Sequence
from importlib import import_module
from typing import NoReturn

from ivrel import __version__
from ivrel.cli.parsing import Parser
from ivrel.cli.problems import WRONG, guarded, let_go_of_output

# The commands, in the order of the work; each is the module of that name, imported only when it is
# called.
COMMANDS = {
    "demo": "write the example workspace and run the whole job in it",
    "new": "write a commented workspace to start from",
    "fleet": "list the devices and whether each one's configuration is found",
    "read": "show what was understood of one configuration",
    "audit": "judge the devices against the policy",
    "explain": "show one device's verdicts from both ends: the rules and the lines",
    "correct": "write corrections, back-outs and the change sheet, proved on the text",
    "listen": "take messages, show who speaks, and keep what is heard",
    "heard": "tell what the messages of each device prove and contradict",
    "why": "tell all that is known of a device: why it is not heard, or not as asked",
    "measure": "make figures of many messages: silence, clocks, losses, volume",
    "messages": "list or count the messages of collectors' files, in one order of time",
    "trace": "show one message through every decision: bytes, fields, departures, whose it is",
    "gather": "fetch the configurations from the devices",
    "deliver": "bring corrections to the devices in waves, with a way back",
    "standin": "run the fleet as simulated devices on this machine, to try things on",
    "policy": "check the policy; show what it asks of one device",
    "dialect": "list, show, check and try dialects; start a new one; apply a change",
}


def run() -> NoReturn:
    """The entry point."""
    sys.exit(main(sys.argv[1:]))


def main(words: Sequence[str]) -> int:
    """Run the program with these arguments and return its exit code."""
    _ready_streams()

    def run() -> int:
        try:
            code = _main(words)
        except SystemExit:  # of `--help`
            sys.stdout.flush()
            raise
        try:
            sys.stdout.flush()  # here, where it is told if that fails
        except BrokenPipeError:
            let_go_of_output()
        return code

    return guarded(run)


def _ready_streams() -> None:
    """Make sure that there is something to write to, and that it takes any sign."""
    for name in ("stdout", "stderr"):
        stream = getattr(sys, name)
        if stream is None:  # closed by whoever started the program
            setattr(sys, name, open(os.devnull, "w", encoding="utf-8"))  # noqa: SIM115, PTH123
        elif isinstance(stream, io.TextIOWrapper):
            stream.reconfigure(errors="backslashreplace")


def _main(words: Sequence[str]) -> int:
    parser = Parser(
        prog="ivrel",
        description="Audits the syslog export settings of a fleet, writes the correction, and "
        "proves it.",
        epilog="example:\n  ivrel demo                 see the whole job in a few seconds\n"
        "  ivrel audit -w FOLDER      audit your own workspace",
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )
    parser.add_argument("--version", action="version", version=f"ivrel {__version__}")
    commands = parser.add_subparsers(dest="command", metavar="COMMAND", parser_class=Parser)
    named = next((w for w in words if not w.startswith("-")), None)
    for name, about in COMMANDS.items():
        one = commands.add_parser(
            name,
            help=about,
            description=about,
            formatter_class=argparse.RawDescriptionHelpFormatter,
        )
        if name == named:
            import_module(f"ivrel.cli.{name}").arguments(one)
    args = parser.parse_args(list(words))
    if args.command is None:
        parser.print_help()
        return WRONG
    return int(args.run(args))
