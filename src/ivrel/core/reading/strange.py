"""What a statement that no pattern understands may say.

That is what the patterns say that begin alike, or if none does, all those of the same block, down
from the innermost one that the dialect knows.
"""

from __future__ import annotations

from collections.abc import Sequence

from ivrel.core.dialects.dialect import Dialect
from ivrel.core.dialects.items import Any, Flag, Item, Literal, Variable
from ivrel.core.dialects.pattern import Pattern
from ivrel.core.dialects.slots import SLOTS
from ivrel.core.reading.statements import Strange
from ivrel.core.text.words import Path, Words


def strange(dialect: Dialect, path: Path, words: Words) -> Strange | None:
    """Return what a statement may say; None if it is no part of what the dialect is about."""
    # An open part holds much that is no export setting. Only what begins as a pattern does is of
    # interest there.
    if path and path[0][0] in dialect.open and not _resembles(dialect, path, words):
        return None
    if not path:
        return _at_the_top(dialect, words)
    known = [(p, _known_depth(p, path)) for p in dialect.patterns if p.path]
    deepest = max((depth for _, depth in known), default=0)
    if not deepest:
        # Its block is not known, but begins as one that is: a variant of it, perhaps.
        beside = [p for p, _ in known if _is_like_header(p.path[0], path[0])]
        return _saying(beside, shown=False) if beside else None
    inside = [p for p, depth in known if depth == deepest]
    # Those that could stand in its very place come first; else it may be any of the block.
    here = [p for p in inside if len(p.path) == len(path) == deepest]
    return _saying(_alike(here, words) or inside, shown=True)


def _at_the_top(dialect: Dialect, words: Words) -> Strange:
    here = [p for p in dialect.patterns if not p.path]
    beside = [p for p in dialect.patterns if p.path and _is_like_header(p.path[0], words)]
    alike = _alike(here, words)
    if alike or not beside:
        return _saying(alike or here, shown=True)
    return _saying(beside, shown=False)


def _saying(patterns: Sequence[Pattern], *, shown: bool) -> Strange:
    """Return what these patterns say."""
    slots: dict[str, None] = {}
    tables: dict[str, None] = {}
    for p in patterns:
        own = [slot for slot in p.own_slots if not SLOTS[slot].idle]
        slots |= dict.fromkeys(own)
        if own:
            tables[p.table] = None
    return Strange(tuple(slots), tuple(tables), shown)


def _resembles(dialect: Dialect, path: Path, words: Words) -> bool:
    """Whether a statement of an open part begins as a pattern does, or stands in a block that
    does.
    """
    whole = (*path, words)
    for pattern in dialect.patterns:
        known = (*pattern.path, pattern.items)
        if len(known) > 1 and len(whole) > 1 and all(map(_opens_alike, known[:2], whole[:2])):
            return True
    return False


def _opens_alike(items: tuple[Item, ...], words: Words) -> bool:
    first = items[0]
    return isinstance(first, Variable) or (
        isinstance(first, Literal | Flag) and first.word == words[0]
    )


def _alike(patterns: Sequence[Pattern], words: Words) -> list[Pattern]:
    """Return the patterns that share the longest beginning with these words."""
    alike: list[Pattern] = []
    longest = 1
    for pattern in patterns:
        same = 0
        shorter = min(len(pattern.opening), len(words))
        while same < shorter and pattern.opening[same] == words[same]:
            same += 1
        if same > longest:
            alike, longest = [pattern], same
        elif same == longest:
            alike.append(pattern)
    return alike


def _known_depth(pattern: Pattern, path: Path) -> int:
    """Return how many of the headers above a statement are those of a pattern."""
    depth = 0
    for items, header in zip(pattern.path, path, strict=False):
        if Pattern((), items, (), ()).read_words(header) is None:
            break
        depth += 1
    return depth


def _is_like_header(items: tuple[Item, ...], words: Words) -> bool:
    """Whether words begin as a header does, but for words that are not known or too many."""
    if len(words) < len(items) or not isinstance(items[0], Literal | Flag):
        return False
    for item, word in zip(items, words, strict=False):
        if not isinstance(item, Variable | Any) and not (
            isinstance(item, Literal | Flag) and item.word == word
        ):
            return False
    return True
