"""Framing: where messages begin and end in what a transport brings.

A datagram is a message (RFC 5426 section 3.1). A stream counts octets, or ends each message with a
line feed or a zero byte (RFC 6587 section 3.4); over TLS it counts octets (RFC 5425 section 4.3).
Streams that mix these are read frame by frame. What is kept of a frame that never ends is bounded.

A number is a count only if a message begins behind it: a line may begin with a number, too.
"""

from __future__ import annotations

import re

from msgspec import Struct

LONGEST = 64 * 1024  # bytes of a message that are kept
MOST_COUNTED = 1024 * 1024  # no count is larger; what seems to be one is a word of a line
_DIGITS = len(str(MOST_COUNTED))
_COUNT = re.compile(rb"([1-9][0-9]{0,%d}) (?=<[0-9]{1,3}>)" % (_DIGITS - 1))
# What may become a count with a message behind it when more comes.
_MAY_COUNT = re.compile(rb"[1-9][0-9]{0,%d}(?: (?:<[0-9]{0,3})?)?" % (_DIGITS - 1))
# What stands behind a zero byte that ends a message: nothing yet, a line feed, or a message.
_BEHIND_ZERO = re.compile(rb"\x00(?=$|[\n<]|[1-9][0-9]* <)")

DATAGRAM = "datagram"
COUNTED = "octet counting"
LINE = "line feed"
ZERO = "zero byte"
_ENDS = {LINE: b"\n", ZERO: b"\x00"}


class Frame(Struct, frozen=True):
    """The bytes of one message, and how they were framed.

    `dropped`: bytes that were not kept, since the message is too long; `cut`: the stream ended
    within it.
    """

    data: bytes
    framing: str
    dropped: int = 0
    cut: bool = False


class Frames:
    """Takes the bytes of one stream as they come, and gives the frames that are whole."""

    def __init__(self, longest: int = LONGEST) -> None:
        self._longest = longest
        self._held = bytearray()
        self._ended_by = (
            ""  # how the lines of this stream end: LINE or ZERO; '' as long as none has
        )
        # Of the frame on its way that is too long: what is kept of it, and the bytes that are gone.
        self._kept = b""
        self._dropped = 0
        self._left = 0  # bytes of a counted frame that are still to come and to be dropped

    def feed(self, data: bytes) -> list[Frame]:
        """Take bytes and return the frames that they make whole."""
        self._held += data
        out: list[Frame] = []
        while self._held:
            frame = self._next()
            if frame is None:
                break
            if frame.framing == COUNTED or frame.dropped or _stripped(frame.data):
                out.append(frame)
        return out

    def close(self) -> list[Frame]:
        """Return the rest when the stream ends: at most one frame, which is cut."""
        count = self._count() if not self._kept else None
        counted = self._left > 0 or count is not None
        begin = count[1] if count else 0
        data = self._kept or bytes(self._held[begin : begin + self._longest])
        dropped = max(self._dropped - (not counted), 0)
        is_nothing = not self._dropped and not (counted or _stripped(data))
        self._held.clear()
        self._kept = b""
        self._dropped = 0
        self._left = 0
        if is_nothing:
            return []
        # A last line without its end is whole: many senders close the stream right behind it.
        kind = COUNTED if counted else self._ended_by or LINE
        return [Frame(data, kind, dropped, cut=counted or dropped > 0)]

    def _next(self) -> Frame | None:
        """Take one frame from what is held; None if it is not whole yet."""
        if self._left:
            return self._drop_counted()
        if self._dropped:
            return self._drop_line()
        if self._ended_by == ZERO:
            del self._held[: len(self._held) - len(self._held.lstrip(b"\r\n"))]
        count = self._count()
        if count is None:
            return None if self._may_count() else self._line()
        length, begin = count
        if length > self._longest:
            self._kept = bytes(self._held[begin : begin + self._longest])
            if len(self._kept) < self._longest:
                self._kept = b""
                return None
            del self._held[: begin + self._longest]
            self._left = length - self._longest
            return self._drop_counted()
        if len(self._held) < begin + length:
            return None
        data = bytes(self._held[begin : begin + length])
        del self._held[: begin + length]
        return Frame(data, COUNTED)

    def _count(self) -> tuple[int, int] | None:
        """Return the count that a frame begins with, and where its message does; None if there is
        none.
        """
        found = _COUNT.match(self._held)
        if found is None or int(found[1]) > MOST_COUNTED:
            return None
        return int(found[1]), found.end()

    def _may_count(self) -> bool:
        """Whether what is held may become a count when more of it comes."""
        return len(self._held) <= _DIGITS + 5 and _MAY_COUNT.fullmatch(self._held) is not None

    def _line(self) -> Frame | None:
        """Take one line; None if it has not ended yet."""
        kind = self._ended_by or self._how_lines_end()
        end = self._held.find(_ENDS[kind])
        if end > self._longest or (end < 0 and len(self._held) > self._longest):
            self._ended_by = kind
            self._kept = bytes(self._held[: self._longest])
            self._dropped = 0
            del self._held[: self._longest]
            return self._drop_line(begun=True)
        if end < 0:
            return None
        self._ended_by = kind
        data = bytes(self._held[:end])
        del self._held[: end + 1]
        return Frame(data, kind)

    def _how_lines_end(self) -> str:
        """Return how the first line of a stream ends: a message that a zero byte ends may hold line
        feeds.
        """
        zero = _BEHIND_ZERO.search(self._held)
        if zero is None:
            return LINE
        # A count behind a line feed begins the next frame, which may hold a zero byte.
        feed = self._held.find(b"\n", 0, zero.start())
        return LINE if feed >= 0 and _COUNT.match(self._held, feed + 1) else ZERO

    def _drop_line(self, *, begun: bool = False) -> Frame | None:
        """Drop a line that is too long up to its end; None as long as that has not come."""
        kind = self._ended_by or LINE
        end = self._held.find(_ENDS[kind])
        gone = len(self._held) if end < 0 else end
        # At least 1: what tells that such a line is on its way.
        self._dropped += gone + (1 if begun else 0)
        del self._held[: gone + (end >= 0)]
        if end < 0:
            return None
        frame = Frame(self._kept, kind, self._dropped - 1)
        self._kept = b""
        self._dropped = 0
        return frame

    def _drop_counted(self) -> Frame | None:
        gone = min(self._left, len(self._held))
        self._left -= gone
        self._dropped += gone
        del self._held[:gone]
        if self._left:
            return None
        frame = Frame(self._kept, COUNTED, self._dropped)
        self._kept = b""
        self._dropped = 0
        return frame


def _stripped(data: bytes) -> bytes:
    """Return a line without what other ways to end lines leave of it."""
    return data.strip(b"\r\n\x00")
