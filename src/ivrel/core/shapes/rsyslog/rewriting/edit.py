"""Changes a text so that it can be brought back: lines that change stay, commented out, above the
new ones.

A comment cannot be inside of an object's name or of a condition, and one that ends in a backslash
swallows the next line. So whole lines are commented out, as many as needed to begin and end where a
comment is allowed.
"""

from __future__ import annotations

import re
from bisect import bisect_right
from collections.abc import Iterable, Iterator, Sequence

from msgspec import Struct

from ivrel.core.shapes.rsyslog.syntax.statements import Statement

OFF = "#off# "  # before lines that are commented out, so that a back-out finds them
_TAG = "# in place of the lines above: "  # and how many there are
_TAGGED = re.compile(rf"{re.escape(_TAG)}([0-9]+)\r?")
_COMMENT = re.compile(r"\s*(#.*)?")


class Replacement(Struct, frozen=True):
    """A piece of a text, and what is in its place.

    `above`: where the lines must begin at the latest.
    """

    start: int
    stop: int
    text: str
    above: int


def cut(statement: Statement, text: str, chain: Sequence[Statement]) -> Replacement:
    """Put a text in the place of a statement.

    The lines begin where its condition does, if that ends on its line.
    """
    whole = statement.source.whole
    above = statement.start
    for rule in reversed(chain):
        same_file = rule.source is statement.source
        if same_file and rule.head and rule.start < above and "\n" not in whole[rule.head : above]:
            above = rule.start
    return Replacement(statement.start, statement.stop, text, above)


def changed(text: str, cuts: Iterable[Replacement]) -> str:
    """Return the text after all cuts."""
    lines = text.split("\n")
    starts = [0]
    for line in lines:
        starts.append(starts[-1] + len(line) + 1)
    blocks: list[tuple[int, int, list[Replacement]]] = []
    for one in _outermost(cuts):
        first = bisect_right(starts, one.above) - 1
        last = bisect_right(starts, max(one.stop - 1, one.start)) - 1
        # What goes on behind a backslash is one line to the daemon.
        while first and _goes_on(lines[first - 1]):
            first -= 1
        while last + 1 < len(lines) and _goes_on(lines[last]):
            last += 1
        if blocks and first <= blocks[-1][1]:
            begun, end, inside = blocks.pop()
            blocks.append((min(first, begun), max(last, end), [*inside, one]))
        else:
            blocks.append((first, last, [one]))
    # From the end, so that the places of blocks further up stay true.
    for first, last, inside in reversed(blocks):
        new = text[starts[first] : starts[last + 1] - 1]
        for one in reversed(inside):
            new = new[: one.start - starts[first]] + one.text + new[one.stop - starts[first] :]
        ends = "\r" if lines[first].endswith("\r") else ""
        instead = (
            [] if all(_COMMENT.fullmatch(line) for line in new.split("\n")) else new.split("\n")
        )
        if instead:
            instead = [f"{_TAG}{len(instead)}{ends}", *instead]
        lines[first : last + 1] = [*(OFF + line for line in lines[first : last + 1]), *instead]
    return "\n".join(lines)


def _outermost(cuts: Iterable[Replacement]) -> Iterator[Replacement]:
    """Yield the cuts in their order, without those inside of others."""
    end = -1
    for one in sorted(cuts, key=lambda one: (one.start, -one.stop)):
        if one.stop > end:
            end = one.stop
            yield one


def is_changed(line: str) -> bool:
    """Whether a line belongs to the one behind it, which is in its place."""
    return line.startswith(OFF) or _TAGGED.fullmatch(line) is not None


def _goes_on(line: str) -> bool:
    return line.rstrip().endswith("\\")


def restored(text: str) -> str:
    """Return the text as it was before all changes."""
    lines = text.split("\n")
    # A line may have been changed more than once: each round takes one change back.
    while any(line.startswith(OFF) for line in lines):
        out: list[str] = []
        at = 0
        while at < len(lines):
            found = _TAGGED.fullmatch(lines[at])
            if found and at and lines[at - 1].startswith(OFF):
                at += 1 + int(found[1])
                continue
            out.append(lines[at].removeprefix(OFF))
            at += 1
        lines = out
    return "\n".join(lines)
