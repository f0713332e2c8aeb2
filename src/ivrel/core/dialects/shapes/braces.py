"""The shape `braces`: statements end with ';', blocks stand in braces, lines mean nothing.

    record {
        keeper { severity notice; to beacon-a; }
    }

A change is a fragment in the same braces; a statement that begins with the removal word takes away those
statements and blocks of the same block that begin with the rest of its words.
"""

from __future__ import annotations

import re
from collections.abc import Container, Iterator, Sequence

from msgspec import Struct
from msgspec.structs import replace

from ivrel.core.dialects.shapes.base import (
    LONGEST,
    Edit,
    Found,
    Identity,
    Path,
    Style,
    Words,
    decode,
    line_end,
    line_of,
    lines_with,
    missing,
    quote,
    refuse,
    split_words,
)
from ivrel.core.dialects.shapes.base import (
    fine as fine,
)
from ivrel.core.mistakes import Unreadable

ATOMIC = False
DERIVED = False
ASKS = ""

DEEPEST = 200

split = split_words


class Node(Struct, frozen=True):
    """A statement or a block, and where it stands: from its first byte to behind its last."""

    words: Words
    start: int
    stop: int
    inner: int  # where the block's inside begins; -1 for a statement
    children: tuple[Node, ...] = ()


def join(words: Sequence[str]) -> str:
    return " ".join(_quoted(w) for w in words)


def _quoted(word: str) -> str:
    """A word as it must stand: in quotes if it holds what ends statements, or what a quote would be read without."""
    plain = word and not re.search(r"[{};#\\]", word)
    return quote(word) if plain else '"' + re.sub(r'(["\\])', r"\\\1", word) + '"'


def _tokens(style: Style) -> re.Pattern[bytes]:
    comment = re.escape(style.comment.encode())
    return re.compile(rb'%s[^\n]*|"(?:[^"\\\n]|\\.)*"|[{};]|[^\s{};"]+|"' % comment)


def _parse(data: bytes, style: Style, start: int = 0, stop: int | None = None) -> tuple[Node, ...]:
    """The members between two places; braces that do not pair end what they can."""
    comment = style.comment.encode()
    stack: list[tuple[Words, int, int, list[Node]]] = []
    members: list[Node] = []
    words: list[str] = []
    first = -1
    for match in _tokens(style).finditer(data, start, len(data) if stop is None else stop):
        token = match[0]
        if token.startswith(comment):
            continue
        if token == b";":
            if words:
                members.append(Node(tuple(words), first, match.end(), -1))
            words, first = [], -1
        elif token == b"{":
            if len(stack) >= DEEPEST:
                line = line_of(data, match.start())
                raise Unreadable(f"line {line}: nested deeper than {DEEPEST} levels")
            stack.append((tuple(words), first if first >= 0 else match.start(), match.end(), members))
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


def _balanced(data: bytes, style: Style) -> bool:
    """Whether every brace has its partner; those in quotes and comments are none."""
    depth = 0
    for match in _tokens(style).finditer(data):
        depth += (match[0] == b"{") - (match[0] == b"}")
        if depth < 0:
            return False
    return depth == 0


def _top(data: bytes, style: Style) -> tuple[Node, ...]:
    """The members of the whole text, within the wrappers if there are some."""
    return tuple(
        child
        for node in _parse(data, style)
        for child in (node.children if node.words[:1] == style.wrapper[:1] and style.wrapper else (node,))
    )


def everything(data: bytes, style: Style) -> Iterator[Found]:
    return _flat(data, _top(data, style), ())


def scan(data: bytes, heads: Sequence[Words], style: Style) -> Iterator[Found]:
    if data.count(b"{") != data.count(b"}") and not _balanced(data, style):
        raise Unreadable("its braces do not pair: it is damaged, or cut off")
    found = _found(data, heads, style)
    for node in _quick(data, found, style) if _plain(data, style, found) else _top(data, style):
        if any(node.words[: len(head)] == head for head in heads):
            yield from _flat(data, (node,), ())


def _plain(data: bytes, style: Style, places: Sequence[int]) -> bool:
    """Whether every brace up to the blocks at some places is one, so that counting them tells depth.

    That is so if none stands in quotes or in a comment.
    """
    if not places:
        return True
    stop = _end(data, places[-1])
    comment = style.comment.encode()
    at = data.find(comment, 0, stop)
    while at >= 0:
        close = data.find(b"\n", at)
        said = data[at : close if close >= 0 else len(data)]
        if b"{" in said or b"}" in said or b'"' in said:
            return False
        at = data.find(comment, close + 1, stop) if close >= 0 else -1
    # Without quotes in comments, every second piece between quotes stands in some.
    return not any(b"{" in said or b"}" in said for said in data[:stop].split(b'"')[1::2])


def _quick(data: bytes, found: Sequence[int], style: Style) -> Iterator[Node]:
    """The blocks and statements at those of some places that are at the top; the rest is not read."""
    level = 1 if style.wrapper else 0
    opened, counted = 0, 0
    for at in found:
        opened += data.count(b"{", counted, at) - data.count(b"}", counted, at)
        counted = at
        if opened == level and _begins(data, at, style.comment.encode()):
            yield from _parse(data, style, at, _end(data, at))[:1]


def _found(data: bytes, heads: Sequence[Words], style: Style) -> list[int]:
    """Where these first words stand, at the top or not."""
    found: list[int] = []
    named: dict[str, list[bytes]] = {}
    for head in heads:
        needle = join(head).encode()
        if len(head) == 2:
            named.setdefault(head[0], []).append(re.escape(join(head[1:]).encode()))
            continue
        if len(head) == 1 and head[0] in style.blocks:
            found += [m.start() for m in re.finditer(re.escape(needle) + rb"\s*\{", data) if _opens(data, m.start())]
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
    """Whether a statement or a block begins at a place: what stands before it, comments aside, ends one.

    Where depth is counted by braces, comments hold neither quotes nor braces, and no quotes hold the comment sign.
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


def holding(
    data: bytes, text: bytes, heads: Sequence[Words], style: Style, behind: Container[bytes]
) -> Iterator[Found]:
    hits = list(lines_with(data, text, behind))
    if not hits:
        return
    if not _plain(data, style, [start for start, _ in hits]):
        yield from (found for found in scan(data, heads, style) if text in found[1])
        return
    for at in dict.fromkeys(_around(data, data.find(text, start, end), style) for start, end in hits):
        for node in _parse(data, style, at, _end(data, at))[:1] if at >= 0 else ():
            if any(node.words[: len(head)] == head for head in heads):
                yield from (found for found in _flat(data, (node,), ()) if text in found[1])


def _around(data: bytes, at: int, style: Style) -> int:
    """Where the top-level block begins that a place is in; -1 if it is in none."""
    depth = data.count(b"{", 0, at) - data.count(b"}", 0, at) - bool(style.wrapper)
    while depth > 0:
        opened, closed = data.rfind(b"{", 0, at), data.rfind(b"}", 0, at)
        depth += 1 if closed > opened else -1
        at = max(opened, closed)
    if depth < 0 or at < 0:
        return -1
    begin = 1 + max(data.rfind(sign, 0, at) for sign in (b"{", b"}", b";"))
    return begin + len(data[begin:at]) - len(data[begin:at].lstrip())


def _flat(data: bytes, nodes: Sequence[Node], path: Path) -> Iterator[Found]:
    counted = nodes[0].start if nodes else 0
    line = line_of(data, counted)
    stack: list[tuple[Node, Path]] = [(node, path) for node in reversed(nodes)]
    while stack:
        node, path = stack.pop()
        if node.inner >= 0 and node.children:
            stack += [(child, (*path, node.words)) for child in reversed(node.children)]
            continue
        line += data.count(b"\n", counted, node.start)
        counted = max(counted, node.start)
        yield path, join(node.words).encode(), line


def write_change(data: bytes, edits: Sequence[Edit], identity: Identity, style: Style) -> str:
    out: list[str] = []
    depth = 0
    here: Path = ()
    if style.change_wrapper:
        out.append(f"{style.change_wrapper} {{")
        depth = 1

    def pad(levels: int) -> str:
        return " " * (style.indent * (depth + levels))

    def close(to: int) -> None:
        out.extend(pad(level - 1) + "}" for level in range(len(here), to, -1))

    for edit in edits:
        same = 0
        while same < min(len(here), len(edit.path)) and here[same] == edit.path[same]:
            same += 1
        close(same)
        out += [pad(level) + join(edit.path[level]) + " {" for level in range(same, len(edit.path))]
        here = edit.path
        words = (style.remove, *edit.words) if edit.removes else edit.words
        out.append(pad(len(here)) + join(words) + ";")
    close(0)
    if style.change_wrapper:
        out.append("}")
    return "".join(line + "\n" for line in out)


def read_change(text: str, file: str, style: Style) -> list[Edit]:
    data = text.encode()
    try:
        nodes = _parse(data, style)
    except Unreadable as problem:
        raise refuse(file, 1, str(problem)) from None
    if not _balanced(data, style):
        raise refuse(file, text.count("\n") + 1, "the braces do not pair")
    if style.change_wrapper and nodes:
        if len(nodes) != 1 or nodes[0].words != (style.change_wrapper,):
            raise refuse(file, 1, f"expected one block '{style.change_wrapper} {{ … }}'")
        nodes = nodes[0].children
    edits = []
    for path, raw, line in _flat(data, nodes, ()):
        words = tuple(split(decode(raw)))
        removes = words[:1] == (style.remove,)
        if removes and len(words) == 1:
            raise refuse(file, line, f"'{style.remove}' without the statement to remove")
        edits.append(Edit(path, words[1:] if removes else words, removes, line))
    return edits


def apply(data: bytes, edits: Sequence[Edit], identity: Identity, style: Style) -> bytes:
    waiting = list(edits)
    while waiting:
        # Edits of one block at the top are carried out on that block alone; the rest of a text can be long.
        first = waiting[0]
        together = 1
        while together < len(waiting) and waiting[together].path[:1] == first.path[:1]:
            together += 1
        data = _apply_within(data, waiting[:together], identity, style)
        del waiting[:together]
    return data


def _apply_within(data: bytes, edits: Sequence[Edit], identity: Identity, style: Style) -> bytes:
    """Carries out edits of the same block at the top; where there is no such block yet, on the whole text."""
    for n, edit in enumerate(edits):
        blocks = [node for node in _top(data, style) if node.inner >= 0 and edit.path[:1] == (node.words,)]
        if blocks:
            return _apply_to_blocks(data, blocks, edits[n:], identity, style)
        data = _apply(data, edit, identity, style)
    return data


def _apply_to_blocks(
    data: bytes, blocks: Sequence[Node], edits: Sequence[Edit], identity: Identity, style: Style
) -> bytes:
    pieces = [data[n.start : n.stop] for n in blocks]
    alone = replace(style, wrapper=())
    for edit in edits:
        text = _apply(b"\n".join(pieces), edit, identity, alone)
        pieces = [text[n.start : n.stop] for n in _parse(text, alone)]
    for node, piece in zip(reversed(blocks), reversed(pieces), strict=True):
        data = data[: node.start] + piece + data[node.stop :]
    return data


def _apply(data: bytes, edit: Edit, identity: Identity, style: Style) -> bytes:
    nodes = _parse(data, style)
    holders: list[Node] = []
    if style.wrapper:
        holders = [n for n in nodes if n.words[:1] == style.wrapper[:1] and n.inner >= 0]
        nodes = tuple(child for holder in holders for child in holder.children) if holders else nodes
    for level, header in enumerate(edit.path):
        # A platform joins blocks of the same name: what an edit means may stand in any of them.
        blocks = [n for n in nodes if n.words == header and n.inner >= 0]
        if not blocks:
            if edit.removes:
                raise missing(edit, join)
            return _insert(data, holders, nodes, edit.path[level:], edit.words, style)
        holders = blocks
        nodes = tuple(child for block in blocks for child in block.children)
    if edit.removes:
        hits = [n for n in nodes if n.words[: len(edit.words)] == edit.words]
        if not hits:
            raise missing(edit, join)
        for node in reversed(hits):
            data = _cut(data, node)
        return data
    wanted = identity(edit.path, edit.words)
    hits = [n for n in nodes if n.inner < 0 and identity(edit.path, n.words) == wanted]
    if hits:
        node = hits[-1]
        ended = data[node.start : node.stop].endswith(b";")
        return data[: node.start] + join(edit.words).encode() + (b";" if ended else b"; ") + data[node.stop :]
    return _insert(data, holders, nodes, (), edit.words, style)


def _cut(data: bytes, node: Node) -> bytes:
    """Takes a member away, with its line if it has one to itself."""
    before, after = data.rfind(b"\n", 0, node.start) + 1, data.find(b"\n", node.stop)
    if after >= 0 and not data[before : node.start].strip() and not data[node.stop : after].strip():
        return data[:before] + data[after + 1 :]
    return data[: node.start] + data[node.stop :].removeprefix(b" ")


def _insert(
    data: bytes, holders: Sequence[Node], nodes: Sequence[Node], path: Path, words: Words, style: Style
) -> bytes:
    """Adds a statement, and the blocks that it still lacks, behind the last member of the last block."""
    holder = holders[-1] if holders else None
    nodes = holder.children if holder else nodes
    text = join(words) + ";"
    for header in reversed(path):
        text = f"{join(header)} {{ {text} }}"
    if nodes:
        last = nodes[-1]
        begin = data.rfind(b"\n", 0, last.start) + 1
        lead = data[begin : last.start]
        joint = b" " if lead.strip() else line_end(data) + lead
        ended = data[last.start : last.stop].endswith((b";", b"}"))
        return data[: last.stop] + (b"" if ended else b";") + joint + text.encode() + data[last.stop :]
    if holder is not None:
        return data[: holder.inner] + b" " + text.encode() + b" " + data[holder.inner :].lstrip(b" ")
    return data + (b"" if data.endswith(b"\n") or not data else b"\n") + text.encode() + b"\n"
