"""XML as lxml has it: parsed without entities, and small pieces of trees."""

from __future__ import annotations

import re
from typing import Any

from lxml import etree

from ivrel.core.shapes.documents.base import MemberIndex
from ivrel.core.text.words import Path
from ivrel.core.vocabulary.errors import Unreadable


class Holder:
    """What surrounds a document whose root is itself a part of the configuration."""

    def __init__(self, only: Any) -> None:
        self.only = only


def parse_xml(data: bytes) -> Any:
    # Entities can stand for other files, or for a text a thousand times as long.
    if b"<!DOCTYPE" in data[:4096] or b"<!ENTITY" in data:
        raise Unreadable("it has a document type; entities are not expanded")
    parser = etree.XMLParser(
        resolve_entities=False, no_network=True, load_dtd=False, huge_tree=False, strip_cdata=False
    )
    try:
        return etree.fromstring(data, parser)
    except (etree.XMLSyntaxError, ValueError) as problem:
        # What the library says holds words of the text, which may be secret.
        line = getattr(problem, "lineno", None)
        if "depth" in str(problem):
            raise Unreadable(f"line {line}: nested too deep; no configuration is") from None
        raise Unreadable(
            f"not XML{f': line {line}' if line else ''}: tags, names or signs that do not fit"
        ) from None


def elements(node: Any) -> list[Any]:
    """Return the elements in a node: no comments, no processing instructions."""
    return list(node.iterchildren("*")) if len(node) else []


def text_of(node: Any) -> str:
    """Return the text of a leaf, also of one that a comment is in."""
    if not len(node):
        return (node.text or "").strip()
    return "".join([node.text or "", *(child.tail or "" for child in node)]).strip()


def place(node: Any, child: Any) -> None:
    """Add a child behind the others, indented as they are."""
    if len(node):
        last = node[-1]
        child.tail = last.tail
        last.tail = last.getprevious().tail if last.getprevious() is not None else node.text
    node.append(child)


def value_at(index: MemberIndex, root: Any, path: Path) -> str:
    """Return the value of a leaf as it is in a document; empty if there is none."""
    node = root
    for words in path:
        found = index.find(node, words)
        if found is None:
            return ""
        if found.value is not None:
            return text_of(found.node) if not isinstance(found.node, str) else found.value
        node = found.node
    return ""


_KEY = re.compile(r"\[(?:[\w.-]+:)?([\w.-]+)='([^']*)'\]")


def key_of(text: str) -> dict[str, str]:
    """Return the names and values in a key of `yang:insert` (RFC 7950 section 7.8.6).

    >>> key_of("[e:facility='auth'][e:severity='error']")
    {'facility': 'auth', 'severity': 'error'}
    """
    return dict(_KEY.findall(text))
