"""What messages prove: claims about devices, and what became of the messages devices kept."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Collection, Container, Mapping, Sequence
from datetime import datetime

from msgspec import Struct

from ivrel.core.attribution.messages import AttributedMessage
from ivrel.core.evidence.anomalies import anomalies
from ivrel.core.evidence.own import Arrived, held_against
from ivrel.core.evidence.results import DeviceHeard, DeviceKept, HeardResult
from ivrel.core.fleet import Device, DeviceSelection, choose
from ivrel.core.syslog.record import Record
from ivrel.sources.workspace import WorkspaceFiles
from ivrel.work.message_files import MessageFiles
from ivrel.work.messages import (
    FleetClaims,
    attributed,
    by_collector,
    directory_of,
    evidence_of,
    opened,
)
from ivrel.work.run import RunOptions
from ivrel.work.witnesses import Witnesses


def heard(
    files: WorkspaceFiles,
    given: MessageFiles,
    options: RunOptions,
    devices: Sequence[Device],
    settings: Collection[str] = (),
) -> HeardResult:
    """Return the claims that messages prove and contradict, and what devices show of themselves
    beside them; `settings`: only of these.
    """
    witnesses = Witnesses(files)
    evidence, problems = evidence_of(files, given, options, witnesses.moments(devices))
    fleet = FleetClaims(files, evidence)
    found = []
    for device in devices:
        every = fleet.of(device)
        some = tuple(c for c in every if not settings or c.setting in settings)
        said = witnesses.of(device, fleet.messages(every))
        beside = tuple(c for c in said if not settings or c.setting in settings)
        found.append(DeviceHeard(device, evidence.of(device.name), some, beside))
    found.sort(key=lambda d: (-d.count("contradicted"), -len(d.differing)))
    odd = anomalies(evidence, {d.name for d in devices})
    problems = (*problems, *witnesses.problems)
    return HeardResult(evidence.number, tuple(found), tuple(odd), problems, fleet.remarks(devices))


class _Received(Struct, frozen=True):
    """Messages of some devices, by device and collector; the time each collector's files cover."""

    messages: dict[tuple[str, str], list[Arrived]]
    covered: dict[str, tuple[datetime, datetime] | None]
    problems: tuple[str, ...]


class KeptResult(Struct, frozen=True):
    """What became of the messages that devices kept themselves.

    `problems`: files and lines that could not be read.
    """

    devices: tuple[DeviceKept, ...]
    problems: tuple[str, ...] = ()


def kept(
    files: WorkspaceFiles, given: MessageFiles, own: Mapping[str, Sequence[str]]
) -> KeptResult:
    """Return the state of each message that devices kept themselves, collector by collector.

    `own`: the files of a device's own log, by device. Raise InputError if there is no such device.
    """
    for name in own:
        choose(files.fleet, DeviceSelection((name,)))
    logs = {name: opened(given, some) for name, some in own.items()}
    received = _received(files, given, set(own))
    found = []
    for device, log in logs.items():
        records = list(log)
        found += [
            _compared(device, collector, records, received, given) for collector in received.covered
        ]
    problems = [*received.problems, *(p for log in logs.values() for p in log.problems)]
    return KeptResult(tuple(found), tuple(problems))


def _compared(
    device: str, collector: str, records: list[Record], received: _Received, given: MessageFiles
) -> DeviceKept:
    some = received.messages[device, collector]
    found = held_against(records, collector, some, received.covered[collector], given.zone)
    times = [one.stamped for one in found if one.stamped is not None]
    matched = {id(one) for kept_one in found for one in kept_one.arrived}
    unkept = 0
    for one in some:
        is_within = bool(times) and one.when is not None and min(times) <= one.when <= max(times)
        unkept += is_within and id(one) not in matched
    return DeviceKept(device, collector, tuple(found), len(some), unkept)


def _received(files: WorkspaceFiles, given: MessageFiles, devices: Container[str]) -> _Received:
    """Return the messages of some devices, and the time that the files of each collector cover."""
    messages: dict[tuple[str, str], list[Arrived]] = defaultdict(list)
    covered: dict[str, tuple[datetime, datetime] | None] = {}
    problems: list[str] = []
    directory = directory_of(files)
    for collector, some in by_collector(given, files).items():
        messages_of_file = opened(given, some)
        for one in attributed(messages_of_file, directory, given.zone):
            at = collector or one.record.file
            covered[at] = _extended(covered.get(at), one)
            if one.found.device in devices:
                messages[one.found.device, at].append(Arrived(one.record, one.when))
        problems += messages_of_file.problems
    return _Received(messages, covered, tuple(problems))


def _extended(
    covered: tuple[datetime, datetime] | None, one: AttributedMessage
) -> tuple[datetime, datetime] | None:
    if one.when is None:
        return covered
    first, last = covered or (one.when, one.when)
    return min(first, one.when), max(last, one.when)
