"""Looking at messages: which of them are meant, and which are of the same kind."""

from __future__ import annotations

import re
from collections.abc import Container, Iterator, Sequence
from datetime import datetime

from msgspec import Struct

from ivrel.core.attribution.senders import Attribution
from ivrel.core.syslog.record import Record


class Period(Struct, frozen=True):
    """A time in which messages came: `since` and `until` have a zone, the second is exclusive; None
    is no bound.
    """

    since: datetime | None = None
    until: datetime | None = None

    def holds(self, when: datetime | None) -> bool:
        """Whether a message that came then is meant; one without a known time is in no bounds."""
        if self.since is None and self.until is None:
            return True
        if when is None or (self.since is not None and when < self.since):
            return False
        return self.until is None or when < self.until


ALWAYS = Period()


class Wanted(Struct, frozen=True):
    """Which messages are meant; what is None or empty asks nothing.

    `devices`: names; `severity`: the numerical code of the least urgent; `facilities`: numerical
    codes; `pattern`: what the text must hold; `own`: addresses whose sessions are left out.
    """

    devices: Container[str] | None = None
    severity: int | None = None
    facilities: frozenset[int] = frozenset()
    pattern: re.Pattern[str] | None = None
    own: tuple[str, ...] = ()

    @property
    def depends_on_text(self) -> bool:
        """Whether the text of a message decides."""
        return self.pattern is not None or bool(self.own)

    def takes(self, record: Record, found: Attribution) -> bool:
        """Whether a message is meant."""
        message = record.message
        if self.devices is not None and found.device not in self.devices:
            return False
        # What is not said may be anything, and is not what was asked for.
        if self.severity is not None and (
            message.severity is None or message.severity > self.severity
        ):
            return False
        if self.facilities and message.facility not in self.facilities:
            return False
        if self.pattern is not None and not self.pattern.search(message.text):
            return False
        return not any(_mentions(message.text, one) for one in self.own)


def _mentions(text: str, address: str) -> bool:
    """Whether a text holds an address that is not part of a longer one."""
    at = text.find(address)
    while at >= 0:
        around = text[at - 1 : at] + text[at + len(address) : at + len(address) + 1]
        if not re.search(r"[0-9A-Fa-f:]", around):
            return True
        at = text.find(address, at + 1)
    return False


# What differs from one message of a kind to the next: quoted words, addresses, numbers.
_ADDRESS = re.compile(
    r"(?<![\w.:])(?:[0-9]{1,3}(?:\.[0-9]{1,3}){3}|(?:[0-9A-Fa-f]{0,4}:){2,7}[0-9A-Fa-f]{0,4})(?![\w:])"
)
_NUMBER = re.compile(r"\b0x[0-9A-Fa-f]+\b|[0-9]+(?:\.[0-9]+)?")
_QUOTED = re.compile(r"""("[^"]*"|'[^']*')""")


def kind_of(record: Record) -> str:
    """Return the kind of a message: tag and text, with their variable parts masked."""
    return kind_of_text(record.message.app, record.message.text)


def kind_of_text(app: str | None, text: str) -> str:
    """Return the kind of a message by its tag and its text."""
    masked = _masked(text)
    return f"{app}: {masked}" if app else masked


def kinds_of_texts(app: str | None, texts: Sequence[str]) -> Iterator[str]:
    """Yield the kinds of messages with the same tag; all at once, which is quicker, if they are
    lines.
    """
    together = "\n".join(texts)
    if together.count("\n") == len(texts) - 1 and not _has_quotes(together):
        before = f"{app}: " if app else ""
        for masked in _masked(together).split("\n"):
            yield before + masked
    else:
        for text in texts:
            yield kind_of_text(app, text)


def _masked(text: str) -> str:
    """Return a text with its variable parts masked."""
    if _has_quotes(text):
        text = _QUOTED.sub("'…'", text)
    # No address begins within a number, and none of the masks holds a digit.
    if "." in text or ":" in text:
        text = _ADDRESS.sub("ADDRESS", text)
    return _NUMBER.sub("#", text)


def _has_quotes(text: str) -> bool:
    return '"' in text or "'" in text
