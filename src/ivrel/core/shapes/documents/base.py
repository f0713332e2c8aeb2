"""What both kinds of documents have in common."""

from __future__ import annotations

from collections.abc import Container, Sequence
from difflib import SequenceMatcher
from typing import Any, Protocol

from msgspec import Struct

from ivrel.core.shapes.documents.options import TreeOptions
from ivrel.core.shapes.shape import Edit
from ivrel.core.text.words import Words

DEEPEST = 200


class Member(Struct, frozen=True):
    """A member of a node: a leaf has a value; a container or a list entry has words (name and keys)
    and a node.
    """

    name: str
    words: Words
    value: str | None
    node: Any
    line: int


class Document(Protocol):
    """A tree that can be walked, changed and written."""

    root: Any

    def begin(self) -> None:
        """Called before the first change, so that what does not change can be kept as it stands."""

    def members(self, node: Any) -> list[Member]: ...

    def add(self, node: Any, words: Words) -> Any: ...

    def set(self, node: Any, name: str, value: str, old: Member | None) -> None: ...

    def drop(self, node: Any, member: Member) -> None: ...

    def dump(self) -> bytes: ...

    def write_change(self, edits: Sequence[Edit]) -> str: ...


def as_it_stood(before: bytes, written: bytes, after: bytes) -> bytes:
    """A document after changes, with the lines that these left alone as they stood before.

    `written`: the document before the changes, in the form that `after` has.
    """
    old, form = before.split(b"\n"), written.split(b"\n")
    if len(old) != len(form):
        return after
    new = after.split(b"\n")
    out: list[bytes] = []
    for kind, a, b, c, d in SequenceMatcher(None, form, new, autojunk=False).get_opcodes():
        out += old[a:b] if kind == "equal" else new[c:d]
    return b"\n".join(out)


def local_name(options: TreeOptions, module: str, name: str, known: Container[str]) -> str:
    """The name of a node as statements have it; what is of a module that is not known keeps its
    prefix.
    """
    if module and module not in known:
        return f"{module}:{name}"
    return options.aliases.get(name, name)


def without_module(options: TreeOptions, name: str, value: str) -> str:
    """A value as statements have it: an identity without the name of its module (RFC 7951 section
    6.8).
    """
    return value.rpartition(":")[2] if name in options.identities else value
