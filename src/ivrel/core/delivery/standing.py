"""The state of a device: what its configuration says now, held against what it said before a change
and what the proof said that it will say.

Texts are compared by what they say, for a device may lay out its configuration again.
"""

from __future__ import annotations

from collections.abc import Container

from msgspec import Struct

from ivrel.core.correcting.changes import apply_change, write_change
from ivrel.core.correcting.difference import is_same_beyond_export, lost_statement
from ivrel.core.correcting.plan import undo
from ivrel.core.dialects.dialect import Dialect
from ivrel.core.reading.records import read_records
from ivrel.core.text.text import Text
from ivrel.core.vocabulary.errors import InputError, Refused, Unreadable

# Where a device can stand.
PROVED = "as proved"
BEFORE = "as before"
BETWEEN = "in between"
UNREADABLE = "not readable"


NAMES = ("unit.name",)  # what a device calls itself: no change is about that


class Standing(Struct, frozen=True):
    """The state of a device, and what differs from the proof if it does not read so."""

    where: str
    why: str = ""


def standing(dialect: Dialect, now: bytes, before: bytes, proved: bytes) -> Standing:
    """Return the state of a device whose configuration is `now`.

    A change that changes nothing that is read leaves a device as proved. Whether it is as before is
    judged on export settings alone: what somebody else has changed beside them, the device's name
    among it, is left to him.
    """
    against = differs(dialect, now, proved)
    if not against:
        return Standing(PROVED)
    if now == before or not _of_export(dialect, _text(before), _text(now), NAMES):
        return Standing(BEFORE, against)
    try:
        read_records(dialect, now)
    except Unreadable as problem:
        return Standing(UNREADABLE, str(problem))
    return Standing(BETWEEN, against)


BEYOND = "other statements than export settings differ"


def differs(dialect: Dialect, now: bytes, wanted: bytes) -> str:
    """Return how a configuration says anything else than another; empty if it does not."""
    if now == wanted:
        return ""
    other = _text(wanted)
    text = _text(now)
    return _of_export(dialect, other, text) or _beyond(dialect, other, text)


def export_differs(dialect: Dialect, now: bytes, wanted: bytes) -> str:
    """Return how a configuration says something else of export than another; empty if it does
    not."""
    return "" if now == wanted else _of_export(dialect, _text(wanted), _text(now))


def _text(data: bytes) -> Text:
    return Text(data, whole=True)


def _of_export(dialect: Dialect, wanted: Text, now: Text, aside: Container[str] = ()) -> str:
    """Return how two texts differ in what they say of export; empty if they do not."""
    try:
        one, other = (read_records(dialect, text) for text in (wanted, now))
    except Unreadable as problem:
        return str(problem)
    if lost := lost_statement(one, other, aside):
        return lost
    if len(one.unparsed) != len(other.unparsed):
        return "there are other statements that are not understood"
    return ""


def _beyond(dialect: Dialect, wanted: Text, now: Text) -> str:
    return "" if is_same_beyond_export(dialect, wanted, now) else BEYOND


class WayBack(Struct, frozen=True):
    """The change that leads back to what a device said, as text, and the text that it gives;
    `problem`: why there is none.
    """

    change: str = ""
    target: bytes = b""
    problem: str = ""


def way_back(dialect: Dialect, now: bytes, before: bytes) -> WayBack:
    """Return the change that restores the earlier export settings, from any state.

    It is tried on the text first: what does not lead back to the last word about export, or touches
    anything else, is no way back. What somebody else has changed meanwhile is left to him.
    """
    texts = Text(now, whole=True), Text(before, whole=True)
    try:
        here, there = (read_records(dialect, text) for text in texts)
        edits = [step.edit for step in undo(here, there) if not set(step.slots) & set(NAMES)]
        change = write_change(dialect, texts[0], edits)
        target = apply_change(dialect, now, change, "way back") if change else now
    except (InputError, Refused, Unreadable) as problem:
        return WayBack(problem=str(problem))
    there_again = Text(target, whole=True)
    why = _of_export(dialect, texts[1], there_again, NAMES) or _beyond(
        dialect, texts[0], there_again
    )
    if why:
        return WayBack(problem=f"it would not lead back: {why}")
    return WayBack(change, target)
