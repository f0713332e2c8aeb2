"""The shape `blocks`: a statement a line; what is indented belongs to the line above it.

    events
        export on
        send 198.51.100.21 udp 514 through informational

A change is written in the same form; a line that begins with the removal word takes away the
statements of that block that begin with the rest of its words.
"""

from __future__ import annotations

import re
from collections.abc import Container, Iterable, Iterator, Sequence
from functools import lru_cache
from typing import ClassVar

from ivrel.core.shapes.indented import Layout, depth_of, edited, header, is_top
from ivrel.core.shapes.line_blocks import join
from ivrel.core.shapes.shape import Edit, Found, Identity, Shape, refuse
from ivrel.core.text.lines import lines_with
from ivrel.core.text.text import Text, decode
from ivrel.core.text.words import Path, Words, quote, split_words
from ivrel.core.vocabulary.errors import Unreadable

DEEPEST = 200  # levels; deeper nesting is no configuration


class Blocks(Shape, frozen=True):
    """The shape `blocks`; `indent`: the blanks before a new block's lines."""

    LISTS: ClassVar[bool] = True
    NEGATES: ClassVar[bool] = True
    ANCHORS: ClassVar[tuple[bytes, bytes, bytes]] = (
        rb"\n[ \t]*+",
        rb"[^\s]++",
        rb"[ \t]++",
    )

    indent: int = 4

    def split(self, line: str) -> list[str]:
        return split_words(line)

    def join(self, words: Sequence[str]) -> str:
        return join(words)

    def scan(self, text: Text, heads: Sequence[Words]) -> Iterator[Found]:
        data = text.data
        comment = self.comment.encode()
        if not heads:
            return
        for start in _starts(text, tuple(heads)):
            yield from _block(data, start, text.line_of(start), comment)

    def holding(
        self, text: Text, word: bytes, heads: Sequence[Words], behind: Container[bytes]
    ) -> Iterator[Found]:
        data = text.data
        comment = self.comment.encode()
        begins, _ = _line_begins(tuple(heads))
        for start, _ in lines_with(data, word, behind):
            top = _top_of(data, start, comment)
            if not begins.match(data, top):
                continue
            first = text.line_of(top)
            wanted = text.line_of(start)
            yield from (found for found in _block(data, top, first, comment) if found[2] == wanted)

    def part_around(self, text: Text, at: int) -> tuple[int, Iterable[Found]]:
        data = text.data
        comment = self.comment.encode()
        top = _top_of(data, data.rfind(b"\n", 0, at) + 1, comment)
        lines, end = _lines_of_block(data, top, comment)
        return end, _statements(lines, text.line_of(top), comment)

    @property
    def apart(self) -> bool:
        return True

    def begins_anew(self, line: bytes) -> bool:
        return is_top(line, self.comment.encode())

    def everything(self, text: Text) -> Iterator[Found]:
        return _statements(text.data.split(b"\n"), 1, self.comment.encode())

    def write_change(self, text: Text, edits: Sequence[Edit], identity: Identity) -> str:
        out: list[str] = []
        here: Path = ()
        for edit in edits:
            same = 0
            # Headers that the edit before stood below are open already.
            while same < min(len(here), len(edit.path)) and here[same] == edit.path[same]:
                same += 1
            out += [
                " " * (self.indent * depth) + join(edit.path[depth])
                for depth in range(same, len(edit.path))
            ]
            here = edit.path
            words = (self.remove, *edit.words) if edit.removes else edit.words
            out.append(" " * (self.indent * len(here)) + join(words))
        return "".join(line + "\n" for line in out)

    def read_change(self, text: str, file: str) -> list[Edit]:
        edits: list[Edit] = []
        try:
            for path, raw, line in _statements(
                text.encode().split(b"\n"), 1, self.comment.encode()
            ):
                words = tuple(split_words(decode(raw)))
                removes = words[:1] == (self.remove,)
                if not words:
                    continue  # signs that count as blanks
                if removes and len(words) == 1:
                    raise refuse(file, line, f"'{self.remove}' without the statement to remove")
                edits.append(Edit(path, words[1:] if removes else words, removes, line))
        except Unreadable as problem:
            raise refuse(file, 1, str(problem)) from None
        return edits

    def apply(self, text: Text, edits: Sequence[Edit], identity: Identity) -> bytes:
        return edited(text.data, edits, identity, Layout(self.comment.encode(), self.indent))


def _starts(text: Text, heads: tuple[Words, ...]) -> Iterator[int]:
    """Yield where lines begin with the words of one of `heads` at their first column, in any
    spacing and quoting.
    """
    data = text.data
    plain = _plain_needle(text, heads)
    if plain:
        # One head that stands nowhere in another spelling is found without a pattern, which is much
        # faster.
        at = 0 if data.startswith(plain) else data.find(b"\n" + plain) + 1 or -1
        while at >= 0:
            if data[at + len(plain) : at + len(plain) + 1] in (b"", b" ", b"\t", b"\r", b"\n"):
                yield at
            at = data.find(b"\n" + plain, at) + 1 or -1
        return
    begin, behind = _line_begins(heads)
    found = begin.match(data)
    at = 0
    while True:
        if found:
            yield at
        found = behind.search(data, at)
        if not found:
            return
        at = found.start() + 1


def _plain_needle(text: Text, heads: tuple[Words, ...]) -> bytes:
    """Return the beginning of the lines of a single head, if that is how all of them are spelled.

    Else nothing.
    """
    if len(heads) > 1:
        return b""
    first = quote(heads[0][0]).encode()
    # The second word may be behind more than one blank, or in quotes.
    if len(heads[0]) > 1 and text.once(("odd", first), lambda: _is_odd(text.data, first)):
        return b""
    return join(heads[0]).encode()


def _is_odd(data: bytes, first: bytes) -> bool:
    """Whether what follows a word is not always a plain word behind one blank."""
    return re.search(re.escape(first) + rb'(?:  |\t| ")', data) is not None


@lru_cache(maxsize=4096)
def _line_begins(heads: tuple[Words, ...]) -> tuple[re.Pattern[bytes], re.Pattern[bytes]]:
    """Return the expressions for such a line: the first one, and the following ones."""
    by_first: dict[str, list[str]] = {}
    for head in heads:
        by_first.setdefault(head[0], []).append(r"[ \t]+".join(map(_spelled, head[1:])))
    ways = []
    for first, rests in by_first.items():
        named = (
            "" if "" in rests else rf"[ \t]+(?:{'|'.join(sorted(rests, key=len, reverse=True))})"
        )
        ways.append(re.escape(quote(first)) + named)
    either = f"(?:{'|'.join(sorted(ways, key=len, reverse=True))})(?=[ \t\r\n]|$)".encode()
    return re.compile(either), re.compile(b"\n" + either)


def _spelled(word: str) -> str:
    """Return a word as it may be in a text: plain, or in quotes."""
    plain = re.escape(quote(word))
    inside = re.escape(re.sub(r'(["\\])', r"\\\1", word))
    return plain if quote(word) != word else f'(?:{plain}|"{inside}")'


def _block(data: bytes, start: int, line: int, comment: bytes) -> Iterator[Found]:
    """Yield the statements of one top-level line and what is indented below it."""
    return _statements(_lines_of_block(data, start, comment)[0], line, comment)


def _lines_of_block(data: bytes, start: int, comment: bytes) -> tuple[list[bytes], int]:
    """Return one top-level line with those that are indented below it, and where they end."""
    lines: list[bytes] = []
    at = start
    while True:
        end = data.find(b"\n", at)
        lines.append(data[at : end if end >= 0 else len(data)])
        if end < 0:
            return lines, len(data)
        at = end + 1
        first = data[at : at + 1]
        if first not in (b" ", b"\t", b"\r", b"\n") and not data.startswith(comment, at):
            return lines, at


def _top_of(data: bytes, start: int, comment: bytes) -> int:
    """Return where the line begins at the top that the line at a place is below: the first one
    upwards that begins in the first column and is no comment.
    """
    top = start
    while top and data[top : top + 1] in (b" ", b"\t", b"\r", b"\n", comment[:1]):
        top = data.rfind(b"\n", 0, top - 1) + 1
    return top


def _statements(lines: Sequence[bytes], number: int, comment: bytes) -> Iterator[Found]:
    """Yield statements with their enclosing path.

    A line that others are indented below is no statement.
    """
    stack: list[tuple[int, Path]] = []
    path: Path = ()
    waiting: tuple[int, bytes, int] | None = None
    for n, raw in enumerate(lines, number):
        text = raw.strip()
        if not text or text.startswith(comment):
            continue
        depth = depth_of(raw)
        if waiting is not None:
            above, said, line = waiting
            # The line before is a header if this one is moved in further, else a statement.
            if depth > above:
                if len(stack) >= DEEPEST:
                    raise Unreadable(f"line {n}: nested deeper than {DEEPEST} levels")
                stack.append((above, path))
                path = (*path, header(said))
            else:
                yield path, said, line
                while stack and stack[-1][0] >= depth:
                    path = stack.pop()[1]
        waiting = depth, text, n
    if waiting is not None:
        yield path, waiting[1], waiting[2]
