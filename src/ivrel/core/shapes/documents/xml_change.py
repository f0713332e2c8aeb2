"""A change of XML: an edit-config (RFC 6241), or a fragment in a form of the platform's own."""

from __future__ import annotations

from typing import Any

from lxml import etree

from ivrel.core.shapes.documents.base import Member, MemberIndex, without_module
from ivrel.core.shapes.documents.xml_text import elements, key_of
from ivrel.core.shapes.documents.xml_tree import NETCONF, XmlTree
from ivrel.core.shapes.shape import Edit
from ivrel.core.text.words import Path, Words

YANG = "urn:ietf:params:xml:ns:yang:1"  # RFC 7950 section 7.8.6: where an entry is inserted


class XmlChange(XmlTree):
    """The tree of a change; `data`: the text of the document that it is written for."""

    def put(self, edit: Edit, old: str, index: MemberIndex) -> None:
        """Add an edit to the tree of a change; `old`: the value of a leaf that goes.

        What goes is removed, not deleted: a payload that is sent again does no harm (RFC 6241
        section 7.2). A leaf bears the value that it had, since of some types there is no empty one.
        """
        node = self.root
        for words in edit.path:
            found = index.find(node, words)
            node = self._made(node, words, index) if found is None else found.node
        if not edit.removes:
            if edit.words[1:2] == ("=",):
                self._leaf(node, edit.words[0], " ".join(edit.words[2:]))
            elif index.find(node, edit.words) is None:
                self._insert(self._made(node, edit.words, index), edit)
            return
        if self.options.form == "standard":
            gone = self._made(node, edit.words, index)
            gone.set(f"{{{NETCONF}}}operation", "remove")
            if old and not len(gone):
                gone.text = self._worded(edit.words[0], old, gone)
            for copy in [
                child for child in elements(gone) if self._local(child) == self.options.mirror
            ]:
                gone.remove(copy)
        elif len(edit.words) > 1 or self.options.leaves == "elements":
            self._made(node, edit.words, index).set(self.options.remove, "all")
        else:
            node.set(
                self.options.remove, f"{node.get(self.options.remove, '')} {edit.words[0]}".strip()
            )

    def _made(self, node: Any, words: Words, index: MemberIndex) -> Any:
        """Add a container or an entry to a node of a change, and return it."""
        child = self.add(node, words)
        index.add(node, Member(words[0], words, None, child, 0))
        return child

    def _insert(self, entry: Any, edit: Edit) -> None:
        """Write the entry that an entry is to precede, if one is given."""
        if not edit.ahead_of:
            return
        keys = self.options.lists[edit.ahead_of[0]]
        space = etree.QName(entry).namespace
        prefix = next((p for p, uri in entry.nsmap.items() if p and uri == space), "")
        words = zip(keys, edit.ahead_of[1:], strict=False)
        said = ((name, self._worded(name, word, entry)) for name, word in words)
        entry.set(f"{{{YANG}}}insert", "before")
        entry.set(f"{{{YANG}}}key", "".join(f"[{prefix}:{name}='{word}']" for name, word in said))

    def _ahead_of(self, entry: Any, name: str) -> Words:
        """Return the entry that another one is to precede; nothing if none is given."""
        if entry.get(f"{{{YANG}}}insert") != "before":
            return ()
        said = key_of(entry.get(f"{{{YANG}}}key", ""))
        keys = self.options.lists.get(name, ())
        return (name, *(without_module(self.options, key, said.get(key, "")) for key in keys))

    def collect(self, node: Any, path: Path, out: list[Edit]) -> None:
        removal = self.options.remove
        operation = f"{{{NETCONF}}}operation"
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
                self.collect(m.node, (*path, m.words), out)
                ahead_of = self._ahead_of(m.node, m.name)
                if (len(out) == before or ahead_of) and m.words != (self.options.mirror,):
                    out.insert(before, Edit(path, m.words, False, m.line, None, ahead_of))
