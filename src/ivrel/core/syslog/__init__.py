"""Syslog messages and their framing: RFC 5424, RFC 3164, RFC 6587.

>>> from ivrel.core.syslog import parse
>>> message = parse(b"<34>Oct 11 22:14:15 mymachine su: 'su root' failed for lonvick on /dev/pts/8")
>>> (message.host, message.app, message.severity)
('mymachine', 'su', 2)
"""

from ivrel.core.syslog.departures import DEPARTURES, section, told
from ivrel.core.syslog.framing import COUNTED, DATAGRAM, LINE, Frame, Frames
from ivrel.core.syslog.message import RFC3164, RFC5424, Departure, Element, Message, Stamp
from ivrel.core.syslog.parse import parse
from ivrel.core.syslog.stamps import moment

__all__ = [
    "COUNTED", "DATAGRAM", "DEPARTURES", "LINE", "RFC3164", "RFC5424", "Departure", "Element",
    "Frame", "Frames", "Message", "Stamp", "moment", "parse", "section", "told",
]  # fmt: skip
