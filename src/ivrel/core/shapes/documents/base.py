"""What both kinds of documents have in common."""

from __future__ import annotations

from collections.abc import Container, Sequence
from typing import Any, Protocol

from msgspec import Struct

from ivrel.core.shapes.documents.options import TreeOptions
from ivrel.core.shapes.shape import Edit
from ivrel.core.text.alike import runs_alike
from ivrel.core.text.words import Words

DEEPEST = 200


class Member(Struct, frozen=True):
    """A member of a node: a leaf has a value.

    A container or a list entry has words (name and keys) and a node.
    """

    name: str
    words: Words
    value: str | None
    node: Any
    line: int


class Walked(Protocol):
    """A tree that can be walked."""

    def members(self, node: Any) -> list[Member]:
        """Return the members of a node, in the order of the document."""


class Document(Walked, Protocol):
    """A tree that can be walked, changed and written."""

    root: Any

    def copy(self) -> Document:
        """Return the same document again, to be changed."""

    def as_text(self, node: Any) -> object:
        """Return all that a node holds, to be compared."""

    def add(self, node: Any, words: Words) -> Any:
        """Add a container or a list entry to a node, and return it."""

    def set(self, node: Any, name: str, value: str, old: Member | None) -> None:
        """Set a leaf of a node; `old`: the leaf that it replaces."""

    def drop(self, node: Any, member: Member) -> None:
        """Take a member of a node away."""

    def place_before(self, node: Any, words: Words, other: Words) -> None:
        """Move an entry of a list in a node in front of another one."""

    def written(self) -> bytes:
        """Return the document as text, laid out again."""

    def dump(self, before: bytes) -> bytes:
        """Return the document as text; what has not changed is written as it was.

        `before`: what `written` gave before the first change.
        """

    def write_change(self, edits: Sequence[Edit]) -> str:
        """Return the text of a change that carries out edits."""


class MemberIndex:
    """Finds members of a document's nodes by their words, or by the name of a leaf.

    The members of a node are gone through once. What is added later has to be told.
    """

    def __init__(self, document: Walked) -> None:
        self._document = document
        # By the identity of a node, which is kept so that no other one gets it.
        self._found: dict[int, tuple[Any, dict[Words, Member]]] = {}

    def find(self, node: Any, words: Words) -> Member | None:
        """Return the first member of a node with these words."""
        return self._known(node).get(words)

    def add(self, node: Any, member: Member) -> None:
        """Take a member that is new."""
        self._known(node).setdefault(member.words or (member.name,), member)

    def _known(self, node: Any) -> dict[Words, Member]:
        known = self._found.get(id(node))
        if known is None:
            by_words: dict[Words, Member] = {}
            for member in self._document.members(node):
                by_words.setdefault(member.words or (member.name,), member)
            known = self._found[id(node)] = node, by_words
        return known[1]


def as_it_stood(before: bytes, written: bytes, after: bytes) -> bytes:
    """Return a document after changes, with the lines that these left alone as they stood before.

    `written`: the document before the changes, in the form that `after` has.
    """
    old = before.split(b"\n")
    form = written.split(b"\n")
    if len(old) != len(form):
        return after
    new = after.split(b"\n")
    for at, there, length in list(runs_alike(form, new)):
        new[there : there + length] = old[at : at + length]
    return b"\n".join(new)


def local_name(options: TreeOptions, module: str, name: str, known: Container[str]) -> str:
    """Return the name of a node as statements have it.

    What is of a module that is not known keeps its prefix.
    """
    if module and module not in known:
        return f"{module}:{name}"
    return options.aliases.get(name, name)


def without_module(options: TreeOptions, name: str, value: str) -> str:
    """Return a value as statements have it: an identity without the name of its module (RFC 7951
    section 6.8).
    """
    return value.rpartition(":")[2] if name in options.identities else value
