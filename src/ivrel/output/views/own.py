"""Devices' own records, held against what reached the collectors."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

from ivrel.core.evidence.results import DeviceKept
from ivrel.core.vocabulary.wording import shorten
from ivrel.output.views.messages import iso
from ivrel.output.views.view import RowsView


class OwnView(RowsView, frozen=True, kw_only=True):
    """What became of each message that devices kept, collector by collector."""

    devices: tuple[DeviceKept, ...]
    most: int = 0
    where: str = ""

    @property
    def is_odd(self) -> bool:
        """Whether anything did not come as it should."""
        return any(d.counts[state] for d in self.devices for state in ("lost", "late", "twice"))

    @property
    def columns(self) -> tuple[str, ...]:
        return (
            *("device", "collector", "state", "stamped", "delay", "arrivals"),
            *("text", "file", "line"),
        )

    def rows(self) -> Iterator[Mapping[str, Any]]:
        for d in self.devices:
            for one in d.kept:
                yield {
                    "device": d.device,
                    "collector": d.collector,
                    "state": one.state,
                    "stamped": iso(one.stamped),
                    "delay": one.delay,
                    "arrivals": len(one.arrived),
                    "text": shorten(one.record.message.text, 400),
                    "file": one.record.file,
                    "line": one.record.line,
                }
