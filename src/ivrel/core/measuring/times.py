"""When messages came: counted in spans of time that grow wider when there are too many."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Self

if TYPE_CHECKING:
    from ivrel.core.attribution.arrival import Arrival
    from ivrel.core.syslog.alike import AlikeLines

MOST = 4096  # spans in which something came


class Times:
    """The number of messages in each span of time that has any.

    `width`: of the spans, in whole seconds; it is the least power of two for which there are no
    more than MOST, in any order of messages. `counts`: by the number of the span.
    """

    def __init__(self) -> None:
        self.width = 1
        self.counts: dict[int, int] = {}

    def add(self, arrival: Arrival) -> None:
        """Take a message; one without a known time is left out."""
        if arrival.when is not None:
            self.add_time(arrival.when.timestamp())

    def add_time(self, seconds: float, number: int = 1) -> None:
        """Take messages by their time, in seconds since 1970; `number`: of them."""
        at = int(seconds // self.width)
        self.counts[at] = self.counts.get(at, 0) + number
        self._bound()

    def add_alike(self, arrival: Arrival, alike: AlikeLines) -> None:
        """Take messages that show the same; `arrival`: the first of them."""
        self.add_times(alike.moments(arrival.when))

    def add_times(self, moments: Sequence[float], numbers: Sequence[int] = ()) -> None:
        """Take messages by their times, in seconds since 1970; `numbers`: for what each counts."""
        counts = self.counts
        width = self.width
        for n, seconds in enumerate(moments):
            at = int(seconds // width)
            counts[at] = counts.get(at, 0) + (numbers[n] if numbers else 1)
        self._bound()

    def settle(self) -> None:
        """Do nothing: the order of messages makes no difference."""

    def merge(self, other: Self) -> None:
        """Take in what another took."""
        self.width = max(self.width, other.width)
        both: dict[int, int] = {}
        for one, width in ((self.counts, self.width), (other.counts, other.width)):
            for at, number in one.items():
                at = at * width // self.width
                both[at] = both.get(at, 0) + number
        self.counts = both
        self._bound()

    def _bound(self) -> None:
        while len(self.counts) > MOST:
            self.width *= 2
            halved: dict[int, int] = {}
            for at, number in self.counts.items():
                halved[at // 2] = halved.get(at // 2, 0) + number
            self.counts = halved

    @property
    def number(self) -> int:
        """How many messages came."""
        return sum(self.counts.values())

    @property
    def moments(self) -> list[int]:
        """When something came, in order, in seconds since 1970; spans are reported by their
        start."""
        return [at * self.width for at in sorted(self.counts)]
