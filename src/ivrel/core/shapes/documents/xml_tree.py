"""A tree of XML elements: its members, and how one is added, changed or taken away."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from lxml import etree

from ivrel.core.shapes.documents.base import Member, local_name, without_module
from ivrel.core.shapes.documents.options import TreeOptions
from ivrel.core.shapes.documents.xml_text import Holder, elements, place, text_of
from ivrel.core.text.words import Words
from ivrel.core.vocabulary.errors import Refused

NETCONF = "urn:ietf:params:xml:ns:netconf:base:1.0"  # RFC 6241
NMDA = "urn:ietf:params:xml:ns:yang:ietf-netconf-nmda"  # RFC 8526: what <get-data> answers


class XmlTree:
    """The elements of a document or of a change; `data`: the text of the document."""

    def __init__(self, top: Any, options: TreeOptions, data: bytes) -> None:
        self.top = top
        self.options = options
        self.data = data
        self.root: Any = top
        self._names: dict[tuple[Any, Any], str] = {}  # of elements, by tag and prefix

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
            name = self._local(child)
            line = child.sourceline or 1
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
        space = name.namespace or ""
        known = self.options.namespaces.values()
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
        unless that is the default one at the leaf (RFC 7950 section 9.10.3).
        """
        said = self.options.identities.get(name)
        if said is None:
            return value
        value = value.rpartition(":")[2]
        if value in said.plain:
            return value
        if said.prefix:
            return f"{said.prefix}:{value}"
        space = etree.QName(leaf).namespace
        known = leaf.nsmap
        if space and known.get(None) != space:
            prefix = next((p for p, uri in known.items() if uri == space and p), "")
            return f"{prefix}:{value}" if prefix else value
        return value

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

    def place_before(self, node: Any, words: Words, other: Words) -> None:
        """Move an entry in front of another one."""
        found = {m.words: m.node for m in self.members(node) if m.words in (words, other)}
        if len(found) < 2:
            return
        entry = found[words]
        ahead = found[other]
        last = node[-1] is entry
        ahead.addprevious(entry)
        if last:
            entry.tail, node[-1].tail = node[-1].tail, entry.tail
