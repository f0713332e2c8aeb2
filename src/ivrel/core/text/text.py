"""One text, and what is worked out from it once: where its lines begin, what a shape makes of
it.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Callable
from typing import Any, TypeVar

T = TypeVar("T")

LONGEST = 4096  # bytes; no statement about export settings is longer


def decode(raw: bytes) -> str:
    r"""Return text of a configuration; bytes that are no UTF-8 are replaced, never refused.

    >>> decode(b"caf\xc3\xa9"), decode(b"caf\xe9")
    ('café', 'caf�')
    """
    return raw.decode("utf-8", "replace")


class Text:
    """The text of one configuration, never changed, with an index of its lines.

    `once` keeps what is worked out from the text, so that one content is parsed once however often
    it is asked; it goes when the text goes. `whole`: all of the text will be asked for, so that it
    pays to parse it as a whole rather than part by part.
    """

    __slots__ = ("_ended", "_made", "_places", "data", "whole")

    FAR = 2048  # bytes; what is nearer to a known place is counted from there again

    def __init__(self, data: bytes, *, whole: bool = False) -> None:
        self.data = data
        self.whole = whole
        self._places = [0]
        self._ended = [0]
        self._made: dict[object, Any] = {}

    def once(self, name: object, make: Callable[[], T]) -> T:
        """Return the result of `make`, which must depend on the text and the name alone."""
        try:
            made: T = self._made[name]
        except KeyError:
            made = self._made[name] = make()
        return made

    def line_of(self, at: int) -> int:
        """Return the line of a byte of the text, from 1.

        Counting line ends is a good part of all reading, so places that were counted are kept.
        """
        behind = bisect_right(self._places, at)
        place = self._places[behind - 1]
        if at - place < self.FAR:
            return self._ended[behind - 1] + self.data.count(b"\n", place, at) + 1
        if behind < len(self._places) and self._places[behind] - at < at - place:
            ended = self._ended[behind] - self.data.count(b"\n", at, self._places[behind])
        else:
            ended = self._ended[behind - 1] + self.data.count(b"\n", place, at)
        self._places.insert(behind, at)
        self._ended.insert(behind, ended)
        return ended + 1
