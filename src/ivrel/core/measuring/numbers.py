"""The numbers of a device's messages: those that came, and their order.

RFC 5424 section 7.3.1 has a device count its messages and begin again when it restarts; older
devices put a number in front of the stamp, which wraps at some power.
"""

from __future__ import annotations

from bisect import bisect_right
from collections import OrderedDict
from typing import TYPE_CHECKING, Self
from zlib import crc32

from msgspec import Struct
from msgspec.structs import replace

if TYPE_CHECKING:
    from ivrel.core.attribution.arrival import Arrival
    from ivrel.core.syslog.alike import AlikeLines

# Where numbers wrap: RFC 5424 at 2147483647, others at a power of two or of ten.
WRAPS = (2**16, 2**24, 2**31, 2**32, 10**4, 10**5, 10**6, 10**9)
NEAR = 512  # numbers within which a message is late or comes twice
SOON = 16  # numbers that may be lost where a count wraps
JUMP = 10_000  # numbers ahead that are no loss any more, but another count
MOST_SPANS = 20_000  # of numbers that came, in one count


class NumberRun(Struct):
    """One count, from where it began until it began again: the spans of numbers that came.

    `twice`: messages that came again; `late`: that came behind a higher number; `begun`: how it
    began: 'first', 'restart', 'jump'.
    """

    spans: list[list[int]]
    begun: str = "first"
    messages: int = 0
    twice: int = 0
    late: int = 0
    wraps: int = 0
    base: int = 0  # what its numbers are moved by since it wrapped last
    is_cut: bool = False  # whether not all spans are kept

    @property
    def highest(self) -> int:
        """The highest number that came."""
        return self.spans[-1][1]

    @property
    def missing(self) -> int:
        """How many numbers between the lowest and the highest never came."""
        came = sum(high - low + 1 for low, high in self.spans)
        return self.highest - self.spans[0][0] + 1 - came

    def take(self, number: int) -> None:
        """Take a number; one that lies behind the highest is late, or came twice."""
        self.messages += 1
        last = self.spans[-1]
        if number == last[1] + 1:
            last[1] = number
        elif number > last[1]:
            self.spans.append([number, number])
        else:
            self._fill(number)
        if len(self.spans) > MOST_SPANS:
            self.is_cut = True
            self.spans[0][1] = self.spans[1][1]
            del self.spans[1]

    def _fill(self, number: int) -> None:
        at = bisect_right(self.spans, number, key=lambda span: span[0]) - 1
        if at >= 0 and number <= self.spans[at][1]:
            self.twice += 1
            return
        self.late += 1
        if at >= 0 and number == self.spans[at][1] + 1:
            self.spans[at][1] = number
        else:
            at += 1
            self.spans.insert(at, [number, number])
        if at + 1 < len(self.spans) and self.spans[at + 1][0] == number + 1:
            self.spans[at][1] = self.spans[at + 1][1]
            del self.spans[at + 1]


class Stream:
    """The numbers of one device at one collector, in order of arrival."""

    def __init__(self) -> None:
        self.counts: list[NumberRun] = []
        self._base = self._base_before = 0  # what a count that wraps is moved by
        self._recent: OrderedDict[int, int] = OrderedDict()  # number: what its message was

    def take(self, number: int, mark: int) -> None:
        """Take the number of a message; `mark`: tells its bytes from others.

        A number that another message had before is that of a device that counts again.
        """
        moved = self._moved(number) if self.counts else None
        known = None if moved is None else self._recent.get(moved)
        if moved is None or known not in (None, mark) or self._is_anew(number, moved, known):
            self._base = self._base_before = 0
            self._recent.clear()
            self.counts.append(NumberRun([[number, number]], self._begun(number), messages=1))
            moved = number
        else:
            self.counts[-1].take(moved)
        self._recent[moved] = mark
        while len(self._recent) > NEAR:
            self._recent.popitem(last=False)

    def _is_anew(self, number: int, moved: int, known: int | None) -> bool:
        """Whether a number is the first of a new count, and not one that comes late."""
        return known is None and number <= 1 and self.counts[-1].highest - moved > SOON

    def _begun(self, number: int) -> str:
        if not self.counts:
            return "first"
        return "jump" if number > self.counts[-1].highest else "restart"

    def _moved(self, number: int) -> int | None:
        """Return a number as it goes on behind the highest; None if it does not."""
        highest = self.counts[-1].highest
        for base in (self._base, self._base_before):
            if -NEAR <= number + base - highest <= JUMP:
                return number + base
        turn = _turn(highest - self._base, number)
        if not turn:
            return None
        self._base, self._base_before = self._base + turn, self._base
        self.counts[-1].base = self._base
        self.counts[-1].wraps += 1
        return number + self._base


def _turn(here: int, number: int) -> int:
    """Return the period of a counter that wraps between two numbers; 0 if it does not."""
    for wrap in WRAPS:
        # A device that begins again near there begins at 0 or 1, and leaves a gap.
        is_anew = number <= 1 and wrap - here > SOON
        if wrap - NEAR <= here < wrap and number <= NEAR and not is_anew:
            # Some begin again at 0, and some at 1, as RFC 5424 has it.
            return wrap - 1 if wrap == 2**31 or (here, number) == (wrap - 1, 1) else wrap
    return 0


class Numbers:
    """The numbers of one device, as they came in each chunk of records and at each collector.

    `without`: messages that bear none.
    """

    def __init__(self) -> None:
        self.streams: dict[tuple[str, str, int], Stream] = {}
        self.without = 0
        self._here: dict[str, Stream] = {}
        # Numbers with their lines and what their messages were, by collector and file.
        self._waiting: dict[tuple[str, str], list[tuple[int, int, int]]] = {}

    def add(self, arrival: Arrival) -> None:
        """Take a message."""
        record = arrival.record
        number = record.message.sequence
        if number is None:
            self.without += 1
            return
        waiting = self._waiting.setdefault((arrival.collector or record.file, record.file), [])
        waiting.append((record.line, number, crc32(record.data)))

    def add_alike(self, arrival: Arrival, alike: AlikeLines) -> None:
        """Take messages that show the same; `arrival`: the first of them."""
        record = arrival.record
        if record.message.sequence is None:
            self.without += len(alike)
            return
        marks = map(crc32, alike.messages())
        waiting = self._waiting.setdefault((arrival.collector or record.file, record.file), [])
        waiting += zip(alike.numbers, alike.sequence(), marks, strict=True)

    def settle(self) -> None:
        """Take the numbers that wait, in the order of their lines: lines that are alike were taken
        together, and others are between them.
        """
        for (name, file), waiting in self._waiting.items():
            for line, number, mark in sorted(waiting):
                stream = self._here.get(name)
                if stream is None:
                    stream = self._here[name] = self.streams[name, file, line] = Stream()
                stream.take(number, mark)
        self._waiting = {}

    def merge(self, other: Self) -> None:
        """Take in the streams of other chunks; they are put in order when figures are made."""
        self.settle()
        other.settle()
        self.without += other.without
        self.streams.update(other.streams)

    def joined(self) -> dict[str, list[NumberRun]]:
        """Return the counts at each collector, those of chunks that follow each other joined."""
        self.settle()
        out: dict[str, list[NumberRun]] = {}
        for (name, _, _), stream in sorted(self.streams.items(), key=lambda item: item[0]):
            counts = out.setdefault(name, [])
            for count in stream.counts:
                shift = _shift(counts[-1], count) if counts and count.begun == "first" else None
                if shift is not None:
                    counts[-1] = _together(counts[-1], count, shift)
                else:
                    begun = "restart" if counts and count.begun == "first" else count.begun
                    counts.append(replace(count, begun=begun))
        return out


def _shift(one: NumberRun, other: NumberRun) -> int | None:
    """Return the shift that joins the numbers of a chunk with those of the chunk before; None if
    there is none.
    """
    low = other.spans[0][0]
    if -NEAR <= low + one.base - one.highest <= JUMP:
        return one.base
    turn = _turn(one.highest - one.base, low)
    return one.base + turn if turn else None


def _together(one: NumberRun, other: NumberRun, shift: int) -> NumberRun:
    """Return two counts that follow each other as one."""
    spans = [list(span) for span in one.spans]
    wraps = one.wraps + other.wraps + (shift != one.base)
    out = NumberRun(
        spans, one.begun, one.messages, one.twice + other.twice, one.late + other.late, wraps,
        other.base + shift, one.is_cut or other.is_cut,
    )  # fmt: skip
    for low, high in other.spans:
        number = low + shift
        last = high + shift
        while number <= last:
            if number > out.highest:
                # What lies behind the highest is taken at once.
                if number == out.highest + 1:
                    out.spans[-1][1] = last
                else:
                    out.spans.append([number, last])
                break
            out.take(number)
            number += 1
    return replace(out, messages=one.messages + other.messages)
