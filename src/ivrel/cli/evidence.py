"""What the commands about messages share: where messages come from, and whose they are."""

from __future__ import annotations

import argparse
import sys
from collections import defaultdict
from collections.abc import Callable, Container, Iterable, Iterator, Mapping
from datetime import UTC, datetime, tzinfo
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple, TypeVar

from ivrel.cli import common
from ivrel.cli.parsing import DEVICES, MESSAGES, Parser

if TYPE_CHECKING:
    from ivrel.core.evidence.attribution import Directory
    from ivrel.core.evidence.own import Arrived
    from ivrel.core.evidence.record import Record
    from ivrel.core.evidence.summary import Evidence
    from ivrel.core.fleet import Device
    from ivrel.core.policy import Policy
    from ivrel.output.views.messages import Seen
    from ivrel.sources.messages import Messages
    from ivrel.sources.messages.chunks import Gathers
    from ivrel.sources.workspace import Workspace

G = TypeVar("G", bound="Gathers")

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


def device_arguments(parser: Parser) -> None:
    """Add the options that choose devices, where the words of a call name files."""
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


def opened(args: argparse.Namespace, files: Iterable[str]) -> Messages:
    """Return the messages of files, read as a call asks for."""
    from ivrel.core.vocabulary.errors import InputError
    from ivrel.sources.messages import Messages, RecordFormat
    from ivrel.sources.messages.formats import template

    if args.form and args.template:
        raise InputError("--as names a format, and --template describes one; leave one of them out")
    if args.template:
        template(args.template)  # if it is none, that is told now
    form = RecordFormat(args.form or "", args.template or "")
    return Messages(tuple(files), datetime.now(UTC), form if form != RecordFormat() else None)


def workspace_of(args: argparse.Namespace) -> Workspace | None:
    """Return the workspace that a call names; None if none is named and none is here."""
    folder = Path(args.workspace)
    if args.workspace == "." and not any(
        (folder / name).exists() for name in ("fleet.yaml", "fleet.csv")
    ):
        return None
    return common.open_workspace(args)


def directory_of(workspace: Workspace | None) -> Directory:
    """Return what finds the devices of a workspace; without one, it finds none."""
    from ivrel.core.evidence.attribution import Directory

    if workspace is None:
        return Directory(())
    collectors = workspace.policy.collectors.values() if workspace.has_policy else ()
    return Directory(workspace.fleet.devices, collectors, Interfaces(workspace))


class Interfaces:
    """Gives the addresses on the interfaces of a device, as far as its configuration can be read;
    it can be sent to other machines.
    """

    def __init__(self, workspace: Workspace) -> None:
        self._texts, self._dialects = workspace.texts, workspace.dialects

    def __call__(self, device: Device) -> Iterator[str]:
        from ivrel.core.reading import read_records
        from ivrel.core.settings.source_path import in_use, knows_interfaces
        from ivrel.core.vocabulary.errors import Unreadable

        try:
            data, _ = self._texts.text(device)
            records = read_records(self._dialects.of(device.platform), data)
        except Unreadable:
            return
        if knows_interfaces(records):
            for row in records.rows("interface").values():
                yield from in_use(row)


def seen_in(messages: Messages, directory: Directory, zone: tzinfo) -> Iterator[Seen]:
    """Yield each message with the device that it is from, and when it came."""
    from ivrel.core.evidence.attribution import attribute
    from ivrel.output.views.messages import Seen

    for record in messages:
        found = attribute(record, directory)
        yield Seen(record, found, record.when(messages.near, zone))


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


def heard(
    args: argparse.Namespace, workspace: Workspace, files: Iterable[str]
) -> tuple[Evidence, list[Messages]]:
    """Return what the records of a call come to, and the messages that were gone through."""
    from ivrel.core.evidence.summary import Evidence

    tells = tells_of(workspace)
    return gathered(args, workspace, files, lambda: Evidence(tells))


def tells_of(workspace: Workspace) -> Mapping[str, Mapping[str, str]]:
    """Return by which words the messages of each device tell of what the policy asks of them."""
    asked = {name for rule in workspace.policy.rules for name in rule.require}
    if not asked & {"changes", "logins"}:
        return {}  # dialects take a while to be read
    devices = workspace.fleet.devices
    platforms = {d.platform for d in devices if d.platform in workspace.dialects.files}
    tells = {name: workspace.dialects[name].tells for name in platforms}
    return {d.name: tells[d.platform] for d in devices if d.platform in tells}


def gathered(
    args: argparse.Namespace, workspace: Workspace, files: Iterable[str], new: Callable[[], G]
) -> tuple[G, list[Messages]]:
    """Return what the records of a call come to, and the messages that were gone through.

    `new`: makes what takes them.
    """
    from msgspec.structs import replace

    from ivrel.core.evidence.arrival import Arrival
    from ivrel.core.evidence.attribution import attribute
    from ivrel.runners.pieces import through_pieces
    from ivrel.sources.messages import Chunk, Summed, Summing, problems_of

    heard, wrong = new(), dict[str, Summed[G]]()
    gone: list[Messages] = []
    directory, cluster = directory_of(workspace), common.cluster_of(args)
    has_policy = workspace.has_policy

    def chunks() -> Iterator[Chunk]:
        """Yield what can be summarised elsewhere; summarise the messages of captures here."""
        for collector, some in _files(args, workspace, files).items():
            messages = opened(args, some)
            gone.append(messages)
            for part in messages.parts(by_path=not args.send):
                if isinstance(part, Chunk):
                    yield replace(part, collector=collector)
                    continue
                at = collector or (collector_of(workspace.policy, part) if has_policy else "")
                found = attribute(part, directory)
                when = part.when(messages.near, args.zone)
                heard.add(Arrival(part, found, when, at, args.zone))

    for summed in through_pieces(Summing(directory, args.zone, new), chunks(), cluster):
        heard.merge(summed.gathered)
        known = wrong.setdefault(summed.shown, summed)
        if known is not summed:
            known.wrong, known.first = known.wrong + summed.wrong, known.first or summed.first
            known.shortened += summed.shortened
    for of_file in wrong.values():
        said = problems_of(of_file.shown, of_file.wrong, of_file.first, of_file.shortened)
        gone[0].problems += said
    return heard, gone


def collector_of(policy: Policy, record: Record) -> str:
    """Return the collector that a message went to, '' if its record does not tell: a capture does,
    and a file does not.
    """
    to = (record.to, record.port, record.transport)
    return next((c.name for c in policy.collectors.values() if c.endpoint == to), "")


class Came(NamedTuple):
    """Messages of some devices: by device and collector; from when to when there are records of
    each collector; what was gone through.
    """

    messages: dict[tuple[str, str], list[Arrived]]
    covered: dict[str, tuple[datetime, datetime] | None]
    gone: list[Messages]


def arrived(
    args: argparse.Namespace, workspace: Workspace, files: Iterable[str], devices: Container[str]
) -> Came:
    """Return the messages of some devices, as the records of a call tell of them."""
    from ivrel.core.evidence.own import Arrived

    out = Came(defaultdict(list), {}, [])
    directory = directory_of(workspace)
    for collector, some in _files(args, workspace, files).items():
        messages = opened(args, some)
        out.gone.append(messages)
        for seen in seen_in(messages, directory, args.zone):
            at, when = collector or seen.record.file, seen.when
            known = out.covered.setdefault(at, None)
            if when is not None:
                first, last = known or (when, when)
                out.covered[at] = min(first, when), max(last, when)
            if seen.found.device in devices:
                out.messages[seen.found.device, at].append(Arrived(seen.record, when))
    return out


def _files(
    args: argparse.Namespace, workspace: Workspace, files: Iterable[str]
) -> Mapping[str, list[str]]:
    """Return the files of each collector; of none that is known under ''."""
    from ivrel.core.vocabulary.errors import InputError
    from ivrel.core.vocabulary.wording import not_one_of

    out: dict[str, list[str]] = {"": list(files)} if files else {}
    for word in args.at:
        name, equals, file = word.partition("=")
        if not equals or not file:
            raise InputError(f"--at: '{word[:60]}' is not COLLECTOR=FILE")
        if name not in workspace.policy.collectors:
            raise InputError(f"--at: collector {not_one_of(name, workspace.policy.collectors)}")
        out.setdefault(name, []).append(file)
    return out


def told_problems(messages: Messages) -> int:
    """Tell what was wrong with the records; return the exit code that follows."""
    for problem in messages.problems:
        print(f"ivrel: {problem}", file=sys.stderr)
    return 2 if messages.problems else 0
