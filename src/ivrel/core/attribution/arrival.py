"""An arrival: a message with what is known of its way."""

from __future__ import annotations

from datetime import UTC, datetime, tzinfo

from msgspec import Struct

from ivrel.core.attribution.senders import Attribution
from ivrel.core.syslog.record import Record


class Arrival(Struct, frozen=True):
    """A message that came: whose it is (`found`), `when` it came, as far as that is known;
    `collector`: the one that it arrived at, '' if that is not known; `zone`: that of stamps which
    say none.
    """

    record: Record
    found: Attribution
    when: datetime | None
    collector: str = ""
    zone: tzinfo = UTC
