"""A device's own record, held against what reached the collectors.

Both bear the stamp of one clock, so that a message is found again by its words and its stamp, or by
its number where both show it. What was lost on the way is distinguished from what was never sent:
of the latter, nothing of its kind ever came.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Sequence
from datetime import UTC, datetime, timedelta, tzinfo

from msgspec import Struct

from ivrel.core.attribution.filtering import kind_of
from ivrel.core.syslog.record import Record
from ivrel.core.syslog.stamps import moment

SAME = timedelta(seconds=2)  # between two stamps of one message, for one may leave out the fraction
NEAR = timedelta(minutes=15)  # between a stamp and the arrival of a message that bears none
LATE = timedelta(minutes=1)
NEVER = datetime(2026, 1, 1, tzinfo=UTC)

# What can have become of a message that a device kept, the worst first.
STATES = {
    "lost": "others of its kind came, and it did not",
    "late": "it came more than a minute after it was stamped",
    "twice": "it came more than once",
    "not sent": "nothing of its kind ever came",
    "outside": "the collector's records begin later, or end earlier",
    "untold": "it bears no time by which it could be found again",
    "came": "it came, once and in time",
}


class Arrived(Struct, frozen=True):
    """A message of the device at a collector, and when it came."""

    record: Record
    when: datetime | None


class Kept(Struct, frozen=True):
    """A message that a device kept, and what became of it at one collector.

    `state`: a row of STATES; `stamped`: the time that it bears; `delay`: in seconds, of the first
    that came; `arrived`: those that came.
    """

    record: Record
    collector: str
    state: str
    stamped: datetime | None = None
    delay: float | None = None
    arrived: tuple[Arrived, ...] = ()


class _Matched(Struct):
    """A message that was kept, and those that came of it."""

    record: Record
    stamped: datetime | None
    found: list[Arrived]


def held_against(
    kept: Iterable[Record],
    collector: str,
    arrived: Sequence[Arrived],
    covered: tuple[datetime, datetime] | None,
    zone: tzinfo,
) -> list[Kept]:
    """Return the state of each message that a device kept, in the order of its log.

    `arrived`: the messages of the device at a collector; `covered`: from when to when there are
    records of the collector, of any device, None if that is not known; `zone`: that of stamps which
    say none.
    """
    near = covered[1] if covered is not None else _latest(arrived)
    matched = _matched(kept, arrived, near, zone)
    kinds = {kind_of(one.record) for one in arrived}
    # What all delays have in common is the clock's.
    delays = [delay for one in matched if (delay := _delay(one)) is not None]
    least = min(delays, default=0.0)
    out = []
    for one in matched:
        delay = _delay(one)
        delay = delay - least if delay is not None else None
        if one.found:
            is_late = delay is not None and delay > LATE.total_seconds()
            state = "late" if is_late else "twice" if len(one.found) > 1 else "came"
        elif one.stamped is None and one.record.message.sequence is None:
            state = "untold"
        elif _is_outside(one.stamped, covered, timedelta(seconds=least)):
            state = "outside"
        else:
            state = "lost" if kind_of(one.record) in kinds else "not sent"
        out.append(Kept(one.record, collector, state, one.stamped, delay, tuple(one.found)))
    return out


def _latest(arrived: Sequence[Arrived]) -> datetime:
    """Return when the last message came; where nobody knows, some day of these years."""
    return max((one.when for one in arrived if one.when is not None), default=NEVER)


def _is_outside(
    stamped: datetime | None, covered: tuple[datetime, datetime] | None, clock: timedelta
) -> bool:
    """Whether a message was stamped when there are no records; `clock`: what is behind."""
    if stamped is None or covered is None:
        return False
    return not covered[0] - SAME <= stamped + clock <= covered[1] + SAME


def _matched(
    kept: Iterable[Record], arrived: Sequence[Arrived], near: datetime, zone: tzinfo
) -> list[_Matched]:
    """Return each message that was kept with what came of it.

    Each takes one of those that are alike, the nearest in time; then what is left of them came
    twice.
    """
    by_words: dict[str, list[Arrived]] = defaultdict(list)
    for one in arrived:
        by_words[_words(one.record)].append(one)
    out: list[_Matched] = []
    for record in kept:
        stamped = moment(record.message.stamp, near, zone)
        alike = by_words[_words(record)]
        some = [one for one in alike if _is_same(one, record, stamped, zone)]
        first = min(some, key=lambda one: _apart(one, stamped, zone), default=None)
        if first is not None:
            alike.remove(first)
        out.append(_Matched(record, stamped, [first] if first is not None else []))
    for match in out:
        if match.found:
            alike = by_words[_words(match.record)]
            again = [other for other in alike if other.record.data == match.found[0].record.data]
            match.found += again
            for other in again:
                alike.remove(other)
    return out


def _words(record: Record) -> str:
    """Return the words that identify a message; its tag is one of them."""
    message = record.message
    return " ".join(f"{message.app or ''}: {message.text}".split())


def _is_same(one: Arrived, record: Record, stamped: datetime | None, zone: tzinfo) -> bool:
    """Whether a message that came, whose words are the same, is the one that was kept."""
    here = record.message.sequence
    there = one.record.message.sequence
    if here is not None and there is not None:
        return here == there
    return stamped is not None and _apart(one, stamped, zone) < (
        SAME if one.record.message.stamp.kind == "calendar" else NEAR
    )


def _apart(one: Arrived, stamped: datetime | None, zone: tzinfo) -> timedelta:
    """Return how far a message that came lies from the time that was kept."""
    if stamped is None:
        return timedelta(0)
    when = _bore(one, stamped, zone) or one.when
    return abs(when - stamped) if when is not None else timedelta.max


def _bore(one: Arrived, near: datetime, zone: tzinfo) -> datetime | None:
    return moment(one.record.message.stamp, near, zone)


def _delay(one: _Matched) -> float | None:
    """Return the seconds from the stamp to the first arrival; None if one of them is not known."""
    came = [other.record.received for other in one.found if other.record.received is not None]
    if not came or one.stamped is None:
        return None
    return (min(came) - one.stamped).total_seconds()
