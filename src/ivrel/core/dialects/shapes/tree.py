"""The shape `tree`: XML or JSON, by what the text begins with; containers, list entries and leaves.

    <sinks><sink id="s1" inet="198.51.100.21"/></sinks>
    {"sinks": {"sink": [{"id": "s1", "inet": "198.51.100.21"}]}}

Both read as a statement `sink s1` in `sinks`, and `inet = 198.51.100.21` in `sinks / sink s1`. A dialect says
which names are lists and by what their entries are told apart. A change is carried out as a whole or not at
all: an edit-config payload (RFC 6241 section 7.2) for XML and a YANG Patch (RFC 8072) for JSON, or the same tree
with the removal word as an attribute. XML is read without entities and without a look at the network.
"""

from __future__ import annotations

import json
from collections.abc import Container, Iterator, Sequence
from typing import Any

from ivrel.core.dialects.shapes.base import (
    Edit,
    Found,
    Identity,
    Path,
    Refused,
    Style,
    Words,
    missing,
    quote,
    refuse,
    split_words,
)
from ivrel.core.dialects.shapes.base import (
    fine as fine,
)
from ivrel.core.dialects.shapes.documents import Document, JsonDocument, XmlDocument, read_document
from ivrel.core.mistakes import Unreadable

ATOMIC = True
DERIVED = False
ASKS = ""


def split(line: str) -> list[str]:
    words = split_words(line)
    if words[1:2] == ["="]:
        return [words[0], "=", line.partition(" = ")[2].strip()]
    return words


def join(words: Sequence[str]) -> str:
    """A leaf as `name = value`; of a list entry, the name and the keys, quoted where they hold blanks."""
    if tuple(words[1:2]) == ("=",):
        return f"{words[0]} = {' '.join(words[2:])}"
    return " ".join(quote(word) for word in words)


def scan(data: bytes, heads: Sequence[Words], style: Style) -> Iterator[Found]:
    return _walk(read_document(data, style, frozenset(head[0] for head in heads)), heads, style)


def holding(
    data: bytes, text: bytes, heads: Sequence[Words], style: Style, behind: Container[bytes]
) -> Iterator[Found]:
    if text in data:
        yield from (found for found in scan(data, heads, style) if text in found[1])


def everything(data: bytes, style: Style) -> Iterator[Found]:
    return _walk(read_document(data, style), None, style)


def _walk(document: Document, heads: Sequence[Words] | None, style: Style) -> Iterator[Found]:
    """All statements, or those of the parts at the top that begin with `heads`."""
    stack: list[tuple[Path, Any]] = [((), document.root)]
    while stack:
        path, node = stack.pop()
        below: list[tuple[Path, Any]] = []
        for member in document.members(node):
            words = member.words or (member.name,)
            if heads is not None and not path and not any(words[: len(head)] == head for head in heads):
                continue
            if member.value is not None:
                yield path, join((member.name, "=", member.value)).encode(), member.line
                continue
            if member.words != (style.mirror,):
                yield path, join(member.words).encode(), member.line
            below.append(((*path, member.words), member.node))
        stack += reversed(below)


def apply(data: bytes, edits: Sequence[Edit], identity: Identity, style: Style) -> bytes:
    document = read_document(data, style)
    document.begin()
    for edit in edits:
        _apply(document, edit, identity)
    return document.dump()


def _apply(document: Document, edit: Edit, identity: Identity) -> None:
    nodes: list[Any] = [document.root]
    for level, words in enumerate(edit.path):
        # Containers of the same name are one: what an edit means may stand in any of them.
        found = [m.node for node in nodes for m in document.members(node) if m.value is None and m.words == words]
        if not found:
            if edit.removes:
                raise missing(edit, join)
            found = [_added(document, nodes[-1], edit.path[:level], words, identity)]
        nodes = found
    members = [(node, m) for node in nodes for m in document.members(node)]
    if edit.removes:
        hits = [
            (node, m)
            for node, m in members
            if (m.words if m.value is None else (m.name,))[: len(edit.words)] == edit.words
        ]
        if not hits:
            raise missing(edit, join)
        for node, member in reversed(hits):
            document.drop(node, member)
    elif edit.words[1:2] == ("=",):
        old = [(node, m) for node, m in members if m.value is not None and m.name == edit.words[0]]
        node, member = old[-1] if old else (nodes[-1], None)
        document.set(node, edit.words[0], " ".join(edit.words[2:]), member)
    elif not any(m.value is None and m.words == edit.words for _, m in members):
        _added(document, nodes[-1], edit.path, edit.words, identity)


def _added(document: Document, node: Any, path: Path, words: Words, identity: Identity) -> Any:
    """Adds a container or an entry; of a choice, one case takes the place of the other (RFC 7950 section 7.9)."""
    wanted = identity(path, words)
    for member in document.members(node) if wanted != (path, words) else ():
        if member.value is None and member.words != words and identity(path, member.words) == wanted:
            document.drop(node, member)
    return document.add(node, words)


def write_change(data: bytes, edits: Sequence[Edit], identity: Identity, style: Style) -> str:
    return read_document(data, style).write_change(edits)


def read_change(text: str, file: str, style: Style) -> list[Edit]:
    kind = JsonDocument if text.lstrip()[:1] in ("{", "[") else XmlDocument
    try:
        return kind.read_change(text.encode(), style)
    except (Unreadable, Refused) as problem:
        raise refuse(file, 1, str(problem)) from None
    except json.JSONDecodeError as problem:
        raise refuse(file, problem.lineno, f"not JSON: {problem.msg}") from None
    except UnicodeError:
        raise refuse(file, 1, "holds half of a surrogate pair, which is no text") from None
    except (KeyError, TypeError, ValueError, AttributeError, RecursionError):
        raise refuse(file, 1, "holds no change") from None
