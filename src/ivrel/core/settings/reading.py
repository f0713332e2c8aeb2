"""What was understood of one configuration, with the lines that say it."""

from __future__ import annotations

from collections.abc import Callable

from msgspec import Struct

from ivrel.core.fleet import Device
from ivrel.core.reading.statements import UnparsedLine
from ivrel.core.settings.contract import Fact
from ivrel.core.text.bundle import Places


class DeviceReading(Struct, frozen=True, kw_only=True):
    """What was understood of one configuration.

    `file`: what the configuration is called; `places`: gives the file and the line of a line of a
    bundle; `text_of`: gives the text of a line, as far as a setting may show it.
    """

    device: Device
    facts: tuple[Fact, ...]
    unparsed: tuple[UnparsedLine, ...]
    file: str
    places: Places
    text_of: Callable[[int, str], str]
