"""XML: without entities, without a look at the network; changed by an edit-config (RFC 6241)."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Any

from lxml import etree

from ivrel.core.shapes.documents.base import Member, as_it_stood, local_name, without_module
from ivrel.core.shapes.documents.options import TreeOptions
from ivrel.core.shapes.documents.xml_text import (
    Holder,
    elements,
    key_of,
    parse_xml,
    place,
    text_of,
    value_at,
)
from ivrel.core.shapes.shape import Edit
from ivrel.core.text.words import Path, Words
from ivrel.core.vocabulary.errors import Refused, Unreadable

NETCONF = "urn:ietf:params:xml:ns:netconf:base:1.0"  # RFC 6241
YANG = "urn:ietf:params:xml:ns:yang:1"  # RFC 7950 section 7.8.6: where an entry is inserted
NMDA = "urn:ietf:params:xml:ns:yang:ietf-netconf-nmda"  # RFC 8526: what <get-data> answers


class XmlDocument:
    """XML, as lxml has it: no entities, no document type, nothing from elsewhere."""

    def __init__(self, data: bytes, options: TreeOptions) -> None:
        self.options, self.crlf, self.data = options, b"\r\n" in data[:65536], data
        self._names: dict[tuple[Any, Any], str] = {}  # of elements, by tag and prefix
        self.top = parse_xml(data)
        root: Any = self.top
        self.root: Any
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
        tells of an error.
        """
        out = []
        for one in inner:
            if etree.QName(one).namespace != NETCONF or self._local(one) != "rpc-error":
                out.append(one)
            elif one.findtext(f"{{{NETCONF}}}error-severity", "").strip() != "warning":
                raise Unreadable("it is a reply that tells of an error, and no configuration")
        return out

    @classmethod
    def _of_change(cls, top: Any, options: TreeOptions, data: bytes) -> XmlDocument:
        """Return the tree of a change as a document; `data`: the text that it is written for."""
        change = cls.__new__(cls)
        change.options, change.data, change._names = options, data, {}
        change.top, change.root, change.crlf = top, top, False
        return change

    def members(self, node: Any) -> list[Member]:
        if isinstance(node, Holder):
            name = self._local(node.only)
            return [Member(name, (name,), None, node.only, node.only.sourceline or 1)]
        options = self.options
        keys = options.lists.get(self._local(node), ())
        if self._local(node) == options.mirror and node.getparent() is not None:
            keys = options.lists.get(self._local(node.getparent()), ())
        out = []
        # Where values are elements, attributes are annotations, which say nothing of the
        # configuration.
        for name, value in node.attrib.items() if options.leaves == "attributes" else ():
            local = name.rpartition("}")[2]
            if local not in keys and "}" not in name:
                out.append(Member(local, (), str(value), name, node.sourceline or 1))
        for child in elements(node):
            name, line = self._local(child), child.sourceline or 1
            if name in options.passed_over:
                continue
            inner = elements(child)
            said = self._key_values(child, inner) if name in options.lists else ()
            if any(said):
                names = options.lists[name]
                lines = [c.sourceline for c in inner if c.sourceline and self._local(c) in names]
                out.append(Member(name, (name, *said), None, child, lines[-1] if lines else line))
                continue
            held = inner or (options.leaves == "attributes" and child.attrib)
            text = "" if held else text_of(child)
            if not text:
                out.append(Member(name, (name,), None, child, line))
            elif name not in keys:
                out.append(Member(name, (), without_module(options, name, text), child, line))
        return out

    def as_text(self, node: Any) -> object:
        return etree.tostring(node, with_tail=False)

    def _local(self, node: Any) -> str:
        """Return the name of an element as statements have it.

        One of a foreign namespace keeps its prefix.
        """
        at = node.tag, node.prefix
        found = self._names.get(at)
        if found is None:
            found = self._names[at] = self._name_of(node)
        return found

    def _name_of(self, node: Any) -> str:
        name = etree.QName(node)
        space, known = name.namespace or "", self.options.namespaces.values()
        if not known or space in (NETCONF, NMDA) or space in known:
            return local_name(self.options, "", name.localname, known)
        return local_name(self.options, (node.prefix or space) if space else "", name.localname, ())

    def _key_values(self, entry: Any, inner: Sequence[Any]) -> Words:
        """Return the values of an entry's keys; `inner`: the elements in it."""
        out = []
        for key in self.options.lists[self._local(entry)]:
            value = entry.get(key)
            if value is None:
                leaf = next((c for c in inner if self._local(c) == key), None)
                value = None if leaf is None else text_of(leaf)
            out.append(without_module(self.options, key, (value or "").strip()))
        return tuple(out)

    def add(self, node: Any, words: Words) -> Any:
        if isinstance(node, Holder):
            raise Refused(f"there is no '{words[0]}' in it")
        child = self._element(node, words[0])
        keys = list(zip(self.options.lists.get(words[0], ()), words[1:], strict=False))
        for key, value in keys:
            self._leaf(child, key, value)
        if keys and self.options.mirror:
            copy = self._element(child, self.options.mirror)
            for key, value in keys:
                self._leaf(copy, key, value)
        return child

    def _element(self, node: Any, name: str) -> Any:
        """Return a new element, under the name that the document has for it."""
        alias = next(
            (
                a
                for a, n in self.options.aliases.items()
                if n == name and f"{a}>".encode() in self.data
            ),
            name,
        )
        return self._named_element(node, name, alias)

    def _named_element(self, node: Any, name: str, alias: str) -> Any:
        space: str | None = self.options.namespaces.get(name) or etree.QName(node).namespace
        if self._local(node) in self.options.wrapper and name not in self.options.namespaces:
            space = None if etree.QName(node).namespace == NETCONF else space
        nsmap: Any = {None: space} if space and space != etree.QName(node).namespace else None
        said = self.options.identities.get(name)
        if said and said.prefix:
            nsmap = {**(nsmap or {}), said.prefix: said.namespace}
        child = etree.Element(f"{{{space}}}{alias}" if space else alias, nsmap=nsmap)
        place(node, child)
        return child

    def _leaf(self, node: Any, name: str, value: str) -> None:
        if self.options.leaves == "attributes":
            node.set(name, value)
        else:
            child = self._element(node, name)
            child.text = self._worded(name, value, child)

    def _worded(self, name: str, value: str, leaf: Any) -> str:
        """Return a value as XML has it: an identity with the prefix of its module's namespace,
        unless that is the default one where the leaf stands (RFC 7950 section 9.10.3).
        """
        said = self.options.identities.get(name)
        if said is None:
            return value
        value = value.rpartition(":")[2]
        if said.prefix:
            return f"{said.prefix}:{value}"
        space, known = etree.QName(leaf).namespace, leaf.nsmap
        if space and known.get(None) != space:
            prefix = next((p for p, uri in known.items() if uri == space and p), "")
            return f"{prefix}:{value}" if prefix else value
        return value

    def copy(self) -> XmlDocument:
        return XmlDocument(self.data, self.options)

    def set(self, node: Any, name: str, value: str, old: Member | None) -> None:
        if old is None:
            self._leaf(node, name, value)
        elif isinstance(old.node, str):
            node.set(old.node, value)
        else:
            for child in list(old.node):  # comments
                old.node.remove(child)
            old.node.text = value

    def drop(self, node: Any, member: Member) -> None:
        if isinstance(member.node, str):
            del node.attrib[member.node]
            return
        before = member.node.getprevious()
        tail = member.node.tail
        # The blanks behind an element belong to it: its neighbour takes over those that close the
        # block.
        if before is None and member.node.getnext() is None:
            node.text = None
        elif member.node.getnext() is None and before is not None:
            before.tail = tail
        node.remove(member.node)

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
        change = XmlDocument._of_change(root, options, self.data)
        for edit in edits:
            change._put(edit, value_at(self, (*edit.path, edit.words)) if edit.removes else "")
        etree.indent(root, "  ")
        return str(etree.tostring(root, encoding="unicode")) + "\n"

    def _put(self, edit: Edit, old: str) -> None:
        """Add an edit to the tree of a change; `old`: the value of a leaf that goes.

        What goes is removed, not deleted: a payload that is sent again does no harm (RFC 6241
        section 7.2). A leaf bears the value that it had, since of some types there is no empty one.
        """
        node = self.root
        for words in edit.path:
            found = next(
                (m for m in self.members(node) if m.value is None and m.words == words), None
            )
            node = self.add(node, words) if found is None else found.node
        if not edit.removes:
            if edit.words[1:2] == ("=",):
                self._leaf(node, edit.words[0], " ".join(edit.words[2:]))
            elif not any(m.words == edit.words for m in self.members(node)):
                self._insert(self.add(node, edit.words), edit)
            return
        if self.options.form == "standard":
            gone = self.add(node, edit.words)
            gone.set(f"{{{NETCONF}}}operation", "remove")
            if old and not len(gone):
                gone.text = self._worded(edit.words[0], old, gone)
            for copy in [
                child for child in elements(gone) if self._local(child) == self.options.mirror
            ]:
                gone.remove(copy)
        elif len(edit.words) > 1 or self.options.leaves == "elements":
            self.add(node, edit.words).set(self.options.remove, "all")
        else:
            node.set(
                self.options.remove, f"{node.get(self.options.remove, '')} {edit.words[0]}".strip()
            )

    def _insert(self, entry: Any, edit: Edit) -> None:
        """Say before which other one an entry is to stand, if that is said."""
        if not edit.ahead_of:
            return
        keys, space = self.options.lists[edit.ahead_of[0]], etree.QName(entry).namespace
        prefix = next((p for p, uri in entry.nsmap.items() if p and uri == space), "")
        words = zip(keys, edit.ahead_of[1:], strict=False)
        said = ((name, self._worded(name, word, entry)) for name, word in words)
        entry.set(f"{{{YANG}}}insert", "before")
        entry.set(f"{{{YANG}}}key", "".join(f"[{prefix}:{name}='{word}']" for name, word in said))

    def _ahead_of(self, entry: Any, name: str) -> Words:
        """Return the entry before which another one is to stand; nothing if that is not said."""
        if entry.get(f"{{{YANG}}}insert") != "before":
            return ()
        said = key_of(entry.get(f"{{{YANG}}}key", ""))
        keys = self.options.lists.get(name, ())
        return (name, *(without_module(self.options, key, said.get(key, "")) for key in keys))

    def place_before(self, node: Any, words: Words, other: Words) -> None:
        """Move an entry in front of another one."""
        found = {m.words: m.node for m in self.members(node) if m.words in (words, other)}
        if len(found) < 2:
            return
        entry, ahead = found[words], found[other]
        last = node[-1] is entry
        ahead.addprevious(entry)
        if last:
            entry.tail, node[-1].tail = node[-1].tail, entry.tail

    @staticmethod
    def read_change(data: bytes, options: TreeOptions) -> list[Edit]:
        top = parse_xml(data)
        change = XmlDocument._of_change(top, options, b"")
        expected = "config" if options.form == "standard" else options.inside or options.wrapper[0]
        if change._local(top) != expected:
            raise Unreadable(f"expected a <{expected}>, not <{change._local(top)}>")
        out: list[Edit] = []
        change._collect(top, (), out)
        return out

    def _collect(self, node: Any, path: Path, out: list[Edit]) -> None:
        removal, operation = self.options.remove, f"{{{NETCONF}}}operation"
        dropped = str(node.get(removal, "")).split() if self.options.form == "own" else []
        out += [Edit(path, (name,), True, node.sourceline or 1) for name in dropped]
        members = [
            m
            for m in self.members(node)
            if m.value is None or m.name != removal or self.options.form != "own"
        ]
        for m in members:
            gone = not isinstance(m.node, str) and (
                m.node.get(operation) in ("delete", "remove")
                or (self.options.form == "own" and m.node.get(removal) == "all")
            )
            if gone:
                out.append(Edit(path, m.words or (m.name,), True, m.line))
            elif m.value is not None:
                out.append(Edit(path, (m.name, "=", m.value), False, m.line))
            else:
                before = len(out)
                self._collect(m.node, (*path, m.words), out)
                ahead_of = self._ahead_of(m.node, m.name)
                if (len(out) == before or ahead_of) and m.words != (self.options.mirror,):
                    out.insert(before, Edit(path, m.words, False, m.line, None, ahead_of))
