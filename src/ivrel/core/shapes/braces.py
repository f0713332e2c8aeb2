"""The shape `braces`: statements end with ';', blocks are in braces, lines mean nothing.

    record {
        keeper { severity notice; to beacon-a; }
    }

A change is a fragment in the same braces; a statement that begins with the removal word takes away
those statements and blocks of the same block that begin with the rest of its words.
"""

from __future__ import annotations

from collections.abc import Container, Iterable, Iterator, Mapping, Sequence
from functools import partial
from typing import ClassVar

from msgspec.structs import replace

from ivrel.core.form import Key
from ivrel.core.form import TextField as Word
from ivrel.core.shapes.node_edits import BracesEditor
from ivrel.core.shapes.node_places import around, block_end, is_plain, nodes_at, places_of
from ivrel.core.shapes.nodes import Signs, TextNode, balanced, join, parse, tops
from ivrel.core.shapes.shape import Edit, Found, Identity, Shape, refuse
from ivrel.core.text.lines import lines_with
from ivrel.core.text.text import Text, decode
from ivrel.core.text.words import Path, Words, split_words
from ivrel.core.vocabulary.errors import Unreadable


class Braces(Shape, frozen=True):
    """The shape `braces`.

    `wrapper`: the block that everything is in, if any; `inside`: the block that a change is in;
    `blocks`: the words that alone are the headers of blocks, and begin nothing else that matters.
    """

    WHOLE: ClassVar[bool] = True
    LISTS: ClassVar[bool] = True
    NEGATES: ClassVar[bool] = True
    ANCHORS: ClassVar[tuple[bytes, bytes, bytes]] = (
        rb"[\n;{}]\s*+",
        rb"[^\s{};]++",
        rb"\s++",
    )
    OPTIONS: ClassVar[Mapping[str, Key]] = {
        **Shape.OPTIONS,
        "wrapper": Key(Word("a word"), "the block that everything stands in"),
    }
    CHANGE: ClassVar[Mapping[str, Key]] = {
        **Shape.CHANGE,
        "inside": Key(Word("a word"), "the block that a change stands in"),
    }

    wrapper: str = ""
    inside: str = ""
    blocks: tuple[str, ...] = ()
    indent: int = 4

    @property
    def signs(self) -> Signs:
        """What its nodes are parsed by."""
        return Signs(self.comment, self.wrapper, self.blocks)

    def knowing(self, blocks: Sequence[str]) -> Braces:
        return replace(self, blocks=tuple(blocks))

    def split(self, line: str) -> list[str]:
        return split_words(line)

    def join(self, words: Sequence[str]) -> str:
        return join(words)

    def everything(self, text: Text) -> Iterator[Found]:
        return _flat(text, self._parsed(text), ())

    def find_tops(self, text: Text) -> Sequence[Words]:
        return [node.words for node in self._members(text)]

    def statements_of(self, text: Text, numbers: Sequence[int]) -> list[Found]:
        out: list[Found] = []
        for n in numbers:
            out += text.once(("part", n), partial(self._part, text, n))
        return out

    def _part(self, text: Text, number: int) -> list[Found]:
        node = self._members(text)[number]
        if node.inner >= 0 and not node.children:
            return list(_flat(text, parse(text.data, self.signs, node.start, node.stop), ()))
        return list(_flat(text, (node,), ()))

    def content(self, text: Text, number: int) -> object:
        node = self._members(text)[number]
        return text.data[node.start : node.stop]

    def _members(self, text: Text) -> tuple[TextNode, ...]:
        """Return the members at the top, if possible without what is in them."""
        return text.once("members", lambda: tops(text.data, self.signs) or self._parsed(text))

    def _parsed(self, text: Text) -> tuple[TextNode, ...]:
        """Return the members at the top, with what is in them."""
        return text.once("parsed", lambda: _top(text.data, self))

    def check(self, text: Text) -> None:
        data = text.data
        # Counting is much faster than parsing. Only if the counts differ, quotes or comments that
        # hold braces may be the reason.
        if data.count(b"{") != data.count(b"}") and not balanced(data, self.signs):
            raise Unreadable("its braces do not pair: it is damaged, or cut off")

    def scan(self, text: Text, heads: Sequence[Words]) -> Iterator[Found]:
        self.check(text)
        data = text.data
        found = places_of(data, heads, self.signs)
        for node in (
            nodes_at(data, found, self.signs)
            if is_plain(data, self.signs, found)
            else self._parsed(text)
        ):
            if any(node.words[: len(head)] == head for head in heads):
                yield from _flat(text, (node,), ())

    def holding(
        self, text: Text, word: bytes, heads: Sequence[Words], behind: Container[bytes]
    ) -> Iterator[Found]:
        data = text.data
        hits = list(lines_with(data, word, behind))
        if not hits:
            return
        if not is_plain(data, self.signs, [start for start, _ in hits]):
            yield from (found for found in self.scan(text, heads) if word in found[1])
            return
        for at in dict.fromkeys(
            around(data, data.find(word, start, end), self.signs) for start, end in hits
        ):
            for node in parse(data, self.signs, at, block_end(data, at))[:1] if at >= 0 else ():
                if any(node.words[: len(head)] == head for head in heads):
                    yield from (found for found in _flat(text, (node,), ()) if word in found[1])

    def part_around(self, text: Text, at: int) -> tuple[int, Iterable[Found]]:
        data = text.data
        if text.whole or not is_plain(data, self.signs, [at]):
            return super().part_around(text, at)
        begin = around(data, at, self.signs)
        if begin < 0:
            return super().part_around(text, at)
        end = block_end(data, begin)
        return max(end, at + 1), _flat(text, parse(data, self.signs, begin, end)[:1], ())

    def write_change(self, text: Text, edits: Sequence[Edit], identity: Identity) -> str:
        out: list[str] = []
        depth = 0
        here: Path = ()
        if self.inside:
            out.append(f"{self.inside} {{")
            depth = 1

        def pad(levels: int) -> str:
            return " " * (self.indent * (depth + levels))

        def close(to: int) -> None:
            out.extend(pad(level - 1) + "}" for level in range(len(here), to, -1))

        for edit in edits:
            same = 0
            while same < min(len(here), len(edit.path)) and here[same] == edit.path[same]:
                same += 1
            close(same)
            out += [
                pad(level) + join(edit.path[level]) + " {" for level in range(same, len(edit.path))
            ]
            here = edit.path
            words = (self.remove, *edit.words) if edit.removes else edit.words
            out.append(pad(len(here)) + join(words) + ";")
        close(0)
        if self.inside:
            out.append("}")
        return "".join(line + "\n" for line in out)

    def read_change(self, text: str, file: str) -> list[Edit]:
        data = text.encode()
        try:
            nodes = parse(data, self.signs)
        except Unreadable as problem:
            raise refuse(file, 1, str(problem)) from None
        if not balanced(data, self.signs):
            raise refuse(file, text.count("\n") + 1, "the braces do not pair")
        if self.inside and nodes:
            if len(nodes) != 1 or nodes[0].words != (self.inside,):
                raise refuse(file, 1, f"expected one block '{self.inside} {{ … }}'")
            nodes = nodes[0].children
        edits = []
        for path, raw, line in _flat(Text(data), nodes, ()):
            words = tuple(split_words(decode(raw)))
            removes = words[:1] == (self.remove,)
            if removes and len(words) == 1:
                raise refuse(file, line, f"'{self.remove}' without the statement to remove")
            edits.append(Edit(path, words[1:] if removes else words, removes, line))
        return edits

    def apply(self, text: Text, edits: Sequence[Edit], identity: Identity) -> bytes:
        data = text.data
        top = self._members(text)
        wrapper = ""
        blocks = {node.words for node in top if node.inner >= 0}
        # Only blocks that edits are about are parsed: the rest of a text can be long.
        if any(not edit.path or edit.path[0] not in blocks for edit in edits):
            top = parse(data, self.signs)
            wrapper = self.wrapper
        editor = BracesEditor(data, top, self.signs, wrapper)
        for edit in edits:
            editor.carry_out(edit, identity)
        return editor.text()


def _top(data: bytes, shape: Braces) -> tuple[TextNode, ...]:
    """Return the members of the whole text, within the wrappers if there are some."""
    return tuple(
        child
        for node in parse(data, shape.signs)
        for child in (
            node.children if node.words[:1] == (shape.wrapper,) and shape.wrapper else (node,)
        )
    )


def _flat(text: Text, nodes: Sequence[TextNode], path: Path) -> Iterator[Found]:
    counted = nodes[0].start if nodes else 0
    data = text.data
    line = text.line_of(counted)
    stack: list[tuple[TextNode, Path]] = [(node, path) for node in reversed(nodes)]
    while stack:
        node, path = stack.pop()
        if node.inner >= 0 and node.children:
            stack += [(child, (*path, node.words)) for child in reversed(node.children)]
            continue
        line += data.count(b"\n", counted, node.start)
        counted = max(counted, node.start)
        yield path, join(node.words).encode(), line
