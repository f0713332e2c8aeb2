"""`ivrel dialect session HOST`: the `session:` of a dialect, learned from a dialog."""

from __future__ import annotations

import argparse
import sys
from pathlib import Path
from typing import TYPE_CHECKING

from ivrel.cli import common
from ivrel.cli.parsing import Parser

if TYPE_CHECKING:
    from collections.abc import Iterator

    from ivrel.work.dialog import Dialog, Route, Turn

EXAMPLE = "ivrel dialect session 192.0.2.34 --user keeper"
SECRET = "*"  # typed in the place of a password
FEW = 3  # lines of an answer that are shown; more may be a configuration


def arguments(one: Parser) -> None:
    """Add the arguments of the action."""
    one.add_argument("host", metavar="HOST", help="a device of the fleet, an address or a name")
    one.add_argument("--port", type=common.whole_number, metavar="N", help="SSH port (default: 22)")
    one.add_argument("--user", metavar="NAME", help="login name (default: yours)")
    one.add_argument(
        "--key", metavar="FILE", help="private key file (default: keys of the SSH agent)"
    )
    one.add_argument(
        "--password",
        metavar="VARIABLE",
        help="environment variable that holds the password, or 'ask'",
    )
    one.add_argument(
        "--second-password",
        metavar="VARIABLE",
        help=f"the same of what is typed for '{SECRET}' (default: ask)",
    )
    one.add_argument(
        "--learn-key",
        action="store_true",
        help="record the host key if it is not known yet, and show it",
    )
    one.add_argument(
        "--type",
        action="append",
        metavar="LINE",
        help="type this line instead of reading lines from standard input; can be repeated",
    )


def run(args: argparse.Namespace) -> int:
    """Talk to a device, and show what was learned; exit code 1 if that is nothing."""
    import asyncio

    from ivrel.core.vocabulary.wording import plain
    from ivrel.work.dialog import proposed

    found = proposed(asyncio.run(_talk(args, _route(args))))
    print()
    for remark in found.remarks:
        print(f"# {plain(remark)}")
    print(found.text, end="")
    if found.text:
        where = common.workspace_words(args)
        print(f"\nnext  put it into dialects/NAME.yaml; then ivrel gather{where}")
    return 0 if found.text else 1


def _route(args: argparse.Namespace) -> Route:
    """Return how the host is reached, as the options and the fleet say."""
    from ivrel.work.dialog import Reach, route_to

    own = Reach(
        via="ssh",
        port=args.port or 0,
        user=args.user or "",
        key=args.key or "",
        password=args.password or "",
        second_password=args.second_password or "",
    )
    return route_to(Path(args.workspace), args.host, own)


async def _talk(args: argparse.Namespace, route: Route) -> list[Turn]:
    """Type lines to the device, and return all turns."""
    import getpass

    from ivrel.work.dialog import dialog_with, record_host_key

    if args.learn_key:
        recorded = await record_host_key(route)
        if recorded:
            print(f"recorded the key of {route.where}: {recorded}")
    async with dialog_with(route, lambda: getpass.getpass("password: ")) as dialog:
        await _type_lines(args, dialog)
        return dialog.turns


async def _type_lines(args: argparse.Namespace, dialog: Dialog) -> None:
    _show(dialog.turns[0])
    for line in _lines(args):
        turn = await dialog.type(line)
        _show(turn)
        if turn.ended:
            return


def _lines(args: argparse.Namespace) -> Iterator[str]:
    """Yield what is to be typed."""
    if args.type is not None:
        yield from args.type
        return
    if sys.stdin.isatty():
        print(
            f"Type lines: Enter alone twice, so that the prompt is seen; what prints the\n"
            f"configuration; a blank turns a page; {SECRET} types a password, which is not shown;\n"
            f"something wrong; what ends the session. Ctrl-D ends the dialog.\n"
        )
    while True:
        try:
            yield input("> " if sys.stdin.isatty() else "")
        except EOFError:
            return


def _show(turn: Turn) -> None:
    """Show what a device says; of a longer text, which may be its configuration, how long it is."""
    from ivrel.core.vocabulary.wording import counted, plain, shorten

    lines = [*turn.lines, turn.last]
    number = len(turn.lines)
    shown = lines if number <= FEW else [f"({counted(number, 'line')})", turn.last]
    if turn.typed or turn.hidden:
        print(f"> {plain(turn.typed) or '(a password)'}")
    for line in shown:
        print(f"  {shorten(plain(line), 100)}")
    if turn.ended:
        print("  (the session is over)")
