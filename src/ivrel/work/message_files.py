"""Files of messages, and how they are read."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import UTC, tzinfo

from msgspec import Struct

from ivrel.core.attribution.filtering import ALWAYS, Period
from ivrel.core.vocabulary.errors import InputError

__all__ = ["MessageFiles", "Period"]


class MessageFiles(Struct, frozen=True):
    """Files of messages, and how they are read.

    `files`: files whose collector is not known, or captures, where each packet names it; `at`:
    files by the collector that wrote them; `form`: the format, one of `FORMATS`, empty if the first
    line decides; `line_format`: the format of a line, such as '{received} {sender} {message}';
    `zone`: the time zone of stamps that name none, where neither a device's configuration nor the
    policy says it; `period`: only messages that came then.
    """

    files: tuple[str, ...] = ()
    at: Mapping[str, tuple[str, ...]] = {}
    form: str = ""
    line_format: str = ""
    zone: tzinfo = UTC
    period: Period = ALWAYS

    def __post_init__(self) -> None:
        if self.form and self.line_format:
            said = "the format of the messages is named and described; leave one of them out"
            raise InputError(said)
        if self.line_format:
            from ivrel.sources.messages.formats import template

            template(self.line_format)  # a wrong one is reported now

    def __bool__(self) -> bool:
        return bool(self.files or self.at)
