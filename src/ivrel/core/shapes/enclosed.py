"""The shape `enclosed`: a statement a line; words open a block and shut it, however lines are moved
in.

    open events
    export on
    open target beacon-a
    address 198.51.100.21
    shut
    shut

Which words these are, a dialect says. What stands behind the word that shuts is passed over. A
change is written in the same form; a line that begins with the removal word takes away the
statements of that block, and the blocks in it, that begin with the rest of its words.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import ClassVar

from msgspec import Struct

from ivrel.core.form import Key
from ivrel.core.form import Text as Word
from ivrel.core.shapes.indented import header, join
from ivrel.core.shapes.shape import Edit, Found, Identity, Shape, missing, refuse
from ivrel.core.text.lines import edited_lines, in_place_of
from ivrel.core.text.text import Text
from ivrel.core.text.words import Path, Words, split_words
from ivrel.core.vocabulary.errors import Unreadable

DEEPEST = 200  # levels; deeper nesting is no configuration


class Enclosed(Shape, frozen=True):
    """The shape `enclosed`; `opens`, `shuts`: the words that open a block and shut it; `indent`:
    the blanks by which new lines in a block are moved in.
    """

    LISTS: ClassVar[bool] = True
    ANCHORS: ClassVar[tuple[bytes, bytes, bytes]] = (
        rb"\n[ \t]*+",
        rb"[^\s]++",
        rb"[ \t]++",
    )

    WHOLE: ClassVar[bool] = True
    OPTIONS: ClassVar[Mapping[str, Key]] = {
        **Shape.OPTIONS,
        "opens": Key(Word("text"), "the word that opens a block"),
        "shuts": Key(Word("text"), "the word that shuts a block"),
    }

    opens: str = "open"
    shuts: str = "shut"
    indent: int = 4

    def split(self, line: str) -> list[str]:
        return split_words(line)

    def join(self, words: Sequence[str]) -> str:
        return join(words)

    def check(self, text: Text) -> None:
        depth = 0
        for _, words, line in self.lines(text.data.split(b"\n")):
            depth += self.is_opened(words) - (words[0] == self.shuts)
            if depth < 0:
                raise Unreadable(f"line {line}: '{self.shuts}' shuts nothing")
            if depth > DEEPEST:
                raise Unreadable(f"line {line}: nested deeper than {DEEPEST} levels")
        if depth:
            raise Unreadable(f"at its end, {depth} of its blocks are not shut")

    def scan(self, text: Text, heads: Sequence[Words]) -> Iterator[Found]:
        self.check(text)
        for path, raw, line in self.everything(text):
            top = path[0] if path else header(raw)
            if any(top[: len(head)] == head for head in heads):
                yield path, raw, line

    def everything(self, text: Text) -> Iterator[Found]:
        path: Path = ()
        empty: tuple[Path, bytes, int] | None = None  # a block in which nothing stood so far
        for raw, words, line in self.lines(text.data.split(b"\n")):
            if self.is_opened(words):
                empty = path, raw[len(self.opens) :].strip(), line
                path = (*path, words[1:])
            elif words[0] == self.shuts:
                # What is empty stands there all the same: its header is a statement.
                if empty is not None:
                    yield empty
                empty, path = None, path[:-1]
            else:
                empty = None
                yield path, raw, line

    def is_opened(self, words: Words) -> bool:
        """Whether a line opens a block: a word that opens nothing is a statement."""
        return len(words) > 1 and words[0] == self.opens

    def lines(self, lines: Sequence[bytes]) -> Iterator[tuple[bytes, Words, int]]:
        """Yield what stands on each line that is none of comments: its text, words and number."""
        comment = self.comment.encode()
        for number, raw in enumerate(lines, 1):
            text = raw.strip()
            words = header(text) if text and not text.startswith(comment) else ()
            if words:
                yield text, words, number

    def write_change(self, text: Text, edits: Sequence[Edit], identity: Identity) -> str:
        out: list[str] = []
        here: Path = ()

        def write(depth: int, words: Sequence[str]) -> None:
            out.append(" " * (self.indent * depth) + join(words))

        for path, words in (*((e.path, self._said(e)) for e in edits), ((), ())):
            same = 0
            while same < min(len(here), len(path)) and here[same] == path[same]:
                same += 1
            for depth in range(len(here) - 1, same - 1, -1):
                write(depth, (self.shuts,))
            for depth in range(same, len(path)):
                write(depth, (self.opens, *path[depth]))
            here = path
            if words:
                write(len(path), words)
        return "".join(line + "\n" for line in out)

    def _said(self, edit: Edit) -> Words:
        return (self.remove, *edit.words) if edit.removes else edit.words

    def read_change(self, change: str, file: str) -> list[Edit]:
        text = Text(change.encode())
        try:
            self.check(text)
        except Unreadable as problem:
            raise refuse(file, 1, str(problem)) from None
        edits = []
        for path, raw, line in self.everything(text):
            words = header(raw)
            removes = words[0] == self.remove
            if removes and len(words) == 1:
                raise refuse(file, line, f"'{self.remove}' without the statement to remove")
            edits.append(Edit(path, words[1:] if removes else words, removes, line))
        return edits

    def apply(self, text: Text, edits: Sequence[Edit], identity: Identity) -> bytes:
        def change(lines: list[bytes]) -> None:
            for edit in edits:
                _Editing(self, lines, identity).carry_out(edit)

        return edited_lines(text.data, change)


class _Member(Struct, frozen=True):
    """A member of a block: its first line, the line behind its last, its words, whether it is a
    block itself.
    """

    first: int
    stop: int
    words: Words
    is_block: bool


class _Editing:
    """Carries out an edit on lines."""

    def __init__(self, shape: Enclosed, lines: list[bytes], identity: Identity) -> None:
        self._shape, self._lines, self._identity = shape, lines, identity

    def carry_out(self, edit: Edit) -> None:
        """Carry out one edit; Refused where there is nothing to remove."""
        blocks = [(0, len(self._lines))]
        for level, words in enumerate(edit.path):
            # A platform joins blocks of the same name: what is meant may stand in any of them.
            inner = [
                (member.first + 1, member.stop - 1)
                for block in blocks
                for member in self._members(*block)
                if member.is_block and member.words == words
            ]
            if not inner:
                if edit.removes:
                    raise missing(edit, join)
                self._insert(blocks[-1], level, edit.path[level:], edit.words)
                return
            blocks = inner
        hits = [m for block in blocks for m in self._members(*block) if self._is_meant(m, edit)]
        if edit.removes:
            if not hits:
                raise missing(edit, join)
            # From the end, so that the numbers of lines further up stay true.
            for hit in reversed(hits):
                del self._lines[hit.first : hit.stop]
        elif hits:
            at = hits[-1].first
            self._lines[at] = in_place_of(self._lines[at], join(edit.words))
        else:
            self._insert(blocks[-1], len(edit.path), (), edit.words)

    def _is_meant(self, member: _Member, edit: Edit) -> bool:
        if edit.removes:
            return member.words[: len(edit.words)] == edit.words
        # A statement never takes the place of a whole block.
        same = self._identity(edit.path, edit.words)
        return not member.is_block and self._identity(edit.path, member.words) == same

    def _members(self, first: int, stop: int) -> list[_Member]:
        """Return the direct members of a block, or of the text."""
        out: list[_Member] = []
        depth, begun = 0, 0
        words: Words = ()
        shape = self._shape
        for _, said, number in shape.lines(self._lines[first:stop]):
            at = first + number - 1
            if shape.is_opened(said):
                if not depth:
                    begun, words = at, said[1:]
                depth += 1
            elif said[0] == shape.shuts:
                depth -= 1
                if not depth:
                    out.append(_Member(begun, at + 1, words, True))
            elif not depth:
                out.append(_Member(at, at + 1, said, False))
        return out

    def _insert(self, block: tuple[int, int], depth: int, path: Path, words: Words) -> None:
        """Add a statement behind the last member of a block, with the blocks that it lacks."""
        shape, members = self._shape, self._members(*block)
        at = members[-1].stop if members else block[0]
        lead = b" " * (shape.indent * depth)
        if members:
            # A new line is moved in as its neighbours are, whatever the dialect writes elsewhere.
            model = self._lines[members[0].first]
            lead = model[: len(model) - len(model.lstrip())]
        more = [b" " * (shape.indent * n) for n in range(len(path) + 1)]
        new = [
            lead + more[n] + join((shape.opens, *header)).encode() for n, header in enumerate(path)
        ]
        new.append(lead + more[-1] + join(words).encode())
        new += [lead + more[n] + shape.shuts.encode() for n in range(len(path) - 1, -1, -1)]
        self._lines[at:at] = new
