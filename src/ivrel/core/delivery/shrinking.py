"""Shrinking: a fetched configuration that lost most of what the one before said.

A device that was cut off in the middle of its answer, or answered with something else, may not take
the place of what was known of it.
"""

from __future__ import annotations

from ivrel.core.dialects.dialect import Dialect
from ivrel.core.reading.matcher import matcher
from ivrel.core.reading.reader import understood
from ivrel.core.text.text import Text
from ivrel.core.vocabulary.wording import counted

FEW_LINES, FEW_STATEMENTS = 20, 4  # so few of a configuration can go on any day


def shrunk(dialect: Dialect, old: bytes, new: bytes) -> str:
    """Return the reason if a configuration lost most of its lines or of its statements of export
    settings; '' if it did not.
    """
    lines = _lines(old), _lines(new)
    if lines[0] >= FEW_LINES and 2 * lines[1] < lines[0]:
        return f"of {counted(lines[0], 'line')} {lines[1]} are left"
    told = [understood(matcher(dialect), Text(data)) for data in (old, new)]
    if told[0] >= FEW_STATEMENTS and 2 * told[1] < told[0]:
        return f"of {counted(told[0], 'statement')} of export settings {told[1]} are left"
    return ""


def _lines(data: bytes) -> int:
    return sum(1 for line in data.split(b"\n") if line.strip())
