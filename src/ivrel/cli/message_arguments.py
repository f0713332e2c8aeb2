"""Options of the commands about messages: files, their format, the devices that sent them."""

from __future__ import annotations

import argparse
from collections.abc import Iterable
from datetime import UTC, datetime, tzinfo
from pathlib import Path
from shlex import quote
from typing import TYPE_CHECKING

from ivrel.cli import common
from ivrel.cli.parsing import DEVICES, MESSAGES, Parser

if TYPE_CHECKING:
    from ivrel.work.message_files import MessageFiles
    from ivrel.work.workspace import Workspace

RECORDS = ("recording", "json", "lines")  # the formats of records, which are read when needed


def record_arguments(parser: Parser) -> None:
    """Add the options that say how records are read."""
    parser.group(MESSAGES).add_argument(
        "--as",
        dest="form",
        choices=RECORDS,
        help="format of the message files (default: detected from the first line)",
    )
    parser.group(MESSAGES).add_argument(
        "--template",
        metavar="TEXT",
        help="line format of the message files, such as '{received} {sender} {message}'",
    )
    parser.group(MESSAGES).add_argument(
        "--zone",
        type=_zone,
        default=UTC,
        metavar="NAME",
        help="time zone of time stamps that name none (default: UTC)",
    )


def period_arguments(parser: Parser) -> None:
    """Add the options that choose messages by when they came."""
    parser.group(MESSAGES).add_argument(
        "--since", type=_time, metavar="TIME", help="only messages received at this time or later"
    )
    parser.group(MESSAGES).add_argument(
        "--until", type=_time, metavar="TIME", help="only messages received before this time"
    )


def _time(text: str) -> datetime:
    try:
        when = datetime.fromisoformat(text)
    except ValueError:
        raise argparse.ArgumentTypeError(
            f"'{text[:40]}' is not a time; expected YYYY-MM-DD or YYYY-MM-DDTHH:MM"
        ) from None
    # Without a zone, the times are those that are shown.
    return when if when.tzinfo else when.replace(tzinfo=UTC)


def device_arguments(parser: Parser) -> None:
    """Add the options that choose devices, for commands whose arguments are files."""
    parser.group(DEVICES).add_argument(
        "--device",
        action="append",
        default=[],
        metavar="NAME",
        help="only this device, or devices that match a glob; can be repeated",
    )
    common.choice_arguments(parser, devices=False)


def _zone(name: str) -> tzinfo:
    from zoneinfo import ZoneInfo

    try:
        return ZoneInfo(name)
    except (KeyError, OSError, ValueError):
        raise argparse.ArgumentTypeError(
            f"'{name[:40]}' is not a zone; expected a name such as Europe/Lisbon"
        ) from None


def beside_arguments(parser: Parser) -> None:
    """Add the options that hold messages against verdicts."""
    parser.group(MESSAGES).add_argument(
        "--heard",
        action="append",
        default=[],
        metavar="FILE",
        help="compare the verdicts with the messages in this file; can be repeated",
    )
    at_argument(parser)
    period_arguments(parser)
    record_arguments(parser)


def at_argument(parser: Parser) -> None:
    """Add the option that says which collector wrote a file."""
    parser.group(MESSAGES).add_argument(
        "--at",
        action="append",
        default=[],
        metavar="COLLECTOR=FILE",
        help="messages that this collector of the policy received; can be repeated",
    )


def message_files(args: argparse.Namespace, files: Iterable[str]) -> MessageFiles:
    """Return the files of messages that a call names, with how they are read."""
    from ivrel.core.vocabulary.errors import InputError
    from ivrel.work.message_files import MessageFiles, Period

    if args.form and args.template:
        raise InputError("--as names a format, and --template describes one; leave one of them out")
    at: dict[str, tuple[str, ...]] = {}
    for word in getattr(args, "at", ()):
        name, equals, file = word.partition("=")
        if not equals or not file:
            raise InputError(f"--at: '{word[:60]}' is not COLLECTOR=FILE")
        at[name] = (*at.get(name, ()), file)
    period = Period(getattr(args, "since", None), getattr(args, "until", None))
    return MessageFiles(
        tuple(files), at, args.form or "", args.template or "", zone=args.zone, period=period
    )


_MOST_FILES = 3  # that a further command names


def further_words(args: argparse.Namespace) -> str:
    """Return the words that give the messages of a call to `ivrel why`; '' for too many files."""
    files = [quote(f"--heard={file}") for file in args.file if file != "-"]
    words = [*(f"--at {quote(one)}" for one in getattr(args, "at", ())), *files]
    return "".join(f" {word}" for word in words) if len(words) <= _MOST_FILES else ""


def workspace_of(args: argparse.Namespace) -> Workspace | None:
    """Return the workspace that a call names; None if none is named and none is here."""
    folder = Path(args.workspace)
    if args.workspace == "." and not any(
        (folder / name).exists() for name in ("fleet.yaml", "fleet.csv")
    ):
        return None
    return common.open_workspace(args)
