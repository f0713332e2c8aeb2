"""Which lines of a configuration may be shown in a diff of it."""

from __future__ import annotations

from msgspec import Struct

from ivrel.core.correcting.difference import is_export
from ivrel.core.dialects.dialect import Dialect
from ivrel.core.reading.matcher import matcher
from ivrel.core.reading.statements import NO_PATTERN, Understood
from ivrel.core.text.text import LONGEST, Text, decode


class ConfigurationLines(Struct, frozen=True):
    """The lines of a configuration, from 1: those that hold nothing but export settings (`shown`),
    and those that hold something else (`kept`), which never leave it.
    """

    shown: frozenset[int]
    kept: frozenset[int]


def lines_of(dialect: Dialect, text: Text) -> ConfigurationLines:
    """Return which lines of a configuration may be shown."""
    shape = dialect.shape
    reader = matcher(dialect)
    if shape.DERIVED:
        # Its statements are worked out from lines; none but those that change are shown.
        return ConfigurationLines(frozenset(), frozenset())
    shown: set[int] = set()
    kept: set[int] = set()
    for path, raw, line in shape.statements(text):
        words = tuple(shape.split(decode(raw[:LONGEST])))
        match = reader.find(path, words) if words else None
        if isinstance(match, Understood) and match.pattern != NO_PATTERN:
            (shown if is_export(dialect, match) else kept).add(line)
        elif words and reader.is_header(path, words):
            shown.add(line)
        else:
            kept.add(line)
    return ConfigurationLines(frozenset(shown - kept), frozenset(kept))
