"""Messages with the device that sent them, one by one and in groups."""

from __future__ import annotations

from datetime import datetime

from msgspec import Struct

from ivrel.core.attribution.senders import Attribution
from ivrel.core.syslog.record import Record
from ivrel.core.vocabulary.severity import FACILITIES, SEVERITIES


class AttributedMessage(Struct, frozen=True):
    """A message, the device that sent it, and when it arrived, as far as that is known."""

    record: Record
    found: Attribution
    when: datetime | None

    @property
    def facility(self) -> str:
        """The name of the facility; '' if the message has none."""
        code = self.record.message.facility
        return "" if code is None else FACILITIES[code]

    @property
    def severity(self) -> str:
        """The name of the severity; '' if the message has none."""
        code = self.record.message.severity
        return "" if code is None else SEVERITIES[code]

    @property
    def named(self) -> str:
        """The device, or else what there is in its place: the sender, or HOSTNAME."""
        return self.found.device or self.record.sender or self.record.message.host or ""


class MessageGroup(Struct, frozen=True):
    """How many messages have something in common, of how many devices, and the first and the
    last of them.
    """

    what: str
    number: int
    devices: int
    first: datetime | None
    last: datetime | None
