"""`ivrel listen`: takes messages, shows who speaks, keeps what it hears."""

from __future__ import annotations

import argparse
import re
import sys
import time
from datetime import date
from pathlib import Path
from typing import TYPE_CHECKING

from ivrel.cli import common, evidence
from ivrel.cli.parsing import MESSAGES, Parser

if TYPE_CHECKING:
    from collections.abc import Callable, Mapping, Sequence

    from ivrel.core.evidence.attribution import Directory
    from ivrel.core.evidence.expecting import Expected, Expecting
    from ivrel.core.evidence.record import Record
    from ivrel.output.views.listening import Listened
    from ivrel.sources.listening.session import ListenOptions, Session
    from ivrel.sources.workspace import Workspace

_UNITS = {"s": 1, "m": 60, "h": 3600, "d": 86400}


def arguments(parser: Parser) -> None:
    """Add the arguments of the command."""
    common.workspace_argument(parser)
    ways_arguments(parser)
    _kept_arguments(parser)
    _end_arguments(parser)
    common.example(
        parser,
        "ivrel listen --udp 5514 --tcp 5601 -o heard --for 10m",
        "ivrel listen --udp 514 --follow",
        "ivrel listen --udp 514 --expect --site tarsk --for 10m",
        "ivrel listen --tls 6514 --certificate collector.pem --clients ca.pem -o heard",
    )
    parser.set_defaults(run=run)


def ways_arguments(parser: Parser) -> None:
    """Add the options that say where messages come in."""
    for name in ("udp", "tcp", "tls"):
        parser.group(MESSAGES).add_argument(
            f"--{name}",
            action="append",
            type=_ports,
            default=[],
            metavar="PORT",
            help=f"listen on this {name.upper()} port, or on several (a,b); can be repeated",
        )
    parser.group(MESSAGES).add_argument(
        "--on",
        action="append",
        default=[],
        metavar="ADDRESS",
        help="listen on this address only (default: all, IPv4 and IPv6); can be repeated",
    )
    parser.group(MESSAGES).add_argument(
        "--certificate", metavar="FILE", help="with --tls: the certificate, in PEM"
    )
    parser.group(MESSAGES).add_argument(
        "--key",
        metavar="FILE",
        help="with --tls: the private key, if the certificate file does not contain it",
    )
    parser.group(MESSAGES).add_argument(
        "--clients",
        metavar="FILE",
        help="with --tls: require client certificates signed by this authority",
    )


def _kept_arguments(parser: Parser) -> None:
    """Add the options that say what is kept."""
    parser.add_argument(
        "-o", "--output", metavar="DIR", help="write the messages to recordings in this folder"
    )
    parser.add_argument(
        "--rotate-size",
        type=_mib,
        default=64,
        metavar="MIB",
        help="with -o: start a new recording after this size (default: 64)",
    )
    parser.add_argument(
        "--rotate-every",
        type=span,
        default=3600.0,
        metavar="TIME",
        help="with -o: start a new recording after this time (default: 1h)",
    )
    parser.add_argument(
        "--most-disk",
        type=_mib,
        default=1024,
        metavar="MIB",
        help="with -o: delete the oldest recordings when all exceed this size (default: 1024)",
    )


def _end_arguments(parser: Parser) -> None:
    """Add the options that say what is shown, and when it ends."""
    parser.add_argument(
        "--for",
        dest="seconds",
        type=span,
        default=0.0,
        metavar="TIME",
        help="stop after this time: 30s, 10m",
    )
    parser.add_argument(
        "--count", type=_number, default=0, metavar="N", help="stop after this many messages"
    )
    parser.add_argument("--follow", action="store_true", help="print each message as it arrives")
    parser.add_argument(
        "--expect",
        action="store_true",
        help="stop when every chosen device was heard as the policy asks; exit "
        "code 1 if one was not",
    )
    parser.add_argument(
        "--quiet-before",
        type=span,
        default=0.0,
        metavar="TIME",
        help="with --expect: first check for this long that none of the devices sends",
    )
    evidence.device_arguments(parser)


def _ports(text: str) -> list[int]:
    ports = []
    for word in text.split(","):
        if not (word.isascii() and word.isdigit()) or not 0 <= int(word[:6]) < 65536:
            raise argparse.ArgumentTypeError(f"'{word[:40]}' is not a port; expected 0 to 65535")
        ports.append(int(word))
    return ports


def span(text: str) -> float:
    """Return a time in seconds, of such as 30s, 10m or 2h."""
    found = re.fullmatch(r"([0-9]{1,6}(?:\.[0-9]{1,3})?)([smhd]?)", text)
    if found is None or not float(found[1]):
        raise argparse.ArgumentTypeError(
            f"'{text[:40]}' is not a duration; write for example 30s, 10m or 2h"
        )
    return float(found[1]) * _UNITS[found[2] or "s"]


def _mib(text: str) -> int:
    return _number(text, 1_000_000)


def _number(text: str, most: int = 10**12) -> int:
    if not (text.isascii() and text.isdigit()) or not 0 < int(text[:13]) <= most:
        raise argparse.ArgumentTypeError(f"'{text[:40]}' is not a number from 1 to {most}")
    return int(text)


def run(args: argparse.Namespace) -> int:
    """Run the command and return its exit code."""
    from ivrel.core.vocabulary.errors import InputError
    from ivrel.output.terminal.listening import Screen, told
    from ivrel.sources.listening.session import Session
    from ivrel.sources.listening.sockets import tls_context

    asked = _asked(args)
    if any(way.transport == "tls" for way in asked.ways) != bool(args.certificate):
        raise InputError("--tls and --certificate belong together; give both or none")
    context = None
    if args.certificate:
        key = Path(args.key) if args.key else None
        clients = Path(args.clients) if args.clients else None
        context = tls_context(Path(args.certificate), key, clients)
    workspace = evidence.workspace_of(args)
    directory = evidence.directory_of(workspace)
    waiting = _waiting(args, workspace, directory)
    screen = Screen(directory, live=not args.follow, columns=common.columns(_Width(None)))

    def look(session: Session) -> bool:
        screen.look(_listened(session), waiting.states.values() if waiting else ())
        return waiting is not None and waiting.ends

    follow = _follower(args, directory)
    session = Session(asked, context, waiting.take if waiting and not follow else follow, look)
    try:
        session.run()
    finally:
        screen.end()
    for line in told(_listened(session)):
        print(line)
    if waiting is not None:
        return waiting.told()
    _next(args, workspace)
    return 0


class _Waiting:
    """What a session waits for, and whether it was quiet before."""

    def __init__(self, expecting: Expecting, quiet: float) -> None:
        self._expecting, self._quiet = expecting, quiet
        self._begun = time.monotonic()
        self._early: str = ""  # the device that spoke before it was to

    @property
    def states(self) -> Mapping[str, Expected]:
        """How it stands with each device."""
        return self._expecting.states

    @property
    def ends(self) -> bool:
        """Whether there is nothing more to wait for."""
        if time.monotonic() - self._begun < self._quiet:
            return bool(self._early)
        return bool(self._early) or self._expecting.done

    def take(self, record: Record) -> None:
        """Take a message as it comes."""
        self._expecting.take(record)
        if time.monotonic() - self._begun < self._quiet:
            spoke = (name for name, one in self.states.items() if one.number)
            self._early = self._early or next(spoke, "")

    def told(self) -> int:
        """Tell how it ended; return the exit code."""
        from ivrel.output.terminal.listening import expected

        for line in expected(self.states.values()):
            print(line)
        if self._early:
            print(f"{self._early} spoke before; nothing was to be heard yet")
        return 0 if self._expecting.done and not self._early else 1


def _waiting(
    args: argparse.Namespace, workspace: Workspace | None, directory: Directory
) -> _Waiting | None:
    """Return what a session waits for; None if it waits for nothing."""
    from ivrel.core.vocabulary.errors import InputError

    chosen = [*args.device, *args.kind, *args.site, *args.group]
    if not args.expect:
        if chosen or args.quiet_before:
            said = "devices and --quiet-before say what is expected; give --expect with them"
            raise InputError(said)
        return None
    if args.follow:
        raise InputError("--expect shows devices, and --follow messages; leave one of them out")
    if workspace is None:
        raise InputError("there is no fleet here to expect devices of; name it with -w")
    from ivrel.core.evidence.expecting import Expecting

    devices = common.chosen(args, workspace)
    expecting = Expecting(devices, workspace.policy, directory, date.today())
    return _Waiting(expecting, args.quiet_before)


class _Width(argparse.Namespace):
    """The width of the terminal, for a command without an option for it."""

    def __init__(self, width: int | None) -> None:
        super().__init__(width=width)


def _asked(args: argparse.Namespace) -> ListenOptions:
    """Return what a session is asked for by a call."""
    from ivrel.core.vocabulary.errors import InputError
    from ivrel.sources.listening.keeping import MIB, RotationLimits
    from ivrel.sources.listening.session import ListenOptions
    from ivrel.sources.listening.sockets import ListenPort

    ways = tuple(
        ListenPort(name, port)
        for name in ("udp", "tcp", "tls")
        for ports in getattr(args, name)
        for port in ports
    )
    if not ways:
        raise InputError("there is no port to listen on; give --udp, --tcp or --tls")
    limits = RotationLimits(args.rotate_size * MIB, args.rotate_every, args.most_disk * MIB)
    folder = Path(args.output) if args.output else None
    return ListenOptions(ways, addresses(args.on), folder, limits, args.seconds, args.count)


def addresses(words: Sequence[str]) -> tuple[str, ...]:
    """Return the addresses to listen on, all of this machine if none is named."""
    from ivrel.core.vocabulary.addresses import address
    from ivrel.core.vocabulary.errors import InputError

    try:
        return tuple(address(word) for word in words) or ("0.0.0.0", "::")
    except ValueError as problem:
        raise InputError(f"--on: {problem}") from None


def _listened(session: Session) -> Listened:
    """Return what a session has come to so far."""
    from ivrel.output.views.listening import Listened
    from ivrel.sources.listening.session import in_words

    counts, keeper = session.counts, session.keeper
    return Listened(
        in_words(session.ways),
        min(session.buffers, default=0),
        str(session.asked.folder or ""),
        counts.received,
        session.senders,
        counts.dropped,
        counts.shortened,
        counts.cut,
        counts.refused,
        counts.failed,
        session.jumps,
        keeper.deleted if keeper is not None else 0,
        session.others,
    )


def _follower(args: argparse.Namespace, directory: Directory) -> Callable[[Record], None] | None:
    """Return what prints each message as it comes; None if nobody asked for that."""
    if not args.follow:
        return None
    from ivrel.core.evidence.attribution import attribute
    from ivrel.core.vocabulary.wording import plain
    from ivrel.output.views.messages import Seen, iso

    def follow(record: Record) -> None:
        seen = Seen(record, attribute(record, directory), record.received)
        message = record.message
        level = f"{seen.facility}.{seen.severity}" if message.pri is not None else "-"
        tag = f"{message.app}: " if message.app else ""
        said = (iso(seen.when), seen.named or "-", level, f"{tag}{message.text}")
        sys.stdout.write(plain("  ".join(said)).replace("\n", "·") + "\n")
        sys.stdout.flush()

    return follow


def _next(args: argparse.Namespace, workspace: Workspace | None) -> None:
    """Tell the command that judges what was heard."""
    if args.output:
        where = common.workspace_words(args)
        what = "heard" if workspace is not None else "messages"
        print(f"next  ivrel {what}{where} {args.output}/heard-*")
