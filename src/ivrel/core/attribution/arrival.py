"""An arrival: a message with what is known of its way."""

from __future__ import annotations

from datetime import datetime, tzinfo

from msgspec import Struct

from ivrel.core.attribution.senders import Attribution, Directory, attribute
from ivrel.core.attribution.zones import UNKNOWN_ZONE, StampZone
from ivrel.core.syslog.record import Record


class Arrival(Struct, frozen=True):
    """A message that came: whose it is (`found`), `when` it came, as far as that is known;
    `collector`: the one that it arrived at, '' if that is not known; `zone`: that of a stamp which
    shows none.
    """

    record: Record
    found: Attribution
    when: datetime | None
    collector: str = ""
    zone: StampZone = UNKNOWN_ZONE


def arrived(
    record: Record, directory: Directory, near: datetime, zone: tzinfo, collector: str = ""
) -> Arrival:
    """Return a message with what is known of its way.

    `near`: when its file was written; `zone`: that of stamps which show none, where neither the
    device's configuration nor the policy says it.
    """
    found = attribute(record, directory)
    stamp = record.message.stamp
    own = StampZone(zone)
    # A line without PRI was written by a collector, with a stamp in a zone of its own.
    if stamp.kind == "calendar" and not stamp.zone and record.message.pri is not None:
        own = directory.zone_of(found.device, zone)
    return Arrival(record, found, record.when(near, own.zone), collector, own)
