"""The shape `braces`: statements end with ';', blocks stand in braces, lines mean nothing.

    record {
        keeper { severity notice; to beacon-a; }
    }

A change is a fragment in the same braces; a statement that begins with the removal word takes away
those statements and blocks of the same block that begin with the rest of its words.
"""

from __future__ import annotations

import re
from collections.abc import Container, Iterator, Mapping, Sequence
from typing import ClassVar

from msgspec import Struct
from msgspec.structs import replace

from ivrel.core.form import Key
from ivrel.core.form import Text as Word
from ivrel.core.shapes.shape import Edit, Found, Identity, Shape, missing, refuse
from ivrel.core.text.lines import line_end, lines_with
from ivrel.core.text.text import LONGEST, Text, decode
from ivrel.core.text.words import Path, Words, quote, split_words
from ivrel.core.vocabulary.errors import Unreadable

DEEPEST = 200


class Braces(Shape, frozen=True):
    """The shape `braces`.

    `wrapper`: the block that everything stands in, if any; `inside`: the block that a change stands
    in; `blocks`: the words that alone are the headers of blocks, and begin nothing else that
    matters.
    """

    WHOLE: ClassVar[bool] = True
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

    def knowing(self, blocks: Sequence[str]) -> Braces:
        return replace(self, blocks=tuple(blocks))

    def split(self, line: str) -> list[str]:
        return split_words(line)

    def join(self, words: Sequence[str]) -> str:
        return _join(words)

    def everything(self, text: Text) -> Iterator[Found]:
        return _flat(text, self._top(text), ())

    def _top(self, text: Text) -> tuple[Node, ...]:
        return text.once("top", lambda: _top(text.data, self))

    def check(self, text: Text) -> None:
        data = text.data
        if data.count(b"{") != data.count(b"}") and not _balanced(data, self):
            raise Unreadable("its braces do not pair: it is damaged, or cut off")

    def scan(self, text: Text, heads: Sequence[Words]) -> Iterator[Found]:
        self.check(text)
        data = text.data
        found = _found(data, heads, self)
        for node in _quick(data, found, self) if _plain(data, self, found) else _top(data, self):
            if any(node.words[: len(head)] == head for head in heads):
                yield from _flat(text, (node,), ())

    def holding(
        self, text: Text, word: bytes, heads: Sequence[Words], behind: Container[bytes]
    ) -> Iterator[Found]:
        data = text.data
        hits = list(lines_with(data, word, behind))
        if not hits:
            return
        if not _plain(data, self, [start for start, _ in hits]):
            yield from (found for found in self.scan(text, heads) if word in found[1])
            return
        for at in dict.fromkeys(
            _around(data, data.find(word, start, end), self) for start, end in hits
        ):
            for node in _parse(data, self, at, _end(data, at))[:1] if at >= 0 else ():
                if any(node.words[: len(head)] == head for head in heads):
                    yield from (found for found in _flat(text, (node,), ()) if word in found[1])

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
                pad(level) + _join(edit.path[level]) + " {" for level in range(same, len(edit.path))
            ]
            here = edit.path
            words = (self.remove, *edit.words) if edit.removes else edit.words
            out.append(pad(len(here)) + _join(words) + ";")
        close(0)
        if self.inside:
            out.append("}")
        return "".join(line + "\n" for line in out)

    def read_change(self, text: str, file: str) -> list[Edit]:
        data = text.encode()
        try:
            nodes = _parse(data, self)
        except Unreadable as problem:
            raise refuse(file, 1, str(problem)) from None
        if not _balanced(data, self):
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
        waiting = list(edits)
        while waiting:
            # Edits of one block at the top are carried out on that block alone; the rest of a text
            # can be long.
            first = waiting[0]
            together = 1
            while together < len(waiting) and waiting[together].path[:1] == first.path[:1]:
                together += 1
            text = self._apply_within(text, waiting[:together], identity)
            del waiting[:together]
        return text.data

    def _apply_within(self, text: Text, edits: Sequence[Edit], identity: Identity) -> Text:
        """Carry out edits of the same block at the top; with no such block yet, on the whole
        text.
        """
        for n, edit in enumerate(edits):
            top = self._top(text)
            blocks = [node for node in top if node.inner >= 0 and edit.path[:1] == (node.words,)]
            if blocks:
                return Text(_apply_to_blocks(text.data, blocks, edits[n:], identity, self))
            text = Text(_apply(text.data, edit, identity, self))
        return text


class Node(Struct, frozen=True):
    """A statement or a block, and where it stands: from its first byte to behind its last."""

    words: Words
    start: int
    stop: int
    inner: int  # where the block's inside begins; -1 for a statement
    children: tuple[Node, ...] = ()


def _join(words: Sequence[str]) -> str:
    return " ".join(_quoted(w) for w in words)


_SAFE = re.compile(r"[\w./:-]+")


def _quoted(word: str) -> str:
    """Return a word as it must stand: in quotes if it holds what ends statements or needs them."""
    if _SAFE.fullmatch(word):
        return word
    plain = word and not re.search(r"[{};#\\]", word)
    return quote(word) if plain else '"' + re.sub(r'(["\\])', r"\\\1", word) + '"'


def _tokens(shape: Braces) -> re.Pattern[bytes]:
    comment = re.escape(shape.comment.encode())
    return re.compile(rb'%s[^\n]*|"(?:[^"\\\n]|\\.)*"|[{};]|[^\s{};"]+|"' % comment)


def _parse(data: bytes, shape: Braces, start: int = 0, stop: int | None = None) -> tuple[Node, ...]:
    """The members between two places; braces that do not pair end what they can."""
    comment = shape.comment.encode()
    stack: list[tuple[Words, int, int, list[Node]]] = []
    members: list[Node] = []
    words: list[str] = []
    first = -1
    for match in _tokens(shape).finditer(data, start, len(data) if stop is None else stop):
        token = match[0]
        if token.startswith(comment):
            continue
        if token == b";":
            if words:
                members.append(Node(tuple(words), first, match.end(), -1))
            words, first = [], -1
        elif token == b"{":
            if len(stack) >= DEEPEST:
                line = data.count(b"\n", 0, match.start()) + 1
                raise Unreadable(f"line {line}: nested deeper than {DEEPEST} levels")
            stack.append(
                (tuple(words), first if first >= 0 else match.start(), match.end(), members)
            )
            members, words, first = [], [], -1
        elif token == b"}":
            if words:
                members.append(Node(tuple(words), first, match.start(), -1))
                words, first = [], -1
            if stack:
                header, begin, inner, outer = stack.pop()
                outer.append(Node(header, begin, match.end(), inner, tuple(members)))
                members = outer
        else:
            if first < 0:
                first = match.start()
            text = decode(token[:LONGEST])
            quoted = len(text) > 1 and text[0] == text[-1] == '"'
            words.append(re.sub(r"\\(.)", r"\1", text[1:-1]) if quoted else text)
    end = len(data) if stop is None else stop
    if words:
        members.append(Node(tuple(words), first, end, -1))
    while stack:
        header, begin, inner, outer = stack.pop()
        outer.append(Node(header, begin, end, inner, tuple(members)))
        members = outer
    return tuple(members)


def _balanced(data: bytes, shape: Braces) -> bool:
    """Whether every brace has its partner; those in quotes and comments are none."""
    depth = 0
    for match in _tokens(shape).finditer(data):
        depth += (match[0] == b"{") - (match[0] == b"}")
        if depth < 0:
            return False
    return depth == 0


def _top(data: bytes, shape: Braces) -> tuple[Node, ...]:
    """The members of the whole text, within the wrappers if there are some."""
    return tuple(
        child
        for node in _parse(data, shape)
        for child in (
            node.children if node.words[:1] == (shape.wrapper,) and shape.wrapper else (node,)
        )
    )


def _plain(data: bytes, shape: Braces, places: Sequence[int]) -> bool:
    """Whether every brace up to the blocks at some places is one, so that counting them tells
    depth.

    That is so if none stands in quotes or in a comment.
    """
    if not places:
        return True
    stop = _end(data, places[-1])
    comment = shape.comment.encode()
    at = data.find(comment, 0, stop)
    while at >= 0:
        close = data.find(b"\n", at)
        said = data[at : close if close >= 0 else len(data)]
        if b"{" in said or b"}" in said or b'"' in said:
            return False
        at = data.find(comment, close + 1, stop) if close >= 0 else -1
    # Without quotes in comments, every second piece between quotes stands in some.
    return not any(b"{" in said or b"}" in said for said in data[:stop].split(b'"')[1::2])


def _quick(data: bytes, found: Sequence[int], shape: Braces) -> Iterator[Node]:
    """The blocks and statements at those of some places that are at the top; the rest is not
    read.
    """
    level = 1 if shape.wrapper else 0
    opened, counted = 0, 0
    for at in found:
        opened += data.count(b"{", counted, at) - data.count(b"}", counted, at)
        counted = at
        if opened == level and _begins(data, at, shape.comment.encode()):
            yield from _parse(data, shape, at, _end(data, at))[:1]


def _found(data: bytes, heads: Sequence[Words], shape: Braces) -> list[int]:
    """Where these first words stand, at the top or not."""
    found: list[int] = []
    named: dict[str, list[bytes]] = {}
    for head in heads:
        needle = _join(head).encode()
        if len(head) == 2:
            named.setdefault(head[0], []).append(re.escape(_join(head[1:]).encode()))
            continue
        if len(head) == 1 and head[0] in shape.blocks:
            found += [
                m.start()
                for m in re.finditer(re.escape(needle) + rb"\s*\{", data)
                if _opens(data, m.start())
            ]
            continue
        at = data.find(needle)
        while at >= 0:
            before, after = data[at - 1 : at], data[at + len(needle) : at + len(needle) + 1]
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
    """Whether a statement or a block begins at a place: what stands before it, comments aside, ends
    one.

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


def _end(data: bytes, at: int) -> int:
    """Behind the statement or block that begins at a place."""
    depth = 0
    for match in re.compile(rb"[{};]").finditer(data, at):
        if match[0] == b"{":
            depth += 1
        elif match[0] == b"}":
            depth -= 1
        if depth <= 0 and match[0] != b"{":
            return match.end() if depth == 0 else match.start()
    return len(data)


def _around(data: bytes, at: int, shape: Braces) -> int:
    """Where the top-level block begins that a place is in; -1 if it is in none."""
    depth = data.count(b"{", 0, at) - data.count(b"}", 0, at) - bool(shape.wrapper)
    while depth > 0:
        opened, closed = data.rfind(b"{", 0, at), data.rfind(b"}", 0, at)
        depth += 1 if closed > opened else -1
        at = max(opened, closed)
    if depth < 0 or at < 0:
        return -1
    begin = 1 + max(data.rfind(sign, 0, at) for sign in (b"{", b"}", b";"))
    return begin + len(data[begin:at]) - len(data[begin:at].lstrip())


def _flat(text: Text, nodes: Sequence[Node], path: Path) -> Iterator[Found]:
    counted = nodes[0].start if nodes else 0
    data, line = text.data, text.line_of(counted)
    stack: list[tuple[Node, Path]] = [(node, path) for node in reversed(nodes)]
    while stack:
        node, path = stack.pop()
        if node.inner >= 0 and node.children:
            stack += [(child, (*path, node.words)) for child in reversed(node.children)]
            continue
        line += data.count(b"\n", counted, node.start)
        counted = max(counted, node.start)
        yield path, _join(node.words).encode(), line


def _apply_to_blocks(
    data: bytes, blocks: Sequence[Node], edits: Sequence[Edit], identity: Identity, shape: Braces
) -> bytes:
    pieces = [data[n.start : n.stop] for n in blocks]
    alone = replace(shape, wrapper="")
    for edit in edits:
        text = _apply(b"\n".join(pieces), edit, identity, alone)
        pieces = [text[n.start : n.stop] for n in _parse(text, alone)]
    for node, piece in zip(reversed(blocks), reversed(pieces), strict=True):
        data = data[: node.start] + piece + data[node.stop :]
    return data


def _apply(data: bytes, edit: Edit, identity: Identity, shape: Braces) -> bytes:
    nodes = _parse(data, shape)
    holders: list[Node] = []
    if shape.wrapper:
        holders = [n for n in nodes if n.words[:1] == (shape.wrapper,) and n.inner >= 0]
        nodes = (
            tuple(child for holder in holders for child in holder.children) if holders else nodes
        )
    for level, header in enumerate(edit.path):
        # A platform joins blocks of the same name: what an edit means may stand in any of them.
        blocks = [n for n in nodes if n.words == header and n.inner >= 0]
        if not blocks:
            if edit.removes:
                raise missing(edit, _join)
            return _insert(data, holders, nodes, edit.path[level:], edit.words, shape)
        holders = blocks
        nodes = tuple(child for block in blocks for child in block.children)
    if edit.removes:
        hits = [n for n in nodes if n.words[: len(edit.words)] == edit.words]
        if not hits:
            raise missing(edit, _join)
        for node in reversed(hits):
            data = _cut(data, node)
        return data
    wanted = identity(edit.path, edit.words)
    hits = [n for n in nodes if n.inner < 0 and identity(edit.path, n.words) == wanted]
    if hits:
        node = hits[-1]
        ended = data[node.start : node.stop].endswith(b";")
        return (
            data[: node.start]
            + _join(edit.words).encode()
            + (b";" if ended else b"; ")
            + data[node.stop :]
        )
    return _insert(data, holders, nodes, (), edit.words, shape)


def _cut(data: bytes, node: Node) -> bytes:
    """Takes a member away, with its line if it has one to itself."""
    before, after = data.rfind(b"\n", 0, node.start) + 1, data.find(b"\n", node.stop)
    if after >= 0 and not data[before : node.start].strip() and not data[node.stop : after].strip():
        return data[:before] + data[after + 1 :]
    return data[: node.start] + data[node.stop :].removeprefix(b" ")


def _insert(
    data: bytes,
    holders: Sequence[Node],
    nodes: Sequence[Node],
    path: Path,
    words: Words,
    shape: Braces,
) -> bytes:
    """Adds a statement, and the blocks that it still lacks, behind the last member of the last
    block.
    """
    holder = holders[-1] if holders else None
    nodes = holder.children if holder else nodes
    text = _join(words) + ";"
    for header in reversed(path):
        text = f"{_join(header)} {{ {text} }}"
    if nodes:
        last = nodes[-1]
        begin = data.rfind(b"\n", 0, last.start) + 1
        lead = data[begin : last.start]
        joint = b" " if lead.strip() else line_end(data) + lead
        ended = data[last.start : last.stop].endswith((b";", b"}"))
        return (
            data[: last.stop] + (b"" if ended else b";") + joint + text.encode() + data[last.stop :]
        )
    if holder is not None:
        return (
            data[: holder.inner] + b" " + text.encode() + b" " + data[holder.inner :].lstrip(b" ")
        )
    return data + (b"" if data.endswith(b"\n") or not data else b"\n") + text.encode() + b"\n"
