"""Losses: messages that never came, by the numbers of the others."""

from __future__ import annotations

from collections.abc import Sequence

from msgspec import Struct

from ivrel.core.measuring.numbers import NumberRun, Numbers


class Loss(Struct, frozen=True):
    """What the numbers of a device tell, at one collector.

    `came`: different messages that bear a number; `missing`: numbers between the lowest and the
    highest that never came, of each count; `twice`, `late`: messages that came again, or behind a
    higher number; `restarts`: how often it counted again; `jumps`: how often its numbers leapt,
    where what lies between is no loss that can be told; `without`: messages without a number;
    `is_steady`: whether about the same share is missing all the time, as where a device numbers its
    messages before it filters them.
    """

    device: str
    collector: str
    came: int
    missing: int
    twice: int
    late: int
    restarts: int
    jumps: int
    wraps: int
    without: int
    is_cut: bool
    is_steady: bool = False

    @property
    def share(self) -> float:
        """The share of messages that never came."""
        return self.missing / (self.came + self.missing) if self.came else 0.0

    @property
    def is_odd(self) -> bool:
        """Whether something is missing, or came twice, or may be."""
        return bool(self.missing or self.twice or self.jumps)


def losses_of(device: str, numbers: Numbers) -> list[Loss]:
    """Return the losses of a device by its numbers, collector by collector.

    What was lost before a restart cannot be told, for nobody knows how far it had counted.
    """
    out = []
    for collector, counts in numbers.joined().items():
        twice = sum(count.twice for count in counts)
        out.append(
            Loss(
                device,
                collector,
                sum(count.messages for count in counts) - twice,
                sum(count.missing for count in counts),
                twice,
                sum(count.late for count in counts),
                sum(count.begun == "restart" for count in counts),
                sum(count.begun == "jump" for count in counts),
                sum(count.wraps for count in counts),
                numbers.without,
                any(count.is_cut for count in counts),
                _is_steady(counts),
            )
        )
    return out


PARTS = 8  # of a count, in each of which about the same share is missing
ENOUGH = 100  # numbers in a part
FAR = 4.0  # standard errors by which the share of a part may differ, beside a tenth


def _is_steady(counts: Sequence[NumberRun]) -> bool:
    """Whether about the same share of the longest count is missing all the time."""
    longest = max(counts, key=lambda count: count.messages, default=None)
    if longest is None or not longest.missing:
        return False
    low = longest.spans[0][0]
    number = longest.highest - low + 1
    parts = min(PARTS, number // ENOUGH)
    if parts < 2:
        return False
    came = [0] * parts
    for first, last in longest.spans:
        for part in range((first - low) * parts // number, (last - low) * parts // number + 1):
            begin = low + -(-part * number // parts)
            end = low + -(-(part + 1) * number // parts)
            came[part] += min(last + 1, end) - max(first, begin)
    share = sum(came) / number
    spread = FAR * (share * (1 - share) * parts / number) ** 0.5 + 0.1
    return all(abs(one * parts / number - share) <= spread for one in came)
