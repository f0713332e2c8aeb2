"""`ivrel measure SUBJECT FILE…`: figures over many messages: silence, clocks, losses, volume."""

from __future__ import annotations

import argparse
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple

from ivrel.cli import common, message_arguments
from ivrel.cli.parsing import Parser
from ivrel.output.machine.formats import ROWS

if TYPE_CHECKING:
    from ivrel.output.views.measured import MeasuredView
    from ivrel.work.measuring import Measurement, Measuring


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
        message_arguments.at_argument(one)
        message_arguments.device_arguments(one)
        subject.options(one)
        one.add_argument(
            "--figure",
            metavar="FILE",
            help="draw the figure to this file, .png or .svg (needs Matplotlib)",
        )
        message_arguments.record_arguments(one)
        common.scheduler_arguments(one, "records")
        common.format_argument(one, ROWS)
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
    from ivrel.core.vocabulary.errors import InputError

    figure = Path(args.figure) if args.figure else None
    if figure is not None and figure.suffix not in (".png", ".svg"):
        raise InputError(f"--figure: '{args.figure[:60]}' ends in neither .png nor .svg")
    workspace = common.open_workspace(args)
    devices = common.chosen(args, workspace)
    messages = message_arguments.message_files(args, args.file)
    if not messages:
        raise InputError("no file of messages is given; name one, or one of a collector with --at")
    view = _SUBJECTS[args.subject].view(args, workspace.measure(messages, devices=devices))
    if figure is not None:
        from ivrel.output.figures import drawn
        from ivrel.work.run import write_file

        write_file(figure, drawn(view, figure.suffix.removeprefix(".")))
    common.show(view, args)
    code = common.problems_told(view.problems)
    return code or int(view.is_odd)


def _silence_view(args: argparse.Namespace, measuring: Measuring) -> MeasuredView:
    from ivrel.output.views.measured import SilenceView

    found = measuring.silence(args.false_alarms)
    return SilenceView(
        **_common(args, found),
        rate=found.rate,
        until=found.until,
        silences=found.silences,
        times=found.times,
        unsure=found.unsure,
    )


def _clocks_view(args: argparse.Namespace, measuring: Measuring) -> MeasuredView:
    from ivrel.output.views.measured import ClocksView

    found = measuring.clocks(args.tolerance)
    return ClocksView(
        **_common(args, found),
        tolerance=found.tolerance,
        clocks=found.clocks,
        samples=found.samples,
        collector_steps=found.collector_steps,
    )


def _losses_view(args: argparse.Namespace, measuring: Measuring) -> MeasuredView:
    from ivrel.output.views.measured import LossesView

    found = measuring.losses()
    return LossesView(
        **_common(args, found),
        losses=found.losses,
        unnumbered=found.unnumbered,
        filtering=found.filtering,
    )


def _volume_view(args: argparse.Namespace, measuring: Measuring) -> MeasuredView:
    from ivrel.output.views.measured import VolumeView

    found = measuring.volume(args.by, args.if_level or "")
    return VolumeView(
        **_common(args, found),
        by=args.by,
        level=args.if_level or "",
        seconds=found.seconds,
        volumes=found.volumes,
        severities=found.severities,
    )


def _common(args: argparse.Namespace, found: Measurement) -> dict[str, Any]:
    """Return the fields that all the views have."""
    return {
        "about": _SUBJECTS[args.subject].about,
        "total": found.total,
        "devices": found.devices,
        "heard": found.heard,
        "problems": found.problems,
        "every": args.all,
        "where": common.workspace_words(args),
        "given": message_arguments.further_words(args),
    }


class _Subject(NamedTuple):
    """What is measured: what it tells, its options, and what makes its view."""

    about: str
    options: Callable[[Parser], None]
    view: Callable[[argparse.Namespace, Measuring], MeasuredView]


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
