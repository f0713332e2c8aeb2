"""XML: without entities, without a look at the network; changed by an edit-config payload (RFC 6241)."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Any

from lxml import etree

from ivrel.core.dialects.shapes.base import Edit, Path, Refused, Style, Words
from ivrel.core.dialects.shapes.documents.base import Member, as_it_stood, bare
from ivrel.core.mistakes import Unreadable

NETCONF = "urn:ietf:params:xml:ns:netconf:base:1.0"  # RFC 6241


class XmlDocument:
    """XML, as lxml has it: no entities, no document type, nothing from elsewhere."""

    def __init__(self, data: bytes, style: Style) -> None:
        self.style, self.crlf, self.data = style, b"\r\n" in data[:65536], data
        self.top = _parse_xml(data)
        self.written = b""
        root: Any = self.top
        self.root: Any
        # <rpc-reply><data>…: what stands around the configuration is passed through.
        while True:
            inner = [c for c in root if isinstance(c.tag, str)]
            if _local(root) in style.wrapper and len(inner) == 1 and _local(inner[0]) in style.wrapper:
                root = inner[0]
            else:
                break
        self.root = root if _local(root) in style.wrapper else _Holder(root)

    def members(self, node: Any) -> list[Member]:
        if isinstance(node, _Holder):
            return [Member(_local(node.only), (_local(node.only),), None, node.only, node.only.sourceline or 1)]
        keys = self.style.lists.get(_local(node), ())
        if _local(node) == self.style.mirror and node.getparent() is not None:
            keys = self.style.lists.get(_local(node.getparent()), ())
        out = []
        for name, value in node.attrib.items():
            local = name.rpartition("}")[2]
            if local not in keys and "}" not in name:
                out.append(Member(local, (), str(value), name, node.sourceline or 1))
        for child in node:
            if not isinstance(child.tag, str):
                continue
            name, line = _local(child), child.sourceline or 1
            if name in self.style.lists and any(self._key_values(child)):
                keys_at = [c.sourceline for c in child if _local(c) in self.style.lists[name] and c.sourceline]
                at = keys_at[-1] if keys_at else line
                out.append(Member(name, (name, *self._key_values(child)), None, child, at))
            elif len(child) or child.attrib or not (child.text or "").strip():
                out.append(Member(name, (name,), None, child, line))
            elif name not in keys:
                out.append(Member(name, (), bare((child.text or "").strip()), child, line))
        return out

    def _key_values(self, entry: Any) -> Words:
        out = []
        for key in self.style.lists[_local(entry)]:
            value = entry.get(key)
            if value is None:
                leaf = next((c for c in entry if isinstance(c.tag, str) and _local(c) == key), None)
                value = None if leaf is None else leaf.text
            out.append(bare((value or "").strip()))
        return tuple(out)

    def add(self, node: Any, words: Words) -> Any:
        if isinstance(node, _Holder):
            raise Refused(Edit((), words), f"there is no '{words[0]}' in it")
        child = self._element(node, words[0])
        keys = list(zip(self.style.lists.get(words[0], ()), words[1:], strict=False))
        for key, value in keys:
            self._leaf(child, key, value)
        if keys and self.style.mirror:
            copy = self._element(child, self.style.mirror)
            for key, value in keys:
                self._leaf(copy, key, value)
        return child

    def _element(self, node: Any, name: str) -> Any:
        space: str | None = self.style.namespaces.get(name) or etree.QName(node).namespace
        if _local(node) in self.style.wrapper and name not in self.style.namespaces:
            space = None if etree.QName(node).namespace == NETCONF else space
        nsmap: Any = {None: space} if space and space != etree.QName(node).namespace else None
        child = etree.Element(f"{{{space}}}{name}" if space else name, nsmap=nsmap)
        _place(node, child)
        return child

    def _leaf(self, node: Any, name: str, value: str) -> None:
        if self.style.leaves == "attributes":
            node.set(name, value)
        else:
            self._element(node, name).text = value

    def begin(self) -> None:
        self.written = self._written()

    def set(self, node: Any, name: str, value: str, old: Member | None) -> None:
        if old is None:
            self._leaf(node, name, value)
        elif isinstance(old.node, str):
            node.set(old.node, value)
        else:
            old.node.text = value

    def drop(self, node: Any, member: Member) -> None:
        if isinstance(member.node, str):
            del node.attrib[member.node]
            return
        before = member.node.getprevious()
        tail = member.node.tail
        if before is None and member.node.getnext() is None:
            node.text = None
        elif member.node.getnext() is None and before is not None:
            before.tail = tail
        node.remove(member.node)

    def dump(self) -> bytes:
        return as_it_stood(self.data, self.written, self._written())

    def _written(self) -> bytes:
        data: bytes = etree.tostring(self.top.getroottree(), encoding="UTF-8")
        data += b"\n" if self.data.endswith(b"\n") else b""
        declaration = re.match(rb"\s*<\?xml[^>]*\?>\s*", self.data)
        data = (declaration[0].replace(b"\r\n", b"\n") if declaration else b"") + data
        return data.replace(b"\n", b"\r\n") if self.crlf else data

    def write_change(self, edits: Sequence[Edit]) -> str:
        style = self.style
        if style.patch == "standard":
            root = etree.Element(f"{{{NETCONF}}}config", nsmap={"nc": NETCONF})
        else:
            root = etree.Element(style.change_wrapper or style.wrapper[0])
        change = XmlDocument.__new__(XmlDocument)
        change.style, change.top, change.root, change.crlf = style, root, root, False
        for edit in edits:
            change._put(edit)
        etree.indent(root, "  ")
        return str(etree.tostring(root, encoding="unicode")) + "\n"

    def _put(self, edit: Edit) -> None:
        """Adds an edit to the tree of a change."""
        node = self.root
        for words in edit.path:
            found = next((m for m in self.members(node) if m.value is None and m.words == words), None)
            node = self.add(node, words) if found is None else found.node
        if not edit.removes:
            if edit.words[1:2] == ("=",):
                self._leaf(node, edit.words[0], " ".join(edit.words[2:]))
            elif not any(m.words == edit.words for m in self.members(node)):
                self.add(node, edit.words)
            return
        if self.style.patch == "standard":
            gone = self.add(node, edit.words)
            gone.set(f"{{{NETCONF}}}operation", "delete")
            for copy in [child for child in gone if _local(child) == self.style.mirror]:
                gone.remove(copy)
        elif len(edit.words) > 1 or self.style.leaves == "elements":
            self.add(node, edit.words).set(self.style.remove, "all")
        else:
            node.set(self.style.remove, f"{node.get(self.style.remove, '')} {edit.words[0]}".strip())

    @staticmethod
    def read_change(data: bytes, style: Style) -> list[Edit]:
        top = _parse_xml(data)
        change = XmlDocument.__new__(XmlDocument)
        change.style, change.top, change.root, change.crlf = style, top, top, False
        expected = "config" if style.patch == "standard" else style.change_wrapper or style.wrapper[0]
        if _local(top) != expected:
            raise Unreadable(f"expected a <{expected}>, not <{_local(top)}>")
        out: list[Edit] = []
        change._collect(top, (), out)
        return out

    def _collect(self, node: Any, path: Path, out: list[Edit]) -> None:
        removal, operation = self.style.remove, f"{{{NETCONF}}}operation"
        dropped = str(node.get(removal, "")).split() if self.style.patch == "own" else []
        out += [Edit(path, (name,), True, node.sourceline or 1) for name in dropped]
        members = [m for m in self.members(node) if m.value is None or m.name != removal or self.style.patch != "own"]
        for m in members:
            gone = not isinstance(m.node, str) and (
                m.node.get(operation) in ("delete", "remove")
                or (self.style.patch == "own" and m.node.get(removal) == "all")
            )
            if gone:
                out.append(Edit(path, m.words or (m.name,), True, m.line))
            elif m.value is not None:
                out.append(Edit(path, (m.name, "=", m.value), False, m.line))
            else:
                before = len(out)
                self._collect(m.node, (*path, m.words), out)
                if len(out) == before and m.words != (self.style.mirror,):
                    out.append(Edit(path, m.words, False, m.line))


class _Holder:
    """What stands around a document whose root is itself a part of the configuration."""

    def __init__(self, only: Any) -> None:
        self.only = only


def _parse_xml(data: bytes) -> Any:
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
        raise Unreadable(f"not XML{f': line {line}' if line else ''}: tags, names or signs that do not fit") from None


def _local(node: Any) -> str:
    return str(node.tag).rpartition("}")[2] if isinstance(node.tag, str) else ""


def _place(node: Any, child: Any) -> None:
    """Adds a child behind the others, indented as they are."""
    if len(node):
        last = node[-1]
        child.tail = last.tail
        last.tail = last.getprevious().tail if last.getprevious() is not None else node.text
    node.append(child)
