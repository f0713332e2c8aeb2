"""A file as rsyslogd takes it in: lines joined where one ends in a backslash, blanks at line ends
dropped.

Documentation: "Configuration File", lines (configuration/conf_formats,
configuration/basic_structure).
"""

from __future__ import annotations

from bisect import bisect_right

from msgspec import Struct

# Stands where joined lines end. The daemon puts a word of its own there, which an object or an
# expression that goes on behind it does not take.
JOINT = "\x1d"
MAX = 1 << 62  # more than any place in a text


class Source(Struct, frozen=True):
    """One file: its name, the line that its first line is, its text, and the text as the daemon
    takes it in.
    """

    name: str
    first: int
    whole: str
    text: str
    joins: tuple[
        tuple[int, int], ...
    ]  # where a piece of `text` begins, and where in `whole` that is
    ends: tuple[int, ...]  # where lines of `whole` end

    def original(self, at: int) -> int:
        """Return the place in the whole text of a place in what the daemon takes in."""
        here, there = self.joins[bisect_right(self.joins, (at, MAX)) - 1]
        return there + at - here

    def line(self, at: int) -> int:
        """Return the line, as the reader counts, of a place in what the daemon takes in."""
        return self.first + min(
            bisect_right(self.ends, self.original(at) - 1), max(len(self.ends) - 1, 0)
        )


def read_source(name: str, first: int, whole: str) -> Source:
    """Return the source of a file's text."""
    pieces: list[str] = []
    joins: list[tuple[int, int]] = []
    ends: list[int] = []
    length = begun = 0
    joined = False
    while begun < len(whole):
        end = whole.find("\n", begun)
        end = len(whole) if end < 0 else end
        ends.append(end)
        line = whole[begun:end]
        said = line.lstrip(" \t\r\f\v") if joined else line
        start = begun + len(line) - len(said)
        said = said.rstrip(" \t\r\f\v")
        goes_on = said.endswith("\\")
        if goes_on:
            said = said[:-1]
        else:
            said += JOINT + "\n" if joined else "\n"
        joins.append((length, start))
        pieces.append(said)
        length += len(said)
        joined = goes_on
        begun = end + 1
    return Source(name, first, whole, "".join(pieces), tuple(joins) or ((0, 0),), tuple(ends))
