"""Reads a display: what a device shows of its present state.

A display is read as a configuration is, with two differences: it has no defaults, for what it does
not show, nobody knows; and most of its lines are about other things, so that only a line that
begins as one of the dialect's statements, and cannot be read, is in doubt.
"""

from __future__ import annotations

from msgspec import Struct

from ivrel.core.dialects.dialect import Display
from ivrel.core.dialects.items import Rest, match
from ivrel.core.dialects.pattern import Pattern
from ivrel.core.reading.matcher import matcher
from ivrel.core.reading.records import Records
from ivrel.core.reading.statements import Mark, Understood
from ivrel.core.text.text import LONGEST, Text, decode
from ivrel.core.text.words import Path, Words


class DisplayReading(Struct, frozen=True):
    """What one display shows.

    `records`: the rows that could be read; `doubtful`: the lines that begin as a known statement,
    and cannot be read.
    """

    records: Records
    doubtful: tuple[int, ...] = ()


def read_display(display: Display, data: bytes) -> DisplayReading:
    """Return what a display shows. Raise Unreadable if it is damaged."""
    dialect = display.dialect
    known = matcher(dialect)
    text = Text(data, whole=True)
    dialect.shape.check(text)
    marks: list[Mark] = []
    doubtful = []
    for path, raw, line in dialect.shape.everything(text):
        words = tuple(dialect.shape.split(decode(raw[:LONGEST])))
        found = known.find(path, words) if words and len(raw) <= LONGEST else None
        if isinstance(found, Understood):
            marks.append((found, line))
        elif not dialect.sets_aside(path, words) and _resembles(dialect.patterns, path, words):
            doubtful.append(line)
    return DisplayReading(Records(dialect, marks, (), text), tuple(doubtful))


def _resembles(patterns: tuple[Pattern, ...], path: Path, words: Words) -> bool:
    """Whether a line begins as a statement that is known in its place.

    A statement that begins with a value is recognised by its first two values, which a heading of
    a table does not have.
    """
    for pattern in patterns:
        front = pattern.opening or pattern.items[:2]
        if len(path) != len(pattern.path) or len(words) < len(front):
            continue
        begin = pattern.items[: len(front)]
        if match((*begin, Rest()), words, 0) is not None and pattern.read_path(path) is not None:
            return True
    return False
