"""`ivrel measure SUBJECT FILE…`: figures over many messages: silence, clocks, losses, volume."""

from __future__ import annotations

import argparse
from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple

from ivrel.cli import common, evidence
from ivrel.cli.parsing import Parser

if TYPE_CHECKING:
    from ivrel.core.evidence.measuring.gathered import Measured
    from ivrel.core.fleet import Device
    from ivrel.output.views.measured import MeasuredView


def arguments(parser: Parser) -> None:
    """Add the arguments of the command."""
    subjects = parser.add_subparsers(dest="subject", metavar="SUBJECT", required=True)
    for name, subject in _SUBJECTS.items():
        one = subjects.add_parser(
            name,
            help=subject.about,
            description=subject.about,
            formatter_class=argparse.RawDescriptionHelpFormatter,
        )
        common.workspace_argument(one)
        one.add_argument("file", nargs="*", help="message files; '-' reads standard input")
        evidence.at_argument(one)
        evidence.device_arguments(one)
        subject.options(one)
        one.add_argument(
            "--figure",
            metavar="FILE",
            help="draw the figure to this file, .png or .svg (needs Matplotlib)",
        )
        evidence.record_arguments(one)
        common.scheduler_arguments(one, "records")
        common.format_argument(one, "table", "json", "jsonl", "csv")
        one.add_argument(
            "--all", action="store_true", help="list everything, even for a large fleet"
        )
        one.set_defaults(run=run)
    common.example(
        parser,
        "ivrel measure silence recording.jsonl --false-alarms 0.001",
        "ivrel measure clocks --at beacon-a=beacon-a.jsonl --figure clocks.png",
        "ivrel measure losses beacon-a.pcap --site tarsk",
        "ivrel measure volume recording.jsonl --by site --if-level debug",
    )


def _silence(parser: Parser) -> None:
    parser.add_argument(
        "--false-alarms",
        type=_rate,
        default=0.01,
        metavar="RATE",
        help="accepted share of false alarms: runs over a healthy fleet that "
        "call a device silent (default: 0.01)",
    )
    common.example(parser, "ivrel measure silence recording.jsonl --figure arrivals.png")


def _clocks(parser: Parser) -> None:
    parser.add_argument(
        "--tolerance",
        type=_seconds,
        default=1.0,
        metavar="SECONDS",
        help="accepted clock offset (default: 1)",
    )
    common.example(parser, "ivrel measure clocks recording.jsonl --tolerance 0.2")


def _losses(parser: Parser) -> None:
    common.example(parser, "ivrel measure losses --at beacon-a=beacon-a.jsonl --site tarsk")


def _volume(parser: Parser) -> None:
    parser.add_argument(
        "--by",
        choices=("device", "site", "collector", "severity", "facility", "kind"),
        default="device",
        help="what to add up by (default: device)",
    )
    parser.add_argument(
        "--if-level",
        metavar="SEVERITY",
        help="estimate the volume with this trap level, by device or site",
    )
    common.example(
        parser,
        "ivrel measure volume recording.jsonl --by site --if-level debug",
        "ivrel measure volume --at a=a.jsonl --at b=b.jsonl --figure volume.svg",
    )


def _rate(text: str) -> float:
    try:
        rate = float(text)
    except ValueError:
        rate = 0.0
    if not 0 < rate < 1:
        raise argparse.ArgumentTypeError(
            f"'{text[:40]}' is not a rate; expected a number between 0 and 1"
        )
    return rate


def _seconds(text: str) -> float:
    try:
        seconds = float(text)
    except ValueError:
        seconds = -1.0
    if not 0 < seconds < 1e9:
        raise argparse.ArgumentTypeError(
            f"'{text[:40]}' is not a time; expected a number of seconds above 0"
        )
    return seconds


def run(args: argparse.Namespace) -> int:
    """Run the command and return its exit code."""
    from ivrel.core.evidence.measuring.gathered import SUBJECTS, Measured
    from ivrel.core.vocabulary.errors import InputError

    figure = Path(args.figure) if getattr(args, "figure", None) else None
    if figure is not None and figure.suffix not in (".png", ".svg"):
        raise InputError(f"--figure: '{args.figure[:60]}' ends in neither .png nor .svg")
    workspace = common.open_workspace(args)
    devices = common.chosen(args, workspace)
    if not args.file and not args.at:
        raise InputError("no file of messages is given; name one, or one of a collector with --at")
    collected: Measured[Any]
    new = partial(Measured, SUBJECTS[args.subject])
    collected, problems = evidence.gathered(args, workspace, args.file, new)
    if not collected.number:
        code = max((evidence.told_problems(messages) for messages in problems), default=0)
        if code:
            return code
        raise InputError("no message is in the files; there is nothing to measure")
    view = _SUBJECTS[args.subject].view(args, collected, devices)
    if figure is not None:
        from ivrel.output.figures import drawn
        from ivrel.sources.files import write_bytes

        write_bytes(figure, drawn(view, figure.suffix.removeprefix(".")))
    common.show(view, args)
    code = max((evidence.told_problems(messages) for messages in problems), default=0)
    return code or int(view.is_odd)


def _silence_view(
    args: argparse.Namespace, gathered: Measured[Any], devices: tuple[Device, ...]
) -> MeasuredView:
    from ivrel.core.evidence.measuring.silence import silences
    from ivrel.output.views.measured import SilenceView

    until = gathered.last.timestamp() if gathered.last is not None else 0.0
    names = [d.name for d in devices]
    return SilenceView(
        **_common(args, gathered, devices),
        rate=args.false_alarms,
        until=until,
        silences=tuple(silences(gathered.devices, names, until, args.false_alarms)),
        times={name: times for name, times in gathered.devices.items() if name in names},
    )


def _clocks_view(
    args: argparse.Namespace, gathered: Measured[Any], devices: tuple[Device, ...]
) -> MeasuredView:
    from ivrel.core.evidence.measuring.clocks import KINDS, clock_of
    from ivrel.output.views.measured import ClocksView

    names = [d.name for d in devices if d.name in gathered.devices]
    samples = {name: gathered.devices[name].sample for name in names}
    clocks = [
        clock_of(name, samples[name], gathered.devices[name].number, args.tolerance)
        for name in names
    ]
    order = list(KINDS)
    clocks.sort(key=lambda c: (order.index(c.kind), -abs(c.offset or 0), c.device))
    return ClocksView(
        **_common(args, gathered, devices),
        tolerance=args.tolerance,
        clocks=tuple(clocks),
        samples=samples,
    )


def _losses_view(
    args: argparse.Namespace, gathered: Measured[Any], devices: tuple[Device, ...]
) -> MeasuredView:
    from ivrel.core.evidence.measuring.losses import losses_of
    from ivrel.output.views.measured import LossesView

    names = [d.name for d in devices if d.name in gathered.devices]
    losses = [loss for name in names for loss in losses_of(name, gathered.devices[name])]
    losses.sort(key=lambda loss: (-loss.missing, not loss.is_odd, loss.device, loss.collector))
    without = {name: gathered.devices[name].without for name in names}
    return LossesView(
        **_common(args, gathered, devices),
        losses=tuple(losses),
        unnumbered=tuple(n for n, number in without.items() if number),
    )


def _volume_view(
    args: argparse.Namespace, gathered: Measured[Any], devices: tuple[Device, ...]
) -> MeasuredView:
    from ivrel.core.evidence.measuring.volume import SentVolume, of_severities, volumes
    from ivrel.core.vocabulary.errors import InputError
    from ivrel.core.vocabulary.severity import SEVERITIES
    from ivrel.core.vocabulary.wording import not_one_of
    from ivrel.output.views.measured import VolumeView

    level = None
    if args.if_level:
        if args.if_level not in SEVERITIES:
            raise InputError(f"--if-level: {not_one_of(args.if_level, SEVERITIES)}")
        if args.by not in ("device", "site"):
            raise InputError("--if-level tells of devices and sites; leave --by out, or take site")
        level = SEVERITIES.index(args.if_level)
    known = {d.name: d for d in devices}
    sizes = {name: some for name, some in gathered.devices.items() if name in known}
    first, last = gathered.first, gathered.last
    seconds = (last - first).total_seconds() if first and last else 0.0
    sent = SentVolume(known, sizes, seconds)
    return VolumeView(
        **_common(args, gathered, devices),
        by=args.by,
        level=args.if_level or "",
        seconds=seconds,
        volumes=tuple(volumes(sent, args.by, level)),
        severities=tuple(of_severities(sent, level)),
    )


def _common(
    args: argparse.Namespace, gathered: Measured[Any], devices: tuple[Device, ...]
) -> dict[str, Any]:
    """Return what all the views show."""
    return {
        "about": _SUBJECTS[args.subject].about,
        "total": gathered.number,
        "devices": len(devices),
        "heard": sum(1 for d in devices if d.name in gathered.devices),
        "every": args.all,
        "where": common.workspace_words(args),
    }


class _Subject(NamedTuple):
    """What is measured: what it tells, its options, and what makes its view."""

    about: str
    options: Callable[[Parser], None]
    view: Callable[[argparse.Namespace, Measured[Any], tuple[Device, ...]], MeasuredView]


_SUBJECTS = {
    "silence": _Subject(
        "which devices have said nothing for longer than chance explains", _silence, _silence_view
    ),
    "clocks": _Subject(
        "how far the clocks of devices are off, and how they drift", _clocks, _clocks_view
    ),
    "losses": _Subject(
        "which messages never came, came twice or came late, by their numbers",
        _losses,
        _losses_view,
    ),
    "volume": _Subject(
        "what messages cost on the line, and what another trap level would cost",
        _volume,
        _volume_view,
    ),
}
