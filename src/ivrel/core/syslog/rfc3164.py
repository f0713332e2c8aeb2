"""Messages of RFC 3164: read, with the departures that are common, and written."""

from __future__ import annotations

import re
from collections.abc import Sequence

from msgspec.structs import replace

from ivrel.core.syslog.message import RFC3164, Departure, Message, Stamp
from ivrel.core.syslog.stamps import MONTHS, read_stamp
from ivrel.core.vocabulary.addresses import is_address

LONGEST_TAG = 32  # signs (section 4.1.3)

_SEQUENCE = re.compile(r"([0-9]{1,10}): +")
# A sign in front of the stamp, by which devices say that their clock was never set, or that it has
# lost what sets it.
_MARK = re.compile(r"([*.])(?=[0-9A-Z\[])")
_HOST = re.compile(r"[\w.:%-]{1,255}")
_TAG = re.compile(r"([^\s\[\]:<>()]{1,64})(?:\[([^\]\s]{0,128})\])?(:)?(?= |$)")


def read(text: str, at: int, pri: int | None, departures: Sequence[Departure]) -> Message:
    """Return the message whose HEADER is at a place.

    `departures`: those that were found before it.
    """
    noted = list(departures)
    stamp, sequence, at = _stamped(text, at, noted)
    if stamp.kind == "none":
        host = None
    elif noted and noted[-1].kind == "stamp-colon":
        # Where a colon ends the stamp, the text follows.
        noted.append(Departure("no-host"))
        host = None
    else:
        host, at = _host(text, at, noted)
    found = _TAG.match(text, at)
    app = process = None
    # Without a colon or a process behind it, the first word is a word of the text.
    if found is not None and (found[2] is not None or found[3]):
        app = found[1]
        process = found[2] or None
        at = found.end()
        if len(app) > LONGEST_TAG:
            noted.append(Departure("long-tag", app))
        at += text[at : at + 1] == " "
    else:
        noted.append(Departure("no-tag"))
    return Message(
        RFC3164, pri, stamp, host, app, process, text[at:], None, (), sequence, tuple(noted)
    )


def _stamped(text: str, at: int, noted: list[Departure]) -> tuple[Stamp, int | None, int]:
    """Return the stamp, the number in front of it, and where the rest begins."""
    begun = at
    sequence = None
    marked = False
    found = _SEQUENCE.match(text, at)
    if found is not None:
        sequence = int(found[1])
        at = found.end()
    mark = _MARK.match(text, at)
    if mark is not None:
        marked = True
        at = mark.end()
    read = read_stamp(text, at)
    if read is None:
        # Neither a number nor a mark means anything where no stamp follows.
        noted.append(Departure("no-stamp"))
        return Stamp(), None, begun
    stamp, at, more = read
    if found is not None:
        noted.append(Departure("sequence", found[1]))
    if mark is not None:
        noted.append(Departure("unsynchronised", mark[1]))
    noted += more
    if text[at : at + 1] == ":":
        noted.append(Departure("stamp-colon"))
        at += 1
    begun = at
    while text[at : at + 1] == " ":
        at += 1
    if at - begun > 1:
        noted.append(Departure("blanks"))
    return replace(stamp, synchronised=False if marked else None), sequence, at


def _host(text: str, at: int, noted: list[Departure]) -> tuple[str | None, int]:
    """Return the HOSTNAME and where the rest begins; None if a tag is in its place."""
    end = text.find(" ", at)
    word = text[at : end if end >= 0 else len(text)]
    tag = _TAG.match(text, at)
    is_tag = tag is not None and (tag[2] is not None or bool(tag[3])) and not is_address(word)
    if not word or end < 0 or is_tag or not _HOST.fullmatch(word):
        noted.append(Departure("no-host"))
        return None, at
    return word, end + 1


def write(message: Message) -> bytes:
    """Return a message in the form of RFC 3164; what it has no room for is left out.

    >>> from ivrel.core.syslog import parse
    >>> write(parse(b"<34>Oct 11 22:14:15 mymachine su: failed"))
    b'<34>Oct 11 22:14:15 mymachine su: failed'
    """
    stamp = message.stamp
    when = (
        f"{MONTHS[stamp.month - 1]} {stamp.day:2} "
        f"{stamp.hour:02}:{stamp.minute:02}:{stamp.second:02} "
    )
    process = f"[{message.process}]" if message.process else ""
    tag = f"{message.app}{process}: " if message.app else ""
    host = f"{message.host} " if message.host else ""
    pri = f"<{message.pri}>" if message.pri is not None else ""
    return f"{pri}{when if stamp.kind == 'calendar' else ''}{host}{tag}{message.text}".encode()
