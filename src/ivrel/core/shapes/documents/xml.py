"""XML: without entities, without a look at the network; changed by an edit-config (RFC 6241)."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Any

from lxml import etree

from ivrel.core.shapes.documents.base import MemberIndex, as_it_stood
from ivrel.core.shapes.documents.options import TreeOptions
from ivrel.core.shapes.documents.xml_change import YANG, XmlChange
from ivrel.core.shapes.documents.xml_text import Holder, elements, parse_xml, value_at
from ivrel.core.shapes.documents.xml_tree import NETCONF, XmlTree
from ivrel.core.shapes.shape import Edit
from ivrel.core.vocabulary.errors import Unreadable


class XmlDocument(XmlTree):
    """XML, as lxml has it: no entities, no document type, nothing from elsewhere."""

    def __init__(self, data: bytes, options: TreeOptions) -> None:
        super().__init__(parse_xml(data), options, data)
        self.crlf = b"\r\n" in data[:65536]
        root: Any = self.top
        # <rpc-reply><data>…: what stands around the configuration is passed through.
        while True:
            inner = self._without_warnings(elements(root))
            if (
                self._local(root) in options.wrapper
                and len(inner) == 1
                and self._local(inner[0]) in options.wrapper
            ):
                root = inner[0]
            else:
                break
        self.root = root if self._local(root) in options.wrapper else Holder(root)

    def _without_warnings(self, inner: Sequence[Any]) -> list[Any]:
        """Return elements without the warnings of a reply (RFC 6241 section 4.3); Unreadable if it
        reports an error.
        """
        out = []
        for one in inner:
            if etree.QName(one).namespace != NETCONF or self._local(one) != "rpc-error":
                out.append(one)
            elif one.findtext(f"{{{NETCONF}}}error-severity", "").strip() != "warning":
                raise Unreadable("it is a reply that tells of an error, and no configuration")
        return out

    def copy(self) -> XmlDocument:
        return XmlDocument(self.data, self.options)

    def dump(self, before: bytes) -> bytes:
        return as_it_stood(self.data, before, self.written())

    def written(self) -> bytes:
        data: bytes = etree.tostring(self.top.getroottree(), encoding="UTF-8")
        data += b"\n" if self.data.endswith(b"\n") else b""
        declaration = re.match(rb"\s*<\?xml[^>]*\?>\s*", self.data)
        data = (declaration[0].replace(b"\r\n", b"\n") if declaration else b"") + data
        return data.replace(b"\n", b"\r\n") if self.crlf else data

    def write_change(self, edits: Sequence[Edit]) -> str:
        options = self.options
        if options.form == "standard":
            nsmap = {"nc": NETCONF}
            placed = next((edit.path[0][0] for edit in edits if edit.ahead_of), "")
            if placed:
                nsmap |= {"yang": YANG, "e": options.namespaces[placed]}
            root = etree.Element(f"{{{NETCONF}}}config", nsmap=nsmap)
        else:
            root = etree.Element(options.inside or options.wrapper[0])
        change = XmlChange(root, options, self.data)
        index = MemberIndex(self)
        index_of_change = MemberIndex(change)
        for edit in edits:
            old = value_at(index, self.root, (*edit.path, edit.words)) if edit.removes else ""
            change.put(edit, old, index_of_change)
        etree.indent(root, "  ")
        return str(etree.tostring(root, encoding="unicode")) + "\n"

    @staticmethod
    def read_change(data: bytes, options: TreeOptions) -> list[Edit]:
        top = parse_xml(data)
        change = XmlChange(top, options, b"")
        expected = "config" if options.form == "standard" else options.inside or options.wrapper[0]
        if change._local(top) != expected:
            raise Unreadable(f"expected a <{expected}>, not <{change._local(top)}>")
        out: list[Edit] = []
        change.collect(top, (), out)
        return out
