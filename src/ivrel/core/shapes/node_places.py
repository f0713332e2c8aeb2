"""Places of blocks in a text in braces, found without parsing all of it."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from itertools import accumulate

from ivrel.core.shapes.nodes import Signs, TextNode, join, parse
from ivrel.core.text.words import Words


def is_plain(data: bytes, signs: Signs, places: Sequence[int]) -> bool:
    """Whether every brace up to the blocks at some places is one, so that counting them tells
    depth.

    That is so if none is in quotes or in a comment.
    """
    if not places:
        return True
    stop = block_end(data, places[-1])
    comment = signs.comment.encode()
    at = data.find(comment, 0, stop)
    while at >= 0:
        close = data.find(b"\n", at)
        said = data[at : close if close >= 0 else len(data)]
        if b"{" in said or b"}" in said or b'"' in said:
            return False
        at = data.find(comment, close + 1, stop) if close >= 0 else -1
    # Without quotes in comments, every second piece between quotes is in some.
    if any(b"{" in said or b"}" in said for said in data[:stop].split(b'"')[1::2]):
        return False
    return not signs.wrapper or _is_in_wrapper(data[:stop], signs)


def _is_in_wrapper(data: bytes, signs: Signs) -> bool:
    """Whether all of a text so far is in one wrapper, so that what is one level deep is at the top:
    in a block of another name, it would be something else.
    """
    begin = b"\\s*+(?:" + re.escape(signs.comment.encode()) + b"[^\n]*+\\s*+)*+"
    if not re.match(begin + re.escape(signs.wrapper.encode()) + b'[\\s{"]', data):
        return False
    # How many blocks are open behind each brace that shuts one.
    opened = (piece.count(b"{") - 1 for piece in data.split(b"}")[:-1])
    return min(accumulate(opened), default=1) > 0


def nodes_at(data: bytes, found: Sequence[int], signs: Signs) -> Iterator[TextNode]:
    """Yield the blocks and statements at those of some places that are at the top.

    The rest is not read.
    """
    level = 1 if signs.wrapper else 0
    opened = 0
    counted = 0
    for at in found:
        opened += data.count(b"{", counted, at) - data.count(b"}", counted, at)
        counted = at
        # Depth is counted from place to place, so that the whole text is passed over once.
        if opened == level and _begins(data, at, signs.comment.encode()):
            yield from parse(data, signs, at, block_end(data, at))[:1]


def places_of(data: bytes, heads: Sequence[Words], signs: Signs) -> list[int]:
    """Return the places of these first words, at the top or not."""
    found: list[int] = []
    named: dict[str, list[bytes]] = {}
    for head in heads:
        needle = join(head).encode()
        if len(head) == 2:
            named.setdefault(head[0], []).append(re.escape(join(head[1:]).encode()))
            continue
        if len(head) == 1 and head[0] in signs.blocks:
            found += [
                m.start()
                for m in re.finditer(re.escape(needle) + rb"\s*\{", data)
                if _opens(data, m.start())
            ]
            continue
        at = data.find(needle)
        while at >= 0:
            before = data[at - 1 : at]
            after = data[at + len(needle) : at + len(needle) + 1]
            if (not before or before in b" \t\n\r{};") and (not after or after in b" \t\n\r{;"):
                found.append(at)
            at = data.find(needle, at + len(needle))
    for word, names in named.items():
        # All names after one word are found in one go.
        pattern = re.escape(word.encode()) + rb"[ \t]+\"?(?:" + b"|".join(names) + rb")\"?[\s{;]"
        found += [m.start() for m in re.finditer(pattern, data) if _opens(data, m.start())]
    return sorted(found)


def _opens(data: bytes, at: int) -> bool:
    """Whether a word begins at a place."""
    return at == 0 or data[at - 1 : at] in b" \t\n\r{};"


def _begins(data: bytes, at: int, comment: bytes) -> bool:
    """Whether a statement or a block begins at a place: what precedes it, comments aside, ends one.

    Where depth is counted by braces, comments hold neither quotes nor braces, and no quotes hold
    the comment sign.
    """
    inside = data.find(comment, data.rfind(b"\n", 0, at) + 1, at)
    if inside >= 0:
        return False
    while True:
        while at and data[at - 1] in b" \t\r\n":
            at -= 1
        begin = data.find(comment, data.rfind(b"\n", 0, at) + 1, at)
        if begin < 0:
            return data[at - 1 : at] in (b"{", b"}", b";", b"")
        at = begin


def block_end(data: bytes, at: int) -> int:
    """Return behind the statement or block that begins at a place."""
    depth = 0
    for match in re.compile(rb"[{};]").finditer(data, at):
        if match[0] == b"{":
            depth += 1
        elif match[0] == b"}":
            depth -= 1
        # A statement that ends with its block has no end sign: the brace is not part of it.
        if depth <= 0 and match[0] != b"{":
            return match.end() if depth == 0 else match.start()
    return len(data)


def around(data: bytes, at: int, signs: Signs) -> int:
    """Return where the top-level block begins that a place is in; -1 if it is in none."""
    depth = data.count(b"{", 0, at) - data.count(b"}", 0, at) - bool(signs.wrapper)
    while depth > 0:
        opened = data.rfind(b"{", 0, at)
        closed = data.rfind(b"}", 0, at)
        depth += 1 if closed > opened else -1
        at = max(opened, closed)
    if depth < 0 or at < 0:
        return -1
    begin = 1 + max(data.rfind(sign, 0, at) for sign in (b"{", b"}", b";"))
    return begin + len(data[begin:at]) - len(data[begin:at].lstrip())
