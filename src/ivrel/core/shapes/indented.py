"""Members of blocks that are moved in: found by how far their lines are, and edited."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from msgspec import Struct

from ivrel.core.shapes.shape import Edit, Identity, missing
from ivrel.core.text.lines import in_place_of
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


def edited(
    lines: Sequence[bytes], edits: Sequence[Edit], identity: Identity, layout: Layout
) -> list[bytes]:
    """Return the lines of a text after edits."""
    whole = list(lines)
    blocks: dict[Words, _Block] = {}  # at the top, that an edit was about
    for edit in edits:
        # What is inside of one block is changed there; the rest of a text can be long.
        head = edit.path[0] if edit.path else ()
        block = blocks.get(head) or (_block_of(whole, head, layout.comment) if head else None)
        if block is None:
            whole, blocks = _joined(whole, blocks.values()), {}
            _apply(whole, edit, identity, layout)
        else:
            blocks[head] = block
            _apply(block.lines, edit, identity, layout)
    return _joined(whole, blocks.values())


class _Block(Struct, frozen=True):
    """The lines of a block at the top, and from where to where they stood."""

    begin: int
    end: int
    lines: list[bytes]


def _block_of(lines: list[bytes], words: Words, comment: bytes) -> _Block | None:
    """Return the one block at the top with this header; None if there is none, or several, or they
    are not as easily told.
    """
    said = (line for line in lines if (text := line.strip()) and not text.startswith(comment))
    # Where the first line is not moved in, blocks at the top are those that are not, either.
    if not is_top(next(said, b""), comment):
        return None
    begins = words[0].encode(), b'"'
    likely = [at for at, line in enumerate(lines) if line.startswith(begins)]
    found = [at for at in likely if is_top(lines[at], comment) and _is_line(lines[at], words)]
    if len(found) != 1:
        return None
    begin = end = found[0]
    while end == begin or (end < len(lines) and not is_top(lines[end], comment)):
        end += 1
    return _Block(begin, end, lines[begin:end])


def _joined(lines: Sequence[bytes], blocks: Iterable[_Block]) -> list[bytes]:
    """Return the lines with blocks, as they are now, in their places."""
    out: list[bytes] = []
    copied = 0
    for block in sorted(blocks, key=lambda block: block.begin):
        out += [*lines[copied : block.begin], *block.lines]
        copied = block.end
    return [*out, *lines[copied:]]


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
