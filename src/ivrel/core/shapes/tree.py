"""The shape `tree`: XML or JSON, by what the text begins with; containers, list entries and leaves.

    <sinks><sink id="s1" inet="198.51.100.21"/></sinks>
    {"sinks": {"sink": [{"id": "s1", "inet": "198.51.100.21"}]}}

Both read as a statement `sink s1` in `sinks`, and `inet = 198.51.100.21` in `sinks / sink s1`. A
dialect says which names are lists and by what their entries are told apart. A change is carried out
as a whole or not at all: an edit-config payload (RFC 6241 section 7.2) for XML and a YANG Patch
(RFC 8072) for JSON, or the same tree with the removal word as an attribute. XML is read without
entities and without a look at the network.
"""

from __future__ import annotations

import json
from collections.abc import Iterator, Sequence
from functools import partial
from typing import Any

from ivrel.core.shapes.documents import Document, JsonDocument, Member, XmlDocument, read_document
from ivrel.core.shapes.documents.options import TreeOptions
from ivrel.core.shapes.shape import Edit, Found, Identity, missing, refuse
from ivrel.core.text.text import Text
from ivrel.core.text.words import Path, Words, quote, split_words
from ivrel.core.vocabulary.errors import Refused, Unreadable


class Tree(TreeOptions, frozen=True):
    """The shape `tree`; what a dialect says of it is in `TreeOptions`."""

    def split(self, line: str) -> list[str]:
        return _split(line)

    def join(self, words: Sequence[str]) -> str:
        return _join(words)

    @property
    def is_of_model(self) -> bool:
        return self.form == "standard"

    @property
    def ordered_names(self) -> tuple[str, ...]:
        return self.ordered

    def scan(self, text: Text, heads: Sequence[Words]) -> Iterator[Found]:
        wanted = frozenset(head[0] for head in heads)
        # What JSON holds under other names is passed over.
        document = text.once(wanted, lambda: read_document(text.data, self, wanted))
        return _walk(document, heads, self)

    def everything(self, text: Text) -> Iterator[Found]:
        return _walk(self._document(text), None, self)

    def find_tops(self, text: Text) -> Sequence[Words]:
        return [m.words or (m.name,) for m in self._members(text)]

    def statements_of(self, text: Text, numbers: Sequence[int]) -> list[Found]:
        document, members = self._document(text), self._members(text)
        out = [one for n in numbers for one in _own((), members[n], self)]
        for n in numbers:
            if members[n].value is None:
                out += text.once(("inside", n), partial(_below, document, members[n], self))
        return out

    def content(self, text: Text, number: int) -> object:
        m = self._members(text)[number]
        said = self._document(text).as_text(m.node) if m.value is None else m.value
        return m.name, m.words, m.value is None, said

    def _members(self, text: Text) -> list[Member]:
        document = self._document(text)
        return text.once("members", lambda: document.members(document.root))

    def _document(self, text: Text) -> Document:
        """Return the document of a text, which must not be changed."""
        return text.once("document", lambda: read_document(text.data, self))

    def apply(self, text: Text, edits: Sequence[Edit], identity: Identity) -> bytes:
        before = self._document(text)
        written = text.once("written", before.written)
        document = before.copy()
        for edit in edits:
            _apply(document, edit, identity)
        return document.dump(written)

    def write_change(self, text: Text, edits: Sequence[Edit], identity: Identity) -> str:
        return self._document(text).write_change(edits)

    def read_change(self, text: str, file: str) -> list[Edit]:
        kind = JsonDocument if text.lstrip()[:1] in ("{", "[") else XmlDocument
        try:
            return kind.read_change(text.encode(), self)
        except (Unreadable, Refused) as problem:
            raise refuse(file, 1, str(problem)) from None
        except json.JSONDecodeError as problem:
            raise refuse(file, problem.lineno, f"not JSON: {problem.msg}") from None
        except UnicodeError:
            raise refuse(file, 1, "holds half of a surrogate pair, which is no text") from None
        except (KeyError, TypeError, ValueError, AttributeError, RecursionError):
            raise refuse(file, 1, "holds no change") from None


def _split(line: str) -> list[str]:
    words = split_words(line)
    if words[1:2] == ["="]:
        return [words[0], "=", line.partition(" = ")[2].strip()]
    return words


def _join(words: Sequence[str]) -> str:
    """Return a leaf as `name = value`.

    Of a list entry, the name and the keys, quoted where they hold blanks.
    """
    if tuple(words[1:2]) == ("=",):
        return f"{words[0]} = {' '.join(words[2:])}"
    return " ".join(quote(word) for word in words)


def _walk(document: Document, heads: Sequence[Words] | None, shape: Tree) -> Iterator[Found]:
    """Yield all statements, or those of the parts at the top that begin with `heads`."""
    members = document.members(document.root)
    if heads is not None:
        said = ((m, m.words or (m.name,)) for m in members)
        members = [m for m, words in said if any(words[: len(head)] == head for head in heads)]
    for member in members:
        yield from _own((), member, shape)
    for member in members:
        if member.value is None:
            yield from _below(document, member, shape)


def _own(path: Path, member: Member, shape: Tree) -> Iterator[Found]:
    """Yield the statement that a member is: a leaf, or the header of a container."""
    if member.value is not None:
        yield path, _join((member.name, "=", member.value)).encode(), member.line
    # The mirror of an entry is no container of its own: what stands in it is the entry's.
    elif member.words != (shape.mirror,):
        yield path, _join(member.words).encode(), member.line


def _below(document: Document, member: Member, shape: Tree) -> list[Found]:
    """Return the statements that stand in a container at the top."""
    out: list[Found] = []
    stack: list[tuple[Path, Any]] = [((member.words,), member.node)]
    while stack:
        path, node = stack.pop()
        below: list[tuple[Path, Any]] = []
        for inner in document.members(node):
            out += _own(path, inner, shape)
            if inner.value is None:
                below.append(((*path, inner.words), inner.node))
        stack += reversed(below)
    return out


def _apply(document: Document, edit: Edit, identity: Identity) -> None:
    nodes: list[Any] = [document.root]
    for level, words in enumerate(edit.path):
        # Containers of the same name are one: what an edit means may stand in any of them.
        found = [
            m.node
            for node in nodes
            for m in document.members(node)
            if m.value is None and m.words == words
        ]
        if not found:
            if edit.removes:
                raise missing(edit, _join)
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
            raise missing(edit, _join)
        # From the end, so that the numbers of entries further up stay true.
        for node, member in reversed(hits):
            document.drop(node, member)
    elif edit.words[1:2] == ("=",):
        old = [(node, m) for node, m in members if m.value is not None and m.name == edit.words[0]]
        # Of several leaves of a name the last holds.
        node, member = old[-1] if old else (nodes[-1], None)
        document.set(node, edit.words[0], " ".join(edit.words[2:]), member)
    elif not any(m.value is None and m.words == edit.words for _, m in members):
        _added(document, nodes[-1], edit.path, edit.words, identity)
        if edit.ahead_of:
            document.place_before(nodes[-1], edit.words, edit.ahead_of)


def _added(document: Document, node: Any, path: Path, words: Words, identity: Identity) -> Any:
    """Add a container or an entry.

    Of a choice, one case takes the place of the other (RFC 7950 section 7.9).
    """
    wanted = identity(path, words)
    for member in document.members(node) if wanted != (path, words) else ():
        if (
            member.value is None
            and member.words != words
            and identity(path, member.words) == wanted
        ):
            document.drop(node, member)
    return document.add(node, words)
