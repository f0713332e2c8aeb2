"""Evidence: what arrives at the collectors, held against what should.

>>> from ivrel.core.evidence import parse
>>> message = parse(b"<34>Oct 11 22:14:15 mymachine su: 'su root' failed for lonvick on /dev/pts/8")
>>> (message.host, message.app, message.severity)
('mymachine', 'su', 2)
"""

from ivrel.core.evidence.departures import DEPARTURES, section, told
from ivrel.core.evidence.framing import COUNTED, DATAGRAM, LINE, Frame, Frames
from ivrel.core.evidence.message import RFC3164, RFC5424, Departure, Element, Message, Stamp
from ivrel.core.evidence.parse import parse
from ivrel.core.evidence.stamps import moment

__all__ = [
    "COUNTED", "DATAGRAM", "DEPARTURES", "LINE", "RFC3164", "RFC5424", "Departure", "Element",
    "Frame", "Frames", "Message", "Stamp", "moment", "parse", "section", "told",
]  # fmt: skip
