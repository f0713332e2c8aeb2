"""Framing: where messages begin and end in what a transport brings.

A datagram is a message (RFC 5426 section 3.1). A stream counts octets or ends each message with a
line feed (RFC 6587 section 3.4); over TLS it counts octets (RFC 5425 section 4.3). Streams that mix
both are read frame by frame. What is kept of a frame that never ends is bounded.
"""

from __future__ import annotations

from msgspec import Struct

LONGEST = 64 * 1024  # bytes of a message that are kept
_DIGITS = 10  # of a count

DATAGRAM = "datagram"
COUNTED = "octet counting"
LINE = "line feed"


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
            out.append(frame)
        return out

    def close(self) -> list[Frame]:
        """Return the rest when the stream ends: at most one frame, which is cut."""
        if not self._held and not self._dropped:
            return []
        count = self._count() if not self._kept else None
        counted = self._left > 0 or count is not None
        begin = count[1] if count else 0
        data = self._kept or bytes(self._held[begin : begin + self._longest])
        dropped = max(self._dropped - (not counted), 0)
        self._held.clear()
        self._kept = b""
        self._dropped = 0
        self._left = 0
        # A last line without its end is whole: many senders close the stream right behind it.
        return [Frame(data, COUNTED if counted else LINE, dropped, cut=counted or dropped > 0)]

    def _next(self) -> Frame | None:
        """Take one frame from what is held; None if it is not whole yet."""
        if self._left:
            return self._drop_counted()
        if self._dropped:
            return self._drop_line()
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
        end = self._held.find(b" ", 0, _DIGITS + 1)
        digits = bytes(self._held[:end]) if end > 0 else b""
        if not digits.isdigit() or digits.startswith(b"0"):
            return None
        return int(digits), end + 1

    def _may_count(self) -> bool:
        """Whether what is held may become a count when more of it comes."""
        return len(self._held) <= _DIGITS and bytes(self._held).isdigit()

    def _line(self) -> Frame | None:
        end = self._held.find(b"\n")
        if end > self._longest or (end < 0 and len(self._held) > self._longest):
            self._kept = bytes(self._held[: self._longest])
            self._dropped = 0
            del self._held[: self._longest]
            return self._drop_line(begun=True)
        if end < 0:
            return None
        data = bytes(self._held[:end])
        del self._held[: end + 1]
        return Frame(data, LINE)

    def _drop_line(self, *, begun: bool = False) -> Frame | None:
        """Drop a line that is too long up to its end; None as long as that has not come."""
        end = self._held.find(b"\n")
        gone = len(self._held) if end < 0 else end
        # At least 1: what tells that such a line is on its way.
        self._dropped += gone + (1 if begun else 0)
        del self._held[: gone + (end >= 0)]
        if end < 0:
            return None
        frame = Frame(self._kept, LINE, self._dropped - 1)
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
