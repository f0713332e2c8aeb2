"""Members of blocks that are moved in: found by how far their lines are, and edited."""

from __future__ import annotations

from collections.abc import Iterator, Sequence, Set

from msgspec import Struct

from ivrel.core.shapes.line_blocks import LineBlock, LineEditor, join
from ivrel.core.shapes.shape import Edit, Identity
from ivrel.core.text.lines import edited_lines, edited_parts, line_at, next_line
from ivrel.core.text.text import LONGEST, decode
from ivrel.core.text.words import Path, Words, split_words


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
    """How a dialect lays out its blocks: the comment sign, the blanks before a block's lines."""

    comment: bytes
    indent: int


def edited(data: bytes, edits: Sequence[Edit], identity: Identity, layout: Layout) -> bytes:
    """Return a text after edits."""
    # What is inside of blocks is changed there; the rest of a text can be long.
    blocks = _blocks_of(data, {edit.path[:1] for edit in edits}, layout.comment)
    numbers = {words: n for n, (words, _) in enumerate(blocks)}

    def change(parts: list[list[bytes]]) -> None:
        editors = [_Indented(lines, identity, layout) for lines in parts]
        for edit in edits:
            editors[numbers[edit.path[0]]].carry_out(edit)
        for lines, editor in zip(parts, editors, strict=True):
            lines[:] = editor.root.inside()

    if blocks:
        return edited_parts(data, [place for _, place in blocks], change)

    def change_all(lines: list[bytes]) -> None:
        editor = _Indented(lines, identity, layout)
        for edit in edits:
            editor.carry_out(edit)
        lines[:] = editor.root.inside()

    return edited_lines(data, change_all)


def _blocks_of(
    data: bytes, heads: Set[Path], comment: bytes
) -> list[tuple[Words, tuple[int, int]]]:
    """Return the blocks at the top with these headers, each with its span, in the order of the
    text.

    Empty if one is missing, or occurs twice, or blocks at the top are not told by their first
    column.
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


def _is_line(line: bytes, words: Words) -> bool:
    """Whether a line is these words, in any spacing and quoting.

    Most are seen not to be at once.
    """
    said = line.strip()
    first = words[0].encode()
    return (said.startswith((first, b'"'))) and header(said) == words


class _Indented(LineEditor):
    """Edits lines where a deeper indentation belongs to the line above."""

    def __init__(self, lines: Sequence[bytes], identity: Identity, layout: Layout) -> None:
        self._layout = layout
        super().__init__(lines, identity)

    def parse(self, lines: Sequence[bytes]) -> LineBlock:
        root = LineBlock((), [], b"", -1)
        above = [root]
        gap = []
        for line in lines:
            said = line.strip()
            if not said or said.startswith(self._layout.comment):
                gap.append(line)
                continue
            block = LineBlock(header(said), gap, line, depth_of(line))
            while above[-1].depth >= block.depth:
                above.pop()
            above[-1].add(block)
            above.append(block)
            gap = []
        root.tail = gap
        return root

    def is_statement(self, member: LineBlock) -> bool:
        return not member.members

    def added(self, block: LineBlock, path: Path, words: Words) -> bool:
        members = block.members
        if members:
            # A new line is moved in as its neighbours are, whatever the dialect writes elsewhere.
            model = members[0].line
            lead = model[: len(model) - len(model.lstrip())]
        else:
            lead = b" " * (0 if block.depth < 0 else block.depth + self._layout.indent)
        # Where the last member is moved in less, what is new reads as a member of that.
        is_as_written = not members or depth_of(lead + b".") <= members[-1].depth
        for level, text in enumerate((*path, words)):
            line = lead + b" " * (self._layout.indent * level) + join(text).encode()
            new = LineBlock(text, [], line, depth_of(line))
            block.add(new)
            block = new
        return is_as_written
