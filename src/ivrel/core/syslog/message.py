"""A message as it was read: its fields, and each departure from the standard that it follows."""

from __future__ import annotations

from msgspec import Struct

RFC3164 = "rfc3164"
RFC5424 = "rfc5424"


class Departure(Struct, frozen=True):
    """Where a message departs from its standard; `kind`: a row of DEPARTURES, `found`: what stood
    there.
    """

    kind: str
    found: str = ""


class Stamp(Struct, frozen=True):
    """The time that a message bears, as far as it says it.

    `kind`: 'calendar', 'uptime' or 'none'; `text`: as it is written; `year`: None if it is not
    said; `fraction`: the digits behind the second; `zone`: an offset ('+02:00'; '+00:00' for Z) or
    the name of a zone, '' if none is said; `synchronised`: False if the message says that its clock
    is not, None if it says nothing; `uptime`: seconds since the device started.
    """

    kind: str = "none"
    text: str = ""
    year: int | None = None
    month: int = 0
    day: int = 0
    hour: int = 0
    minute: int = 0
    second: int = 0
    fraction: str = ""
    zone: str = ""
    synchronised: bool | None = None
    uptime: float | None = None

    @property
    def precision(self) -> str:
        """What the digits behind the second tell: 'seconds', 'milliseconds' or 'microseconds'."""
        digits = len(self.fraction)
        return "seconds" if digits == 0 else "milliseconds" if digits <= 3 else "microseconds"


class Element(Struct, frozen=True):
    """An element of structured data (RFC 5424 section 6.3): its SD-ID, its names and values."""

    name: str
    params: tuple[tuple[str, str], ...] = ()

    def get(self, name: str) -> str | None:
        """Return the first value of a name; None if there is none."""
        return next((value for key, value in self.params if key == name), None)


class Message(Struct, frozen=True):
    """One message.

    `pri`: None if it has none; `app`: the APP-NAME of RFC 5424, the TAG of RFC 3164; fields that
    are NILVALUE or not there are None. `text`: its MSG or CONTENT. `sequence`: the number that its
    sender counts messages by.
    """

    form: str
    pri: int | None
    stamp: Stamp
    host: str | None
    app: str | None
    process: str | None
    text: str
    message_id: str | None = None
    data: tuple[Element, ...] = ()
    sequence: int | None = None
    departures: tuple[Departure, ...] = ()

    @property
    def facility(self) -> int | None:
        """The numerical code of the facility (RFC 5424 section 6.2.1)."""
        return None if self.pri is None else self.pri >> 3

    @property
    def severity(self) -> int | None:
        """The numerical code of the severity (RFC 5424 section 6.2.1)."""
        return None if self.pri is None else self.pri & 7

    def element(self, name: str) -> Element | None:
        """Return an element of the structured data; None if there is none of that name."""
        return next((one for one in self.data if one.name == name), None)
