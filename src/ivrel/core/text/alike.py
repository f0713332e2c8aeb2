"""Lines that two texts have in common, in the order of both.

Long texts that differ in a few places are compared in a time that grows as they do: what they begin
and end with alike is set aside, and lines that are unique in both align the rest.
"""

from __future__ import annotations

from bisect import bisect_left
from collections import Counter
from collections.abc import Iterator, Sequence
from difflib import SequenceMatcher

Run = tuple[int, int, int]  # where it begins in the one and in the other, and its length
Span = tuple[int, int, int, int]  # from and to in the one, from and to in the other


def runs_alike(one: Sequence[bytes], other: Sequence[bytes]) -> Iterator[Run]:
    """Yield runs of lines that two texts share, in order, none within another."""
    waiting: list[Span | Run] = [(0, len(one), 0, len(other))]
    while waiting:
        part = waiting.pop()
        if len(part) == 3:
            yield part
            continue
        a, b, c, d = part
        head = _same(one, other, a, c, min(b - a, d - c), 1)
        if head:
            yield a, c, head
        a = a + head
        c = c + head
        tail = _same(one, other, b - 1, d - 1, min(b - a, d - c), -1)
        b = b - tail
        d = d - tail
        if tail:
            waiting.append((b, d, tail))
        if a == b or c == d:
            continue
        held = _held(one, other, (a, b, c, d))
        if not held:
            yield from _by_length(one, other, (a, b, c, d))
            continue
        # Between two lines that hold, the rest is compared for itself; the last goes in first.
        ends = [*held, (b, d)]
        begins = [(a, c), *held]
        between = zip(begins, ends, strict=True)
        waiting += [(p, r, q, s) for (p, q), (r, s) in reversed(list(between))]


def _same(
    one: Sequence[bytes], other: Sequence[bytes], at: int, there: int, most: int, step: int
) -> int:
    """Return how many lines are the same from two places on, forwards or backwards."""
    same = 0
    while same < most and one[at + same * step] == other[there + same * step]:
        same += 1
    return same


def _held(one: Sequence[bytes], other: Sequence[bytes], span: Span) -> list[tuple[int, int]]:
    """Return the places of lines that are unique in both, as many as keep their order."""
    a, b, c, d = span
    times = Counter(one[a:b])
    times_there = Counter(other[c:d])
    there = {line: n for n, line in enumerate(other[c:d], c) if times_there[line] == 1}
    pairs = [(n, there[x]) for n, x in enumerate(one[a:b], a) if times[x] == 1 and x in there]
    # The longest run of rising places (patience sorting): of those that end each length, the
    # lowest; of each pair, the one before it.
    lowest: list[int] = []
    last: list[int] = []
    before: list[int] = []
    for n, (_, place) in enumerate(pairs):
        at = bisect_left(lowest, place)
        before.append(last[at - 1] if at else -1)
        lowest[at : at + 1] = [place]
        last[at : at + 1] = [n]
    out: list[tuple[int, int]] = []
    n = last[-1] if last else -1
    while n >= 0:
        out.append(pairs[n])
        n = before[n]
    return out[::-1]


def _by_length(one: Sequence[bytes], other: Sequence[bytes], span: Span) -> Iterator[Run]:
    """Yield the runs of a part without a line that is unique in both."""
    a, b, c, d = span
    found = SequenceMatcher(None, one[a:b], other[c:d], autojunk=False)
    for run in found.get_matching_blocks():
        if run.size:
            yield a + run.a, c + run.b, run.size
