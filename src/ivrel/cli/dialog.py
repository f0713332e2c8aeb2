"""`ivrel dialect session HOST`: the `session:` of a dialect, learned from a dialog."""

from __future__ import annotations

import argparse
import asyncio
import getpass
import re
import sys
from pathlib import Path
from typing import TYPE_CHECKING

from ivrel.cli import common
from ivrel.cli.parsing import Parser

if TYPE_CHECKING:
    from collections.abc import Iterator

    from ivrel.core.authoring.dialogs import Turn
    from ivrel.live.links import Route
    from ivrel.live.recording import Recorder

EXAMPLE = "ivrel dialect session 192.0.2.34 --user keeper"
SECRET = "*"  # typed in the place of a password
MOST_PAGES = 1000  # that are turned without asking
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
    from ivrel.core.authoring.dialogs import proposed
    from ivrel.core.vocabulary.errors import InputError, Unreachable
    from ivrel.core.vocabulary.wording import plain

    way = _way(args)
    if args.learn_key:
        asyncio.run(_learn(way))
    try:
        turns = asyncio.run(_talk(args, way))
    except Unreachable as problem:
        hint = "'--learn-key' shows and records it"
        said = re.sub("'ivrel gather --learn-keys' .*", hint, str(problem))
        raise InputError(said) from None
    found = proposed(turns)
    print()
    for remark in found.remarks:
        print(f"# {plain(remark)}")
    print(found.text, end="")
    where = common.workspace_words(args)
    if found.text:
        print(f"\nnext  put it into dialects/NAME.yaml; then ivrel gather{where}")
    return 0 if found.text else 1


def _way(args: argparse.Namespace) -> Route:
    """Return how a host is reached: as the fleet has it, or as the options say."""
    from ivrel.core.fleet import Device
    from ivrel.core.reach import PATIENCE, Reach, reach_of
    from ivrel.core.ways import Ways
    from ivrel.live.access import Access
    from ivrel.live.links import Route
    from ivrel.live.targets import OWN

    device, ways = Device(args.host, "", "", ""), Ways()
    if any((Path(args.workspace) / name).exists() for name in ("fleet.yaml", "fleet.csv")):
        fleet = common.open_workspace(args).fleet
        known = next((d for d in fleet.devices if d.name == args.host), None)
        if known is not None:
            device, ways = known, fleet.ways
    own = Reach(
        via="ssh",
        port=args.port or 0,
        user=args.user or "",
        key=args.key or "",
        password=args.password or "",
        second_password=args.second_password or "",
    )
    default = Reach(address=args.host, port=22, patience=PATIENCE)
    reach = own.over(reach_of(ways.rules, device)).over(default)
    access = Access(Path(args.workspace) / OWN)
    return Route(device=device, reach=reach, access=access, between=ways.between(reach))


async def _learn(way: Route) -> None:
    """Show and record the key of a host that is not known yet."""
    from ivrel.core.vocabulary.errors import InputError, Unreachable
    from ivrel.live.access import fingerprint
    from ivrel.live.links.ssh import host_key
    from ivrel.sources.files import private_folder

    try:
        way.access.host_keys(way.reach)
    except Unreachable:
        try:
            key = await host_key(way)
        except Unreachable as problem:
            raise InputError(str(problem)) from None
        private_folder(way.access.file.parent)
        way.access.learn([(way.reach, key)])
        print(f"recorded the key of {way.where}: {fingerprint(key)}")


async def _talk(args: argparse.Namespace, way: Route) -> list[Turn]:
    from ivrel.live.recording import Recorder

    recorder = Recorder(way)
    try:
        _show(await recorder.open())
        for line in _lines(args):
            turn = await _typed(recorder, line)
            for _ in range(MOST_PAGES):
                before = recorder.turns[-2]
                if line != " " or turn.ended or not turn.lines or turn.last != before.last:
                    break
                turn = await recorder.type(" ", is_sign=True)  # the next page
            _show(turn)
            if turn.ended:
                break
    finally:
        await recorder.close()
    return recorder.turns


async def _typed(recorder: Recorder, line: str) -> Turn:
    if line == SECRET:
        password = recorder.second_password()
        if password is None:
            password = await asyncio.to_thread(getpass.getpass, "password: ")
        return await recorder.type(password, hidden=True)
    return await recorder.type(line, is_sign=line == " ")


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
