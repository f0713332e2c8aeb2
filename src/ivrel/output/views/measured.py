"""Figures over many messages: silence, clocks, losses, volume."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from datetime import UTC, datetime
from typing import Any

import msgspec

from ivrel.core.measuring.clocks import Clock, Step
from ivrel.core.measuring.losses import Loss
from ivrel.core.measuring.pairs import Pair
from ivrel.core.measuring.silence import Silence
from ivrel.core.measuring.times import Times
from ivrel.core.measuring.volume import OfSeverity, Volume
from ivrel.output.views.messages import iso
from ivrel.output.views.view import RowsView, fields, keys


def time_of(seconds: float | None) -> str:
    """Return a time in UTC, as RFC 3339 has it; empty if there is none."""
    return "" if seconds is None else iso(datetime.fromtimestamp(seconds, UTC))


class MeasuredView(RowsView, frozen=True, kw_only=True):
    """What all figures show.

    `about`: the subject; `total`: messages read; `devices`, `heard`: the number of devices, and of
    those that were heard; `problems`: files and lines that could not be read; `every`: whether all
    rows are shown; `where`, `given`: the words that name the workspace and the messages.
    """

    about: str
    total: int
    devices: int
    heard: int
    problems: tuple[str, ...] = ()
    every: bool = False
    where: str = ""
    given: str = ""

    @property
    def is_odd(self) -> bool:
        """Whether there is anything that somebody has to look at."""
        raise NotImplementedError


class SilenceView(MeasuredView, frozen=True, kw_only=True):
    """The longest silence of each device, the least likely first.

    `rate`: of false alarms; `until`: when the records end; `times`: when messages came.
    """

    rate: float
    until: float
    silences: tuple[Silence, ...]
    times: Mapping[str, Times] = {}
    unsure: Mapping[str, int] = {}

    @property
    def is_odd(self) -> bool:
        return any(s.state in ("silent", "together", "never") for s in self.silences)

    @property
    def columns(self) -> tuple[str, ...]:
        return (*Silence.__struct_fields__, "unsure")

    def rows(self) -> Iterator[Mapping[str, Any]]:
        for s in self.silences:
            unsure = self.unsure.get(s.device, 0)
            yield {**msgspec.to_builtins(s), "begun": time_of(s.begun), "unsure": unsure}


# The keys of a clock's row.
_CLOCK = "device number:messages kind offset drift delay delay_95 late latest by_relay"
CLOCK = (*keys(_CLOCK), "levels", "file", "line")


class ClocksView(MeasuredView, frozen=True, kw_only=True):
    """The clock of each device that was heard, the worst first; `samples`: what they rest on;
    `collector_steps`: settings of the collectors' clock.
    """

    tolerance: float
    clocks: tuple[Clock, ...]
    samples: Mapping[str, list[Pair]] = {}
    collector_steps: tuple[Step, ...] = ()

    @property
    def is_odd(self) -> bool:
        return any(c.kind not in ("right", "untold") for c in self.clocks)

    @property
    def columns(self) -> tuple[str, ...]:
        return CLOCK

    def rows(self) -> Iterator[Mapping[str, Any]]:
        for c in self.clocks:
            yield {
                **fields(c, _CLOCK),
                "levels": [
                    f"{time_of(level.first)}/{time_of(level.last)} {level.offset:.3f}"
                    for level in c.levels
                ],
                "file": c.example.file if c.example else "",
                "line": c.example.line if c.example else None,
            }


class LossesView(MeasuredView, frozen=True, kw_only=True):
    """What the numbers of each device tell at each collector, the most that is missing first;
    `unnumbered`: devices that send messages without a number; `filtering`: devices whose numbers
    may be of messages that their configuration filters out.
    """

    losses: tuple[Loss, ...]
    unnumbered: tuple[str, ...] = ()
    filtering: frozenset[str] = frozenset()

    @property
    def is_odd(self) -> bool:
        return any(loss.is_odd for loss in self.losses)

    @property
    def columns(self) -> tuple[str, ...]:
        return (*Loss.__struct_fields__, "share", "may_be_filtered")

    def rows(self) -> Iterator[Mapping[str, Any]]:
        for loss in self.losses:
            may_be_filtered = loss.is_steady and loss.device in self.filtering
            yield {
                **msgspec.to_builtins(loss),
                "share": loss.share,
                "may_be_filtered": may_be_filtered,
            }


class VolumeView(MeasuredView, frozen=True, kw_only=True):
    """What messages cost on the line, the most first.

    `by`: what is added up; `level`: another trap level, '' if none is asked for; `seconds`: how
    long it was listened for; `severities`: what each costs now, and at the other level.
    """

    by: str
    level: str
    seconds: float
    volumes: tuple[Volume, ...]
    severities: tuple[OfSeverity, ...]

    @property
    def is_odd(self) -> bool:
        return False

    @property
    def columns(self) -> tuple[str, ...]:
        return (self.by, *(k for k in Volume.__struct_fields__ if k != "name"))

    def rows(self) -> Iterator[Mapping[str, Any]]:
        for v in self.volumes:
            yield {
                self.by: v.name,
                **{k: n for k, n in msgspec.to_builtins(v).items() if k != "name"},
            }
