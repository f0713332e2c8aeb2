"""What the commands share: the same selection, the same formats, the same remarks."""

from __future__ import annotations

import argparse
import os
import shutil
import sys
from collections.abc import Iterable, Sequence
from datetime import date
from shlex import quote
from typing import TYPE_CHECKING, cast

from ivrel.cli.bar import Bar
from ivrel.cli.parsing import DEVICES, INPUT, JUDGING, OUTPUT, SPEED, Parser
from ivrel.cli.problems import WRONG
from ivrel.output.machine.formats import ANY, formats_of

if TYPE_CHECKING:
    from ivrel.core.fleet import Device
    from ivrel.output.views.view import View
    from ivrel.work.workspace import SelectionOptions, Workspace

MIB = 1 << 20
LARGEST, LONGEST_LINE = 64, 1  # MiB of a configuration, and of a line of it
SLOW = 200  # devices from which on progress is shown


class Words(argparse.Action):
    """Takes words divided by commas, each time that the option is given."""

    def __call__(
        self, parser: object, space: argparse.Namespace, said: object, option: object = None
    ) -> None:
        words = [word for word in str(said).split(",") if word]
        if not words:
            raise argparse.ArgumentError(self, "expected a name")
        # A new list: the default is one object for all calls.
        setattr(space, self.dest, [*getattr(space, self.dest), *words])


def workspace_argument(parser: Parser) -> None:
    """Add the option that names the workspace."""
    parser.group(INPUT).add_argument(
        "-w",
        "--workspace",
        metavar="DIR",
        default=".",
        help="workspace folder (default: the current folder)",
    )


def policy_argument(parser: Parser) -> None:
    """Add the option that names another policy than the workspace's."""
    parser.group(JUDGING).add_argument(
        "--policy",
        metavar="FILE",
        default="",
        help="use this policy file instead of the workspace's",
    )


def format_argument(parser: Parser, shows: str = ANY) -> None:
    """Add the options of the output; `shows`: the kind of view that the command shows."""
    parser.group(OUTPUT).add_argument(
        "--format",
        choices=("table", *formats_of(shows)),
        default="table",
        help="output format (default: table)",
    )
    parser.group(OUTPUT).add_argument(
        "--width",
        type=_width,
        metavar="N",
        help="width of tables in columns (default: width of the terminal)",
    )


def show(view: View, args: argparse.Namespace) -> None:
    """Write what a command shows, in the form that the call asks for.

    Whoever read the output may have had enough: the exit code is reported all the same.
    """
    from ivrel.cli.problems import let_go_of_output
    from ivrel.output import show as written

    try:
        written(view, args.format, columns(args))
        sys.stdout.flush()
    except BrokenPipeError:
        let_go_of_output()


def by_argument(parser: Parser, *more: str) -> None:
    """Add the options that fold many devices; `more`: what else they can be counted by."""
    groups = ("site", "kind", "platform", *more)
    parser.group(OUTPUT).add_argument(
        "--by",
        choices=groups,
        default="",
        help="group devices by this, and show what they have in common once",
    )
    parser.group(OUTPUT).add_argument(
        "--all", action="store_true", help="list everything, even for a large fleet"
    )


def scheduler_arguments(parser: Parser, what: str = "configurations") -> None:
    """Add the options that give the work to a Dask cluster; `what`: what its workers read."""
    parser.group(SPEED).add_argument(
        "--scheduler",
        metavar="ADDRESS",
        default="",
        help="run on the workers of this Dask scheduler (pip install 'ivrel[scale]')",
    )
    parser.group(SPEED).add_argument(
        "--send",
        action="store_true",
        help=f"with --scheduler: send the {what} to the workers, which otherwise read "
        "them from the same path",
    )


def cluster_of(args: argparse.Namespace) -> str:
    """Return the address of the scheduler that does the work; '' if this machine does it."""
    from ivrel.core.vocabulary.errors import InputError

    scheduler = getattr(args, "scheduler", "")
    if getattr(args, "send", False) and not scheduler:
        raise InputError("--send sends configurations to a scheduler; name it with --scheduler")
    return str(scheduler)


def folding_of(args: argparse.Namespace) -> str:
    """Return the key for counting devices; '' if each is shown. Machines always get each."""
    from ivrel.core.vocabulary.errors import InputError

    if args.by and args.format != "table":
        said = f"--by counts in a table, and --format is {args.format}; leave one of them out"
        raise InputError(said)
    return str(args.by)


def choice_arguments(parser: Parser, *, devices: bool = True) -> None:
    """Add what chooses devices; `devices`: whether also by name."""
    if devices:
        parser.add_argument(
            "device", nargs="*", help="device names or globs (default: all devices)"
        )
    for name in ("kind", "site", "group"):
        parser.group(DEVICES).add_argument(
            f"--{name}",
            action=Words,
            default=[],
            metavar=name.upper(),
            help=f"only devices of this {name}, or of several (a,b); can be repeated",
        )


def at_once_argument(parser: Parser, most: int = 50) -> None:
    """Add the option that says how many devices are talked to at a time."""
    parser.group(SPEED).add_argument(
        "--at-once",
        type=whole_number,
        default=most,
        metavar="N",
        help=f"number of devices to talk to at the same time (default: {most})",
    )


def setting_argument(parser: Parser) -> None:
    """Add the option that chooses settings."""
    parser.group(JUDGING).add_argument(
        "--setting",
        action=Words,
        default=[],
        metavar="SETTING",
        help="only this setting, or several (a,b); can be repeated",
    )


def text_argument(parser: Parser) -> None:
    """Add the options that give a configuration in the place of a file."""
    parser.group(INPUT).add_argument(
        "--largest",
        type=_mebibytes,
        default=LARGEST,
        metavar="MIB",
        help="refuse configurations larger than this (default: 64 MiB)",
    )
    parser.group(INPUT).add_argument(
        "--longest-line",
        type=_mebibytes,
        default=LONGEST_LINE,
        metavar="MIB",
        help="refuse configurations with a line longer than this (default: 1 MiB)",
    )
    parser.group(INPUT).add_argument(
        "--text",
        metavar="FILE",
        help="read the device's configuration from this file instead; '-' reads standard input",
    )


def given_text(args: argparse.Namespace, workspace: Workspace, devices: Sequence[Device]) -> None:
    """Use the configuration that a call gives, instead of the device's file."""
    if args.text is None:
        return
    from ivrel.core.vocabulary.errors import InputError

    if len(devices) != 1:
        raise InputError(
            f"--text gives the configuration of one device, and {len(devices)} are chosen"
        )
    workspace.use_text(devices[0], args.text)


def today_argument(parser: Parser) -> None:
    """Add the option that gives the day."""
    parser.group(JUDGING).add_argument(
        "--today",
        type=_day,
        metavar="YYYY-MM-DD",
        default=None,
        help="judge waivers as of this day (default: today)",
    )


def example(parser: Parser, *lines: str) -> None:
    """Set the examples at the end of the help."""
    parser.epilog = "example:\n" + "\n".join(f"  {line}" for line in lines)


def _day(text: str) -> date:
    try:
        return date.fromisoformat(text)
    except ValueError:
        raise argparse.ArgumentTypeError(f"'{text[:40]}' is not a day; write YYYY-MM-DD") from None


def whole_number(text: str) -> int:
    """Return a number of things, from 1 on."""
    if not (text.isascii() and text.isdigit()) or not int(text[:10]) > 0:
        raise argparse.ArgumentTypeError(f"'{text[:40]}' is not a number; expected 1 or more")
    return int(text[:10])


def _width(text: str) -> int:
    if not (text.isascii() and text.isdigit()) or not 40 <= int(text) <= 1000:
        raise argparse.ArgumentTypeError(f"'{text[:40]}' is not a width; expected 40 to 1000")
    return int(text)


def _mebibytes(text: str) -> int:
    if not (text.isascii() and text.isdigit()) or not 0 < int(text[:7]) <= 100_000:
        raise argparse.ArgumentTypeError(f"'{text[:40]}' is not a size; expected 1 to 100000 MiB")
    return int(text)


def open_workspace(args: argparse.Namespace, bar: Bar | None = None) -> Workspace:
    """Return the workspace of a call; `bar`: shows the progress of its runs."""
    from ivrel.work.workspace import Workspace

    return Workspace(
        args.workspace,
        policy=getattr(args, "policy", ""),
        today=getattr(args, "today", None),
        progress=bar or Bar(SLOW),
        largest=getattr(args, "largest", LARGEST),
        longest_line=getattr(args, "longest_line", LONGEST_LINE),
        scheduler=cluster_of(args),
        send=getattr(args, "send", False),
    )


def chosen(args: argparse.Namespace, workspace: Workspace) -> tuple[Device, ...]:
    """Return the devices that a call is about."""
    names = getattr(args, "device", ())
    given = {
        "devices": (names,) if isinstance(names, str) else names,
        "kinds": args.kind,
        "sites": args.site,
        "groups": args.group,
    }
    # What a call does not name is not selected by.
    selection = cast("SelectionOptions", {key: words for key, words in given.items() if words})
    devices = workspace.select(**selection)
    remark_on_platforms(args, workspace, devices)
    return devices


def remark_on_platforms(
    args: argparse.Namespace, workspace: Workspace, devices: Sequence[Device]
) -> None:
    """Report once each platform that no dialect describes, and the next command to type."""
    from ivrel.core.vocabulary.wording import counted
    from ivrel.output.views.folding import named

    for one in workspace.without_dialect(devices):
        names = named([device.name for device in one.devices])
        number = counted(len(one.devices), "device")
        print(f"ivrel: {one.problem}; {number}: {names}", file=sys.stderr)
        words = f"{workspace_words(args)} {one.platform} {' '.join(one.samples[:3])}"
        print(f"next  ivrel dialect learn{words}".rstrip(), file=sys.stderr)


def columns(args: argparse.Namespace) -> int:
    """Return how wide a table may be."""
    if args.width:
        return int(args.width)
    # Into a file or a pipe, the width is the same on every machine.
    if sys.stdout.isatty() or os.environ.get("COLUMNS"):
        return shutil.get_terminal_size((100, 24)).columns
    return 120


def workspace_words(args: argparse.Namespace) -> str:
    """Return the option that names the workspace, as a next command has to repeat it."""
    return "" if args.workspace == "." else f" -w {quote(args.workspace)}"


def judging_words(args: argparse.Namespace) -> str:
    """Return the options that name workspace and policy, as a next command has to repeat them."""
    policy = f" --policy {quote(args.policy)}" if args.policy else ""
    return f"{workspace_words(args)}{policy}"


def chosen_words(args: argparse.Namespace) -> str:
    """Return the words that choose devices, as a next command has to repeat them."""
    options = [
        f"--{name} {quote(word)}"
        for name in ("kind", "site", "group")
        for word in getattr(args, name)
    ]
    options += [f"--setting {name}" for name in getattr(args, "setting", ())]
    return "".join(f" {word}" for word in [*map(quote, args.device), *options])


def remarks_told(remarks: Iterable[str]) -> None:
    """Print what to bear in mind to standard error."""
    for remark in remarks:
        print(f"ivrel: {remark}", file=sys.stderr)


def problems_told(problems: Iterable[str]) -> int:
    """Print what could not be read to standard error; return the exit code that follows."""
    code = 0
    for problem in problems:
        print(f"ivrel: {problem}", file=sys.stderr)
        code = WRONG
    return code
