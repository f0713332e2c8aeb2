"""Edits of a text in braces: a member that goes, one that is added."""

from __future__ import annotations

from collections.abc import Sequence

from ivrel.core.shapes.nodes import Node, join
from ivrel.core.text.lines import line_end
from ivrel.core.text.words import Path, Words


def cut(data: bytes, node: Node) -> bytes:
    """Take a member away, with its line if it has one to itself."""
    before, after = data.rfind(b"\n", 0, node.start) + 1, data.find(b"\n", node.stop)
    if after >= 0 and not data[before : node.start].strip() and not data[node.stop : after].strip():
        return data[:before] + data[after + 1 :]
    return data[: node.start] + data[node.stop :].removeprefix(b" ")


def insert(
    data: bytes,
    holders: Sequence[Node],
    nodes: Sequence[Node],
    path: Path,
    words: Words,
) -> bytes:
    """Add a statement, and the blocks that it still lacks, behind the last member of the last
    block.
    """
    holder = holders[-1] if holders else None
    nodes = holder.children if holder else nodes
    text = join(words) + ";"
    for header in reversed(path):
        text = f"{join(header)} {{ {text} }}"
    if nodes:
        last = nodes[-1]
        begin = data.rfind(b"\n", 0, last.start) + 1
        lead = data[begin : last.start]
        # On a line of its own, moved in as the last member is, if that has a line of its own.
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
