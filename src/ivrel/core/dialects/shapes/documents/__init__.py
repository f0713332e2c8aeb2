"""The two kinds of documents that a tree can stand in, XML and JSON, behind one face."""

from __future__ import annotations

from collections.abc import Container

from ivrel.core.dialects.shapes.base import Style
from ivrel.core.dialects.shapes.documents.base import Document, Member
from ivrel.core.dialects.shapes.documents.json import JsonDocument
from ivrel.core.dialects.shapes.documents.xml import XmlDocument
from ivrel.core.mistakes import Unreadable

__all__ = ["Document", "JsonDocument", "Member", "XmlDocument", "read_document"]


def read_document(data: bytes, style: Style, wanted: Container[str] | None = None) -> Document:
    """The document that a text holds; Unreadable if it is neither XML nor JSON.

    `wanted`: the names at its top that matter; what JSON holds under others is passed over.
    """
    first = data.lstrip()[:1]
    if first == b"<":
        return XmlDocument(data, style)
    if first in (b"{", b"["):
        return JsonDocument(data, style, wanted)
    raise Unreadable("neither XML nor JSON: it begins with neither '<' nor '{'")
