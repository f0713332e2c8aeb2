"""The shape `enclosed`: a statement a line; words open a block and shut it, however lines are moved
in.

    open events
    export on
    open target beacon-a
    address 198.51.100.21
    shut
    shut

Which words these are, a dialect says. What follows the word that shuts is passed over. A change is
written in the same form; a line that begins with the removal word takes away the statements of that
block, and the blocks in it, that begin with the rest of its words.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import ClassVar

from ivrel.core.form import Key
from ivrel.core.form import TextField as Word
from ivrel.core.shapes.indented import header
from ivrel.core.shapes.line_blocks import LineBlock, LineEditor, join
from ivrel.core.shapes.shape import Edit, Found, Identity, Shape, refuse
from ivrel.core.text.lines import edited_lines
from ivrel.core.text.text import Text
from ivrel.core.text.words import Path, Words, split_words
from ivrel.core.vocabulary.errors import Unreadable

DEEPEST = 200  # levels; deeper nesting is no configuration


class Enclosed(Shape, frozen=True):
    """The shape `enclosed`; `opens`, `shuts`: the words that open a block and shut it; `indent`:
    the blanks before new lines in a block.
    """

    LISTS: ClassVar[bool] = True
    NEGATES: ClassVar[bool] = True
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
                # What is empty is there all the same: its header is a statement.
                if empty is not None:
                    yield empty
                empty = None
                path = path[:-1]
            else:
                empty = None
                yield path, raw, line

    def is_opened(self, words: Words) -> bool:
        """Whether a line opens a block: a word that opens nothing is a statement."""
        return len(words) > 1 and words[0] == self.opens

    def lines(self, lines: Sequence[bytes]) -> Iterator[tuple[bytes, Words, int]]:
        """Yield what is on each line that is none of comments: its text, words and number."""
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
            editor = _Enclosed(lines, identity, self)
            for edit in edits:
                editor.carry_out(edit)
            lines[:] = editor.root.inside()

        return edited_lines(text.data, change)


class _Enclosed(LineEditor):
    """Edits lines where one word opens a block, and another closes it."""

    def __init__(self, lines: Sequence[bytes], identity: Identity, shape: Enclosed) -> None:
        self._shape = shape
        super().__init__(lines, identity)

    def parse(self, lines: Sequence[bytes]) -> LineBlock:
        root = LineBlock((), [], b"", -1)
        shape = self._shape
        above = [root]
        begin = 0
        for _, words, number in shape.lines(lines):
            gap = list(lines[begin : number - 1])
            line = lines[number - 1]
            begin = number
            if shape.is_opened(words):
                block = LineBlock(words[1:], gap, line, above[-1].depth + 1)
                above[-1].add(block)
                above.append(block)
            elif words[0] == shape.shuts and len(above) > 1:
                above.pop().tail = [*gap, line]
            else:
                above[-1].add(LineBlock(words, gap, line, len(above) - 1, opens=False))
        above[-1].tail = list(lines[begin:])
        return root

    def is_statement(self, member: LineBlock) -> bool:
        return not member.opens

    def added(self, block: LineBlock, path: Path, words: Words) -> bool:
        shape = self._shape
        members = block.members
        if members:
            # A new line is moved in as its neighbours are, whatever the dialect writes elsewhere.
            model = members[0].line
            lead = model[: len(model) - len(model.lstrip())]
        else:
            lead = b" " * (shape.indent * (block.depth + 1))
        for level, words_of in enumerate(path):
            moved_in = lead + b" " * (shape.indent * level)
            line = moved_in + join((shape.opens, *words_of)).encode()
            inner = LineBlock(words_of, [], line, block.depth + 1)
            inner.tail = [moved_in + shape.shuts.encode()]
            block.add(inner)
            block = inner
        moved_in = lead + b" " * (shape.indent * len(path))
        line = moved_in + join(words).encode()
        block.add(LineBlock(words, [], line, block.depth + 1, opens=False))
        return True
