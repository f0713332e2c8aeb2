"""Members of blocks that are moved in: found by how far their lines are, and edited."""

from __future__ import annotations

from collections.abc import Iterator, Sequence, Set

from msgspec import Struct

from ivrel.core.shapes.shape import Edit, Identity, missing
from ivrel.core.text.lines import edited_lines, edited_parts, in_place_of, line_at, next_line
from ivrel.core.text.text import LONGEST, decode
from ivrel.core.text.words import Path, Words, quote, split_words


def join(words: Sequence[str]) -> str:
    """Return a statement of these words, each quoted if it must be."""
    return " ".join(quote(w) for w in words)


def header(text: bytes) -> Words:
    """Return the words of a line."""
    return tuple(split_words(decode(text[:LONGEST])))


def depth_of(raw: bytes) -> int:
    """Return how far a line is moved in, in columns."""
    if raw[:1] > b" ":
        return 0
    lead = raw[: len(raw) - len(raw.lstrip())]
    return len(lead.expandtabs(8)) if b"\t" in lead else len(lead)


# With what a line begins that is moved in, or empty.
_MOVED_IN = frozenset((b"", b" ", b"\t", b"\r", b"\x0b", b"\x0c"))


def is_top(line: bytes, comment: bytes) -> bool:
    """Whether a line says something, and is not moved in."""
    return line[:1] not in _MOVED_IN and not line.startswith(comment)


class Layout(Struct, frozen=True):
    """How a dialect lays out its blocks: the comment sign, the blanks by which a block is moved
    in.
    """

    comment: bytes
    indent: int


def edited(data: bytes, edits: Sequence[Edit], identity: Identity, layout: Layout) -> bytes:
    """Return a text after edits."""
    # What is inside of blocks is changed there; the rest of a text can be long.
    blocks = _blocks_of(data, {edit.path[:1] for edit in edits}, layout.comment)
    numbers = {words: n for n, (words, _) in enumerate(blocks)}

    def change(parts: list[list[bytes]]) -> None:
        for edit in edits:
            _apply(parts[numbers[edit.path[0]]], edit, identity, layout)

    if blocks:
        return edited_parts(data, [place for _, place in blocks], change)

    def change_all(lines: list[bytes]) -> None:
        for edit in edits:
            _apply(lines, edit, identity, layout)

    return edited_lines(data, change_all)


def _blocks_of(
    data: bytes, heads: Set[Path], comment: bytes
) -> list[tuple[Words, tuple[int, int]]]:
    """Return the blocks at the top with these headers, and from where to where each stands, in
    their order.

    None at all if one of them is not there, or several are, or they are not as easily told.
    """
    # Where the first line is not moved in, blocks at the top are those that are not, either. A last
    # line without an end is one of the whole text.
    if () in heads or not data.endswith(b"\n") or not is_top(_first_said(data, comment), comment):
        return []
    out = []
    for (words,) in heads:
        likely = (at for begin in (words[0].encode(), b'"') for at in _begun_by(data, begin))
        lines = ((at, line_at(data, at)) for at in dict.fromkeys(likely))
        found = [at for at, line in lines if is_top(line, comment) and _is_line(line, words)]
        if len(found) != 1:
            return []
        end = next_line(data, found[0])
        while end < len(data) and not is_top(line_at(data, end), comment):
            end = next_line(data, end)
        out.append((words, (found[0], end)))
    return sorted(out, key=lambda block: block[1])


def _first_said(data: bytes, comment: bytes) -> bytes:
    """Return the first line that says something."""
    at = 0
    while at < len(data):
        line = line_at(data, at)
        text = line.strip()
        if text and not text.startswith(comment):
            return line
        at = next_line(data, at)
    return b""


def _begun_by(data: bytes, begin: bytes) -> Iterator[int]:
    """Yield where lines begin with this in their first column."""
    if data.startswith(begin):
        yield 0
    at = data.find(b"\n" + begin)
    while at >= 0:
        yield at + 1
        at = data.find(b"\n" + begin, at + 1)


def _apply(lines: list[bytes], edit: Edit, identity: Identity, layout: Layout) -> None:
    comment = layout.comment
    blocks: list[tuple[int, int, int]] = [(0, len(lines), -1)]
    for level, words in enumerate(edit.path):
        # A platform joins blocks of the same name: what an edit means may stand in any of them.
        inner = []
        for first, last, depth in blocks:
            for at, stop, indent in _children(lines, first, last, depth, comment):
                if _is_line(lines[at], words):
                    inner.append((at + 1, stop, indent))
        if not inner:
            if edit.removes:
                raise missing(edit, join)
            _insert(lines, *blocks[-1], comment, edit.path[level:], edit.words, layout)
            return
        blocks = inner
    hits = [hit for block in blocks for hit in _hits(lines, *block, edit, identity, comment)]
    if edit.removes:
        if not hits:
            raise missing(edit, join)
        # From the end, so that the numbers of lines further up stay true.
        for at, stop in reversed(hits):
            del lines[at:stop]
    elif hits:
        at = hits[-1][0]
        lines[at] = in_place_of(lines[at], join(edit.words))
    else:
        _insert(lines, *blocks[-1], comment, (), edit.words, layout)


def _is_line(line: bytes, words: Words) -> bool:
    """Whether a line is these words, in any spacing and quoting.

    Most are seen not to be at once.
    """
    said = line.strip()
    first = words[0].encode()
    return (said.startswith((first, b'"'))) and header(said) == words


def _hits(
    lines: list[bytes],
    first: int,
    last: int,
    depth: int,
    edit: Edit,
    identity: Identity,
    comment: bytes,
) -> list[tuple[int, int]]:
    """Return the lines of a block that an edit means."""
    children = _children(lines, first, last, depth, comment)
    out = []
    wanted = None if edit.removes else identity(edit.path, edit.words)
    for at, stop, _ in children:
        # A statement never takes the place of a whole block.
        if not edit.removes and stop != at + 1:
            continue
        words = header(lines[at].strip())
        if edit.removes:
            meant = words[: len(edit.words)] == edit.words
        else:
            meant = identity(edit.path, words) == wanted
        if meant:
            out.append((at, stop))
    return out


def _children(
    lines: Sequence[bytes], first: int, last: int, depth: int, comment: bytes
) -> list[tuple[int, int, int]]:
    """Return the direct members of a block: first line, line after the last, indentation."""
    out: list[tuple[int, int, int]] = []
    start, stop, its = -1, -1, 0
    for at in range(first, last):
        raw = lines[at]
        text = raw.strip()
        if not text or text.startswith(comment):
            continue
        indent = depth_of(raw)
        if indent <= depth:
            break
        if start < 0 or indent <= its:
            if start >= 0:
                out.append((start, stop, its))
            start, its = at, indent
        stop = at + 1
    if start >= 0:
        out.append((start, stop, its))
    return out


def _insert(
    lines: list[bytes],
    first: int,
    last: int,
    depth: int,
    comment: bytes,
    path: Path,
    words: Words,
    layout: Layout,
) -> None:
    """Add a statement, and the headers that it still lacks, behind the last member of a block."""
    members = _children(lines, first, last, depth, comment)
    at = members[-1][1] if members else first
    if members:
        # A new line is moved in as its neighbours are, whatever the dialect writes elsewhere.
        model = lines[members[0][0]]
        lead = model[: len(model) - len(model.lstrip())]
    else:
        lead = b" " * (0 if depth < 0 else depth + layout.indent)
    new = [
        lead + b" " * (layout.indent * level) + join(text).encode()
        for level, text in enumerate((*path, words))
    ]
    lines[at:at] = new
