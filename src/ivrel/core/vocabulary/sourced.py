"""A value, and what says it."""

from __future__ import annotations

from collections.abc import Mapping

from msgspec import Struct

from ivrel.core.vocabulary.values import Value


class SourcedValue(Struct, frozen=True, gc=False):
    """A value and the lines that decide it; `default`: they leave it to the platform.

    Many are a tuple.
    """

    value: Value | tuple[Value, ...] | None
    lines: tuple[int, ...] = ()
    default: bool = False


Row = Mapping[str, SourcedValue]
UNSAID = SourcedValue(None, (), True)
