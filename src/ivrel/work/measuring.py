"""Figures over many messages: silence, clocks, losses and volume of devices."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import datetime
from itertools import chain
from typing import Any, TypeVar

from msgspec import Struct

from ivrel.core.fleet import Device
from ivrel.core.measuring.clocks import (
    KINDS,
    Clock,
    Step,
    clock_of,
    shared_steps,
    without_steps,
)
from ivrel.core.measuring.gathered import SUBJECTS, Measured
from ivrel.core.measuring.losses import Loss, losses_of
from ivrel.core.measuring.pairs import Pair
from ivrel.core.measuring.silence import Silence, silences
from ivrel.core.measuring.times import Times
from ivrel.core.measuring.volume import OfSeverity, SentVolume, Volume, of_severities, volumes
from ivrel.core.reading import read_records
from ivrel.core.settings import Scope
from ivrel.core.settings.sending import sendings
from ivrel.core.vocabulary.errors import InputError, Unreadable
from ivrel.core.vocabulary.severity import EVERYTHING, SEVERITIES
from ivrel.core.vocabulary.wording import not_one_of
from ivrel.sources.workspace import WorkspaceFiles
from ivrel.work.message_files import MessageFiles
from ivrel.work.messages import summarised
from ivrel.work.run import RunOptions

R = TypeVar("R")

# By what volumes are added up.
VOLUME_BY = ("device", "site", "collector", "severity", "facility", "kind")


class Measurement(Struct, frozen=True, kw_only=True):
    """What the messages of some devices show.

    `total`: messages read; `devices`: number of devices; `heard`: those that sent any; `problems`:
    files and lines that could not be read.
    """

    total: int
    devices: int
    heard: int
    problems: tuple[str, ...] = ()


class SilenceMeasurement(Measurement, frozen=True, kw_only=True):
    """The longest silence of each device, the least likely first.

    `rate`: the accepted rate of false alarms; `until`: the end of the records, in seconds since
    1970; `times`: when messages arrived; `unsure`: messages that bear a device's name, and prove
    nothing of it.
    """

    rate: float
    until: float
    silences: tuple[Silence, ...]
    times: Mapping[str, Times]
    unsure: Mapping[str, int]


class ClocksMeasurement(Measurement, frozen=True, kw_only=True):
    """The clock of each device that was heard, the worst first.

    `tolerance`: the accepted offset in seconds; `samples`: the pairs of stamp and arrival;
    `collector_steps`: settings of the collectors' clock, which most devices show; clocks and
    samples are given as if it had been right all the time.
    """

    tolerance: float
    clocks: tuple[Clock, ...]
    samples: Mapping[str, list[Pair]]
    collector_steps: tuple[Step, ...] = ()


class LossesMeasurement(Measurement, frozen=True, kw_only=True):
    """Messages that are missing by their numbers, the most first.

    `unnumbered`: devices whose messages have no numbers; `filtering`: devices of which a steady
    share is missing and whose configuration filters, so that the numbers may be of messages that
    were never sent.
    """

    losses: tuple[Loss, ...]
    unnumbered: tuple[str, ...]
    filtering: frozenset[str] = frozenset()


class VolumeMeasurement(Measurement, frozen=True, kw_only=True):
    """What messages cost on the line; `seconds`: the time from the first message to the last."""

    seconds: float
    volumes: tuple[Volume, ...]
    severities: tuple[OfSeverity, ...]


class Measuring:
    """Measures the messages of some devices; each method reads the files once.

    Raises InputError if there is no message in the files.
    """

    def __init__(
        self,
        files: WorkspaceFiles,
        given: MessageFiles,
        options: RunOptions,
        devices: Sequence[Device],
    ) -> None:
        self._files = files
        self._given = given
        self._options = options
        self._devices = devices

    def silence(self, rate: float = 0.01) -> SilenceMeasurement:
        """Return how long devices were silent; `rate`: the accepted rate of false alarms."""
        measured, common = self._measured("silence")
        last: datetime | None = measured.last
        until = last.timestamp() if last is not None else 0.0
        names = [d.name for d in self._devices]
        return SilenceMeasurement(
            **common,
            rate=rate,
            until=until,
            silences=tuple(silences(measured.devices, names, until, rate)),
            times={name: times for name, times in measured.devices.items() if name in names},
            unsure={name: number for name, number in measured.unsure.items() if name in names},
        )

    def clocks(self, tolerance: float = 1.0) -> ClocksMeasurement:
        """Return how far clocks are off; `tolerance`: the accepted offset in seconds."""
        measured, common = self._measured("clocks")
        samples = {name: measured.devices[name].sample for name in self._names(measured)}

        def judged() -> list[Clock]:
            return [
                clock_of(name, sample, measured.devices[name].number, tolerance)
                for name, sample in samples.items()
            ]

        clocks = judged()
        steps = shared_steps(clocks)
        if steps:
            samples = {name: without_steps(sample, steps) for name, sample in samples.items()}
            clocks = judged()
        order = list(KINDS)
        clocks.sort(key=lambda c: (order.index(c.kind), -abs(c.offset or 0), c.device))
        return ClocksMeasurement(
            **common,
            tolerance=tolerance,
            clocks=tuple(clocks),
            samples=samples,
            collector_steps=tuple(steps),
        )

    def losses(self) -> LossesMeasurement:
        """Return which messages are missing, doubled or late, by their numbers."""
        measured, common = self._measured("losses")
        losses: list[Loss] = []
        unnumbered = []
        for name in self._names(measured):
            losses += losses_of(name, measured.devices[name])
            if measured.devices[name].without:
                unnumbered.append(name)
        losses.sort(key=lambda loss: (-loss.missing, not loss.is_odd, loss.device, loss.collector))
        steady = {loss.device for loss in losses if loss.is_steady}
        filtering = frozenset(
            d.name for d in self._devices if d.name in steady and self._filters(d)
        )
        return LossesMeasurement(
            **common, losses=tuple(losses), unnumbered=tuple(unnumbered), filtering=filtering
        )

    def _filters(self, device: Device) -> bool:
        """Whether a device's configuration sends only some of its messages."""
        try:
            data, _ = self._files.text(device)
            records = read_records(self._files.dialects.of(device), data)
        except Unreadable:
            return False
        collectors = self._files.policy.collectors if self._files.has_policy else {}
        scope = Scope(device, records, collectors)
        sent = chain.from_iterable(sendings(scope, d).values() for d in scope.destinations)
        return any(sending.bits != EVERYTHING.bits for sending in sent)

    def volume(self, by: str = "device", if_level: str = "") -> VolumeMeasurement:
        """Return the cost of messages on the line.

        `by`: of VOLUME_BY, what is added up; `if_level`: a severity, for an estimate of the volume
        with this trap level, by device or site.
        """
        level = None
        if if_level:
            if if_level not in SEVERITIES:
                raise InputError(f"trap level {not_one_of(if_level, SEVERITIES)}")
            if by not in ("device", "site"):
                raise InputError(
                    "the volume with another trap level is estimated by device or site"
                )
            level = SEVERITIES.index(if_level)
        measured, common = self._measured("volume")
        known = {d.name: d for d in self._devices}
        sizes = {name: some for name, some in measured.devices.items() if name in known}
        first = measured.first
        last = measured.last
        seconds = (last - first).total_seconds() if first and last else 0.0
        sent = SentVolume(known, sizes, seconds)
        return VolumeMeasurement(
            **common,
            seconds=seconds,
            volumes=tuple(volumes(sent, by, level)),
            severities=tuple(of_severities(sent, level)),
        )

    def _names(self, measured: Measured[Any]) -> list[str]:
        return [d.name for d in self._devices if d.name in measured.devices]

    def _measured(self, subject: str) -> tuple[Measured[Any], dict[str, Any]]:
        """Return the accumulated measurement, and the fields that all measurements have."""

        def new() -> Measured[Any]:
            return Measured(SUBJECTS[subject])

        measured, problems = summarised(self._files, self._given, self._options, new)
        if not measured.number:
            problem = problems[0] if problems else "no message is in the files"
            raise InputError(problem)
        common = {
            "total": measured.number,
            "devices": len(self._devices),
            "heard": len(self._names(measured)),
            "problems": problems,
        }
        return measured, common
