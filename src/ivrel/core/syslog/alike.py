"""Lines that show the same as one that was read: what still differs is taken from their bytes.

Lines of one signature (`signatures`) differ in the time, in numbers and in the text. To find these
takes a tenth of the time of reading each line as a whole.
"""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Iterator, Sequence
from datetime import UTC, datetime, timezone

from ivrel.core.syslog.record import Record

_TIME_OF_DAY = re.compile(rb"([0-2][0-9]):([0-5][0-9]):([0-5][0-9])(?:\.([0-9]{1,6}))?")
_NUMBER_BEFORE = re.compile(rb"(?:<[0-9]{1,3}>)?([0-9]{1,10}): ")
_SEQUENCE_ID = re.compile(rb'sequenceId="([0-9]{1,10})"')
_ENDS = b"\r\n\0"
_DIGITS = re.compile(rb"[0-9]+")
_TEXT = b',"text":"'
# Where a line of a recording has its time: {"received":"2026-11-23T10:00:00.123456Z"
_DAY = slice(13, 23)
_HOUR = slice(24, 26)
_MINUTE = slice(27, 29)
_SECOND = slice(30, 32)
_FRACTION = slice(33, 39)
_MOST_DAYS = 100 * 86_400.0  # between messages whose stamps show no year


class AlikeLines:
    """Lines that are alike, and the record of the first of them.

    `ats`: their numbers in the data, in order; `line`: gives the bytes of one, without its end;
    `recorded`: whether they are of a recording; `first_line`: the number of the first line of the
    data in its file.
    """

    def __init__(
        self,
        ats: Sequence[int],
        line: Callable[[int], bytes],
        recorded: bool,
        first: Record,
        first_line: int,
    ) -> None:
        self.first = first
        self._ats = ats
        self._line = line
        self._recorded = recorded
        self._first_line = first_line
        self._messages: list[bytes] = []
        self._moments: list[float] | None = None

    def __len__(self) -> int:
        return len(self._ats)

    @property
    def numbers(self) -> list[int]:
        """The numbers of the lines in their file."""
        return [self._first_line + at for at in self._ats]

    def some(self, most: int) -> AlikeLines:
        """Return about so many of the lines, from all over them, with the first and the last."""
        step = -(-len(self._ats) // most)
        ats = [*self._ats[:-1:step], self._ats[-1]]
        return AlikeLines(ats, self._line, self._recorded, self.first, self._first_line)

    def is_readable(self) -> bool:
        """Whether each line has a day and a text that can be read; if not, each is to be read by
        itself, and what is wrong with it reported.
        """
        if not self._recorded:
            return True
        days = set()
        try:
            for at in self._ats:
                line = self._line(at)
                days.add(line[_DAY])
                if b"\\" in line:
                    json.loads(line[line.index(_TEXT) + len(_TEXT) - 1 : -1])
            for day in days:
                datetime.fromisoformat(day.decode())
        except ValueError:
            return False
        return True

    def is_certain(self, zone: object) -> bool:
        """Whether times can be taken from the bytes: with a zone that keeps its offset, and with
        years that cannot be guessed differently.
        """
        stamp = self.first.message.stamp
        if stamp.kind != "calendar":
            return True
        if not (zone is UTC or isinstance(zone, timezone)):
            return False
        if stamp.year is not None or not self._recorded:
            return True
        first, *_, last = self.some(1).received()
        return abs(last - first) < _MOST_DAYS

    def messages(self) -> list[bytes]:
        """Return the bytes of each message."""
        if not self._messages:
            self._messages = list(self._read_messages())
        return self._messages

    def _read_messages(self) -> Iterator[bytes]:
        if not self._recorded:
            for at in self._ats:
                yield self._line(at).rstrip(b"\r")
            return
        begin = -1
        for at in self._ats:
            line = self._line(at)
            # What is before the text is the same in all of them.
            begin = begin if begin > 0 else line.index(_TEXT) + len(_TEXT)
            raw = line[begin:-2]
            yield json.loads(line[begin - 1 : -1]).encode() if b"\\" in raw else raw

    def received(self) -> list[float]:
        """Return when each line of a recording was received, in seconds since 1970."""
        days: dict[bytes, float] = {}
        out = []
        for at in self._ats:
            line = self._line(at)
            day = line[_DAY]
            begun = days.get(day)
            if begun is None:
                when = datetime.fromisoformat(day.decode()).replace(tzinfo=UTC)
                begun = days[day] = when.timestamp()
            seconds = int(line[_HOUR]) * 3600 + int(line[_MINUTE]) * 60 + int(line[_SECOND])
            out.append(begun + seconds + int(line[_FRACTION]) / 1e6)
        return out

    def moments(self, first: datetime | None) -> list[float]:
        """Return when each message came, in seconds since 1970; none if that is not known.

        `first`: when the first one came.
        """
        if self._moments is None:
            if self._recorded:
                self._moments = self.received()
            elif first is None or self.first.message.stamp.kind != "calendar":
                self._moments = []
            else:
                self._moments = self.stamped(first)
        return self._moments

    def stamped(self, first: datetime) -> list[float]:
        """Return the time that each message bears; `first`: the one that the first bears."""
        messages = self.messages()
        found = _TIME_OF_DAY.search(messages[0])
        if found is None:
            return []
        place = found.start()
        end = found.end()
        begin = max(place - 7, 0)  # with a part of the date, so that no word of the text is taken
        begun = first.timestamp() - _seconds(found)
        minutes: dict[bytes, float] = {}
        out = []
        for data in messages:
            # Most have the time where the first has it, in a minute that others had.
            minute = minutes.get(data[begin : place + 6])
            if minute is not None and data[place + 6 : place + 8] != b"60":
                out.append(minute + float(data[place + 6 : end]))
                continue
            found = _TIME_OF_DAY.search(data)
            if found is None:
                raise ValueError("a line without a time is not alike one with it")
            at = begun + _seconds(found)
            out.append(at)
            if found.start() == place and data[place + 6 : place + 8] != b"60":
                minutes[data[begin : place + 6]] = at - float(data[place + 6 : end])
        return out

    def sequence(self) -> list[int]:
        """Return the number that each message bears; the first must bear one."""
        expression = _SEQUENCE_ID if self.first.message.form == "rfc5424" else _NUMBER_BEFORE
        find = expression.search if expression is _SEQUENCE_ID else expression.match
        return [int(found[1]) for data in self.messages() if (found := find(data))]

    def texts(self) -> list[str | None]:
        """Return the text of each message; None where only reading it tells."""
        whole = self.first.data.rstrip(_ENDS)
        text = self.first.message.text.encode()
        if not whole.endswith(text):
            return [None] * len(self)
        same = _DIGITS.split(whole[: len(whole) - len(text)])
        head = re.compile(rb"[0-9]+".join(map(re.escape, same)))
        out: list[str | None] = []
        for data in self.messages():
            found = head.match(data)
            rest = data[found.end() :].rstrip(_ENDS) if found is not None else None
            out.append(None if rest is None else rest.decode("utf-8", "replace"))
        return out


def _seconds(found: re.Match[bytes]) -> float:
    """Return the seconds of a day that a time is; a leap second counts as the one before it."""
    hour, minute, second, fraction = found.groups()
    at = int(hour) * 3600.0 + int(minute) * 60 + min(int(second), 59)
    return at + (int(fraction) / float(10 ** len(fraction)) if fraction else 0.0)
