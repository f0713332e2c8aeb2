"""Recognises which dialect a text is written in."""

from __future__ import annotations

from collections.abc import Iterable

from ivrel.core.dialects.dialect import Dialect
from ivrel.core.reading.matcher import matcher
from ivrel.core.reading.reader import understood
from ivrel.core.text.text import Text

LOOKED_AT = 65_536  # bytes at the beginning of a text that are looked at
FAIR_SHARE = 0.01  # of the lines of a text that a dialect must understand
# Of a language in which nearly every line is a statement, whatever it says.
SHARE_OF_RULES = 0.3


def looks_like(text: Text, dialects: Iterable[Dialect]) -> str | None:
    """Return the dialect that understands most of a text's beginning; None if none understands a
    fair share of its lines.
    """
    begin = Text(_beginning(text.data))
    lines = sum(1 for line in begin.data.split(b"\n") if line.strip())
    best = 0
    name = None
    for dialect in dialects:
        number = understood(matcher(dialect), begin)
        share = SHARE_OF_RULES if dialect.shape.DERIVED else FAIR_SHARE
        if number > best and number >= share * lines:
            best = number
            name = dialect.name
    return name


def _beginning(data: bytes) -> bytes:
    """Return the whole lines at the beginning of a text, or a part of a very long first one."""
    if len(data) <= LOOKED_AT:
        return data
    end = data.rfind(b"\n", 0, LOOKED_AT)
    return data[: end + 1] if end >= 0 else data[:LOOKED_AT]
