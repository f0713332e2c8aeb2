"""Checks of a printed configuration: its prompt, and lines that may not belong to it.

A terminal session mixes several things: the configuration, the prompt, the echo of a command, log
messages of the device, and line breaks that the terminal inserts. Only the first is wanted.

Passes: `Prompt.of("> $", b"12:04:05 pier> ", b"12:04:06 pier> ")`; only the clock differs
Fails:  `Prompt.of("> $", b"a> ", b"b> ")`; nothing is learned, the dialect's pattern is used
"""

from __future__ import annotations

import re
from collections.abc import Sequence

from msgspec import Struct

from ivrel.core.delivery.standing import export_differs
from ivrel.core.dialects.dialect import Dialect
from ivrel.core.text.text import decode
from ivrel.core.vocabulary.wording import plain, shorten

SPEAKING = 3  # signs of a prompt, from which on no line of a configuration begins with it
# Usual terminal widths, and one column less; some terminals ignore the width they are given.
EDGES = (79, 80, 131, 132)
EDGE = 3  # lines at the top and at the end, in which a device may say when it printed
_NUMBER = re.compile(r"\d+")
# The start of a log message (RFC 3164 section 4.1.2, RFC 3339 section 5.6).
_STAMP = re.compile(
    rb"^\W{0,4}(<\d{1,3}>\W{0,2}|"
    rb"(\w{3} )?(Jan|Feb|Mar|Apr|May|Jun|Jul|Aug|Sep|Oct|Nov|Dec) [ \d]\d \d\d:\d\d(:\d\d)?\b|"
    rb"\d{4}-\d\d-\d\d[T ]\d\d:\d\d(:\d\d)?\b|\d\d:\d\d:\d\d\b)"
)
_STAMPED = re.compile(b"(?m)" + _STAMP.pattern)  # whether there is any, at once

_IN_BETWEEN = "other output was mixed in: try again"
_ASIDE = "the dialect can drop such lines (session: aside)"
_WIDER = "a command under 'start' of the dialect's session may turn wrapping off"


class Prompt(Struct, frozen=True):
    """The prompt of one device.

    `pattern`: a regular expression for it; `is_own`: the pattern was learned from this device,
    rather than taken from the dialect.
    """

    pattern: str
    is_own: bool = True

    @classmethod
    def of(cls, of_dialect: str, seen: bytes, again: bytes) -> Prompt:
        """Return the prompt of a device that showed it twice, `seen` and `again`.

        Numbers may differ between the two: clocks and counters change.
        """
        own = cls(_NUMBER.sub(r"\\d+", re.escape(decode(again))))
        return own if own.is_last(seen) else cls(of_dialect, is_own=False)

    def is_last(self, line: bytes) -> bool:
        """Whether a last line is this prompt."""
        found = re.fullmatch if self.is_own else re.search
        return bool(line) and found(self.pattern, decode(line)) is not None

    def begins(self, line: bytes) -> bool:
        """Whether a line starts with the prompt, as a command typed by somebody else does."""
        return bool(self._bare) and re.match(self._bare, decode(line)) is not None

    def may_begin(self, data: bytes) -> bool:
        """Whether a line of a text starts with the prompt."""
        return bool(self._bare) and re.search(f"(?m)^{self._bare}", decode(data)) is not None

    @property
    def _bare(self) -> str:
        """The pattern without trailing blanks; empty if it is too short to be distinctive."""
        bare = self.pattern.rstrip().removesuffix("\\") if self.is_own else ""
        return bare if len(bare.strip()) >= SPEAKING else ""


class DoubtfulLine(Struct, frozen=True):
    """A printed line that may not belong to the configuration.

    `why`: the reason, completing "line N ..."; `hint`: what the user can do; `like`: the line with
    the parts masked that change from one reading to the next; `may_stay`: the line belongs to the
    configuration if each reading contains it.
    """

    line: int
    why: str
    hint: str
    like: str = ""
    may_stay: bool = False


def doubts_of(
    dialect: Dialect, data: bytes, prompt: Prompt, typed: str
) -> tuple[DoubtfulLine, ...]:
    """Return all lines of a printed configuration that may not belong to it.

    `prompt`: the device's prompt; `typed`: the command that printed the configuration.
    """
    lines = data.split(b"\n")
    found = []
    if prompt.may_begin(data) or typed.encode() in data or _STAMPED.search(data):
        for number, line in enumerate(lines, 1):
            if prompt.begins(line):
                found.append(DoubtfulLine(number, "starts with the prompt", _IN_BETWEEN))
            elif line.strip() == typed.encode():
                found.append(DoubtfulLine(number, "is that, too", _IN_BETWEEN))
            elif stamp := _STAMP.match(line):
                found.append(_stamped(number, len(lines), decode(line), decode(stamp[0])))
    if number := _folded(dialect, lines):
        why = f"may be wrapped at {len(decode(lines[number - 1]))} columns"
        found.append(
            DoubtfulLine(number, f"{why}, and the joined line means something else", _WIDER)
        )
    return tuple(found)


def staying(before: Sequence[DoubtfulLine], again: Sequence[DoubtfulLine]) -> bool:
    """Whether two readings have the same doubtful lines, and all of these may belong to them."""
    is_same = [(d.line, d.like) for d in before] == [(d.line, d.like) for d in again]
    return is_same and all(d.may_stay for d in again)


def _stamped(number: int, lines: int, line: str, stamp: str) -> DoubtfulLine:
    """Return the doubt about a line that starts with a time stamp.

    Devices print the current time in the first or last lines. Elsewhere, a line of the
    configuration is the same in each reading, and a log message has another second.
    """
    said = plain(line)
    is_edge = min(number, lines - number) <= EDGE
    like = _NUMBER.sub("0", said) if is_edge else said
    why = f"looks like a log message: '{shorten(said, 40)}'"
    return DoubtfulLine(number, why, _ASIDE, like, may_stay=is_edge or stamp.count(":") == 2)


def _folded(dialect: Dialect, lines: Sequence[bytes]) -> int:
    """Return the first line that a terminal may have wrapped, or 0.

    A line counts only if it ends at a terminal's edge, and if joining it with the next line changes
    the export settings.
    """
    columns = [len(decode(line)) for line in lines]
    longest = max(columns, default=0)
    if longest not in EDGES:
        return 0
    at = [n for n, one in enumerate(columns) if one == longest and n + 1 < len(lines)]
    joined = b"".join(
        line if n in at else line + b"\n" for n, line in enumerate(lines)
    ).removesuffix(b"\n")
    return at[0] + 1 if at and export_differs(dialect, b"\n".join(lines), joined) else 0
