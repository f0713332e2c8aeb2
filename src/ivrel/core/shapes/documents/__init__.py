"""The two kinds of documents that a tree can be in, XML and JSON, behind one face."""

from __future__ import annotations

import re
from collections.abc import Container

from ivrel.core.shapes.documents.base import Document, Member
from ivrel.core.shapes.documents.json import JsonDocument
from ivrel.core.shapes.documents.options import TreeOptions
from ivrel.core.shapes.documents.xml import XmlDocument
from ivrel.core.vocabulary.errors import Unreadable

__all__ = ["Document", "JsonDocument", "Member", "XmlDocument", "read_document"]


def _bare(data: bytes) -> bytes:
    """Return a document without what a session puts around it: the framings of RFC 6242, a
    byte-order mark.
    """
    data = data.removeprefix(b"\xef\xbb\xbf")
    if re.match(rb"\s*\n#[1-9][0-9]{0,9}\n", data):
        chunks = []
        at = 0
        while found := re.compile(rb"\n#([1-9][0-9]{0,9})\n").search(data, at):
            at = found.end() + int(found[1])
            chunks.append(data[found.end() : at])
        data = b"".join(chunks)
    end = data.rfind(b"]]>]]>")
    return data[:end] if end >= 0 and not data[end + 6 :].strip() else data


def read_document(
    data: bytes, options: TreeOptions, wanted: Container[str] | None = None
) -> Document:
    """Return the document that a text holds; Unreadable if it is neither XML nor JSON.

    `wanted`: the names at its top that matter; what JSON holds under others is passed over.
    """
    data = _bare(data)
    first = data.lstrip()[:1]
    if first == b"<":
        return XmlDocument(data, options)
    if first in (b"{", b"["):
        return JsonDocument(data, options, wanted)
    raise Unreadable("neither XML nor JSON: it begins with neither '<' nor '{'")
