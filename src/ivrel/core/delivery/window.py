"""Maintenance windows: the hours when a delivery may start devices.

Passes: 23:30 and 01:15 are between 22:00 and 04:00
Fails:  `between 25:00` (no time of a day)
"""

from __future__ import annotations

import re
from datetime import datetime, timedelta

from msgspec import Struct

from ivrel.core.vocabulary.wording import shorten

DAY = timedelta(days=1)


class Window(Struct, frozen=True):
    """The time between two times of day, in minutes after midnight.

    A window whose end is before its begin crosses midnight.
    """

    begin: int
    end: int

    @classmethod
    def of(cls, begin: str, end: str) -> Window:
        """Return the window between two times of day such as `22:00`.

        Raise ValueError if one is not a time of day, or if both are equal.
        """
        first = _minutes(begin)
        last = _minutes(end)
        if first == last:
            raise ValueError(f"from {begin} to {end} is no time at all")
        return cls(first, last)

    def left(self, now: datetime) -> float:
        """Return the seconds until the window closes; 0 if it is closed now."""
        opened = now.replace(hour=0, minute=0, second=0, microsecond=0)
        opened += timedelta(minutes=self.begin)
        if opened > now:
            opened -= DAY  # it may have been opened yesterday
        length = timedelta(minutes=(self.end - self.begin) % (24 * 60))
        return max(0.0, (opened + length - now).total_seconds())

    def __str__(self) -> str:
        return f"{_clock(self.begin)} to {_clock(self.end)}"


def _minutes(text: str) -> int:
    found = re.fullmatch(r"(\d{1,2}):(\d\d)", text)
    if found is None or int(found[1]) > 23 or int(found[2]) > 59:
        raise ValueError(f"'{shorten(text)}' is not a time of day; write for example 22:00")
    return 60 * int(found[1]) + int(found[2])


def _clock(minutes: int) -> str:
    return f"{minutes // 60:02}:{minutes % 60:02}"
