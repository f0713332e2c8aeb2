"""All that is known of one device."""

from __future__ import annotations

from typing import Any

from ivrel.core.evidence.page import WhyLine
from ivrel.core.fleet import Device
from ivrel.output.views.view import View, fields


class WhyView(View, frozen=True, kw_only=True):
    """The page about one device."""

    device: Device
    lines: tuple[WhyLine, ...]

    def machine(self) -> Any:
        return {
            "device": self.device.name,
            "lines": [fields(line, "part about said state where") for line in self.lines],
            "next": list(self.next),
        }
