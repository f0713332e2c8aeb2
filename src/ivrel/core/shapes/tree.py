"""The shape `tree`: XML or JSON, by what the text begins with; containers, list entries and leaves.

    <sinks><sink id="s1" inet="198.51.100.21"/></sinks>
    {"sinks": {"sink": [{"id": "s1", "inet": "198.51.100.21"}]}}

Both read as a statement `sink s1` in `sinks`, and `inet = 198.51.100.21` in `sinks / sink s1`. A
dialect says which names are lists and by what their entries are distinguished. A change is carried
out as a whole or not at all: an edit-config payload (RFC 6241 section 7.2) for XML and a YANG Patch
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
        document = self._document(text)
        members = self._members(text)
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
        editing = _Editing(document, self, identity)
        for edit in edits:
            editing.carry_out(edit)
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
    # The mirror of an entry is no container of its own: what is in it is the entry's.
    elif member.words != (shape.mirror,):
        yield path, _join(member.words).encode(), member.line


def _below(document: Document, member: Member, shape: Tree) -> list[Found]:
    """Return the statements that are in a container at the top."""
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


class _Node:
    """A node of a document on its way through edits, with its members."""

    def __init__(self, node: Any, members: list[Member]) -> None:
        self.node = node
        self.members: dict[int, Member] = {}  # by their number, in the order of the document
        self._containers: dict[Words, list[int]] = {}
        self._next = 0
        for member in members:
            self.add(member)

    def add(self, member: Member) -> None:
        """Take a member that is new."""
        self.members[self._next] = member
        if member.value is None:
            self._containers.setdefault(member.words, []).append(self._next)
        self._next += 1

    def drop(self, number: int) -> Member:
        """Forget a member, and return it."""
        member = self.members.pop(number)
        if member.value is None:
            self._containers[member.words].remove(number)
        return member

    def containers(self, words: Words) -> Iterator[Any]:
        """Yield the containers with these words."""
        for number in self._containers.get(words, ()):
            yield self.members[number].node


class _Editing:
    """Carries out edits on a document; the members of a node are found once, however many edits
    are about them.
    """

    def __init__(self, document: Document, shape: Tree, identity: Identity) -> None:
        self._document = document
        self._identity = identity
        self._nodes: dict[int, _Node] = {}  # by the identity of what they hold
        self._keys = {key for keys in shape.lists.values() for key in keys}

    def _known(self, node: Any) -> _Node:
        known = self._nodes.get(id(node))
        if known is None:
            known = self._nodes[id(node)] = _Node(node, self._document.members(node))
        return known

    def carry_out(self, edit: Edit) -> None:
        """Carry out an edit; Refused if there is nothing to remove."""
        nodes = [self._known(self._document.root)]
        for level, words in enumerate(edit.path):
            # Containers of the same name are one: an edit may mean a member of any of them.
            found = [inner for node in nodes for inner in node.containers(words)]
            if not found:
                if edit.removes:
                    raise missing(edit, _join)
                found = [self._added(nodes[-1], edit.path[:level], words)]
            nodes = [self._known(inner) for inner in found]
        if edit.removes:
            self._remove(nodes, edit)
        elif edit.words[1:2] == ("=",):
            self._set(nodes, edit)
        elif not any(True for node in nodes for _ in node.containers(edit.words)):
            self._added(nodes[-1], edit.path, edit.words)
            if edit.ahead_of:
                self._document.place_before(nodes[-1].node, edit.words, edit.ahead_of)

    def _remove(self, nodes: Sequence[_Node], edit: Edit) -> None:
        length = len(edit.words)
        hits = [
            (node, number)
            for node in nodes
            for number, m in node.members.items()
            if (m.words if m.value is None else (m.name,))[:length] == edit.words
        ]
        if not hits:
            raise missing(edit, _join)
        # From the end, so that the numbers of entries further up stay true.
        for node, number in reversed(hits):
            self._document.drop(node.node, node.drop(number))

    def _set(self, nodes: Sequence[_Node], edit: Edit) -> None:
        name = edit.words[0]
        old = [
            (node, member)
            for node in nodes
            for member in node.members.values()
            if member.value is not None and member.name == name
        ]
        # Of several leaves of a name the last holds.
        node, member = old[-1] if old else (nodes[-1], None)
        self._document.set(node.node, name, " ".join(edit.words[2:]), member)
        if name in self._keys:
            self._nodes.clear()  # entries may be called otherwise now
        elif member is None:
            del self._nodes[id(node.node)]  # its members are found again

    def _added(self, node: _Node, path: Path, words: Words) -> Any:
        """Add a container or an entry.

        Of a choice, one case takes the place of the other (RFC 7950 section 7.9).
        """
        wanted = self._identity(path, words)
        others = list(node.members.items()) if wanted != (path, words) else []
        for number, member in others:
            if (
                member.value is None
                and member.words != words
                and self._identity(path, member.words) == wanted
            ):
                self._document.drop(node.node, node.drop(number))
        child = self._document.add(node.node, words)
        if any(m.value is not None and m.name == words[0] for m in node.members.values()):
            del self._nodes[id(node.node)]  # it may have taken the place of that leaf
        else:
            node.add(Member(words[0], words, None, child, 0))
        return child
