"""The two kinds of documents that a tree can stand in, XML and JSON, behind one face."""

from __future__ import annotations

import json
import re
from collections.abc import Container, Iterator, Sequence
from typing import Any, Protocol

from lxml import etree
from msgspec import Struct

from ivrel.core.dialects.shapes.base import Edit, Path, Refused, Style, Words
from ivrel.core.mistakes import Unreadable

DEEPEST = 200
NETCONF = "urn:ietf:params:xml:ns:netconf:base:1.0"  # RFC 6241
PATCH = "ietf-yang-patch:yang-patch"  # RFC 8072


class Member(Struct, frozen=True):
    """A member of a node: a leaf has a value; a container or a list entry has words (name and keys) and a node."""

    name: str
    words: Words
    value: str | None
    node: Any
    line: int


class Document(Protocol):
    """A tree that can be walked, changed and written."""

    root: Any

    def members(self, node: Any) -> list[Member]: ...

    def add(self, node: Any, words: Words) -> Any: ...

    def set(self, node: Any, name: str, value: str, old: Member | None) -> None: ...

    def drop(self, node: Any, member: Member) -> None: ...

    def dump(self) -> bytes: ...

    def write_change(self, edits: Sequence[Edit]) -> str: ...


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


class XmlDocument:
    """XML, as lxml has it: no entities, no document type, nothing from elsewhere."""

    def __init__(self, data: bytes, style: Style) -> None:
        self.style, self.crlf = style, b"\r\n" in data[:65536]
        self.top = _parse_xml(data)
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
                out.append(Member(name, (), _bare((child.text or "").strip()), child, line))
        return out

    def _key_values(self, entry: Any) -> Words:
        out = []
        for key in self.style.lists[_local(entry)]:
            value = entry.get(key)
            if value is None:
                leaf = next((c for c in entry if isinstance(c.tag, str) and _local(c) == key), None)
                value = None if leaf is None else leaf.text
            out.append(_bare((value or "").strip()))
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
        tree = self.top.getroottree()
        declared = tree.docinfo.encoding is not None and self.declared
        data: bytes = etree.tostring(tree, encoding="UTF-8", xml_declaration=declared)
        data += b"\n"
        return data.replace(b"\n", b"\r\n") if self.crlf else data

    declared = False

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
                if len(out) == before and m.name in self.style.lists:
                    out.append(Edit(path, m.words, False, m.line))


class _Holder:
    """What stands around a document whose root is itself a part of the configuration."""

    def __init__(self, only: Any) -> None:
        self.only = only


def _parse_xml(data: bytes) -> Any:
    if b"<!DOCTYPE" in data[:4096] or b"<!ENTITY" in data:
        raise Unreadable("it has a document type; entities are not expanded")
    parser = etree.XMLParser(resolve_entities=False, no_network=True, load_dtd=False, huge_tree=False)
    try:
        return etree.fromstring(data, parser)
    except (etree.XMLSyntaxError, ValueError) as problem:
        raise Unreadable(f"not XML: {str(problem).splitlines()[0]}") from None


def _local(node: Any) -> str:
    return str(node.tag).rpartition("}")[2] if isinstance(node.tag, str) else ""


def _place(node: Any, child: Any) -> None:
    """Adds a child behind the others, indented as they are."""
    if len(node):
        last = node[-1]
        child.tail = last.tail
        last.tail = last.getprevious().tail if last.getprevious() is not None else node.text
    node.append(child)


class _Object(dict[str, Any]):
    """A JSON object that knows its line, and the line of each member."""

    line: int = 1
    lines: dict[str, int]


class JsonDocument:
    """JSON as RFC 7951 has it: names may bear their module's name, entries of lists are objects."""

    def __init__(self, data: bytes, style: Style, wanted: Container[str] | None = None) -> None:
        self.style = style
        self.top = _parse_json(data, style.wrapper, wanted)
        if not isinstance(self.top, _Object):
            raise Unreadable("not a JSON object")
        self.crlf = b"\r\n" in data[:65536]
        indent = re.search(rb"\n( +)", data)
        self.indent = len(indent[1]) if indent else 2
        root = self.top
        while len(root) == 1 and _plain(next(iter(root))) in style.wrapper:
            inner = next(iter(root.values()))
            if not isinstance(inner, _Object):
                break
            root = inner
        self.root = root

    def members(self, node: Any) -> list[Member]:
        out = []
        keys = getattr(node, "keys_of", ())
        for name, value in node.items():
            plain, line = _plain(name), node.lines.get(name, node.line)
            if isinstance(value, _Object):
                if plain == self.style.mirror:
                    value.keys_of = keys  # type: ignore[attr-defined]
                out.append(Member(plain, (plain,), None, value, line))
            elif isinstance(value, list):
                for n, entry in enumerate(value):
                    if isinstance(entry, _Object):
                        entry.keys_of = self.style.lists.get(plain, ())  # type: ignore[attr-defined]
                        words = (plain, *(_text(_get(entry, key)) for key in entry.keys_of))  # type: ignore[attr-defined]
                        at = [line for name, line in entry.lines.items() if _plain(name) in entry.keys_of]  # type: ignore[attr-defined]
                        out.append(Member(plain, words, None, entry, at[-1] if at else entry.line))
                    else:
                        out.append(Member(plain, (), _text(entry), (name, n), line))
            elif plain not in keys:
                out.append(Member(plain, (), _text(value), (name, None), line))
        return out

    def _name(self, node: Any, plain: str) -> str:
        """The full name of a member: as it stands there, or with its module at the top."""
        found = next((name for name in node if _plain(name) == plain), None)
        return found or (f"{self.style.modules[plain]}:{plain}" if plain in self.style.modules else plain)

    def add(self, node: Any, words: Words) -> Any:
        child = _Object()
        child.lines = {}
        keys = self.style.lists.get(words[0], ())
        for key, value in zip(keys, words[1:], strict=False):
            child[key] = _native(value)
        if keys and self.style.mirror:
            copy = _Object(child)
            copy.lines = {}
            child[self.style.mirror] = copy
        name = self._name(node, words[0])
        if words[0] in self.style.lists:
            child.keys_of = keys  # type: ignore[attr-defined]
            node.setdefault(name, []).append(child)
        else:
            node[name] = child
        return child

    def set(self, node: Any, name: str, value: str, old: Member | None) -> None:
        node[self._name(node, name)] = _native(value)

    def drop(self, node: Any, member: Member) -> None:
        if member.value is None:
            name = self._name(node, member.name)
            if isinstance(node[name], list):
                node[name] = [entry for entry in node[name] if entry is not member.node]
                if node[name]:
                    return
            del node[name]
        else:
            del node[member.node[0]]

    def dump(self) -> bytes:
        text = json.dumps(self.top, indent=self.indent, ensure_ascii=False) + "\n"
        return (text.replace("\n", "\r\n") if self.crlf else text).encode()

    def write_change(self, edits: Sequence[Edit]) -> str:
        out: list[dict[str, Any]] = []
        for n, edit in enumerate(edits, 1):
            one: dict[str, Any] = {"edit-id": str(n), "operation": "remove" if edit.removes else "merge"}
            if edit.removes:
                one["target"] = self._target((*edit.path, edit.words))
            else:
                # The target of a merge must be there: what is not there yet stands in the value.
                there = max(self._there(edit.path), 1)
                leaf = edit.words[1:2] == ("=",)
                value = {edit.words[0]: _native(" ".join(edit.words[2:]))} if leaf else self._nested(edit.words, {})
                for words in reversed(edit.path[there - 1 :]):
                    value = self._nested(words, value)
                one["target"], one["value"] = self._target(edit.path[:there]), value
            out.append(one)
        return json.dumps({PATCH: {"patch-id": "correction", "edit": out}}, indent=2, ensure_ascii=False) + "\n"

    def _there(self, path: Path) -> int:
        """How many steps of a path lead to what exists."""
        node: Any = self.root
        for depth, words in enumerate(path):
            found = next((m for m in self.members(node) if m.value is None and m.words == words), None)
            if found is None:
                return depth
            node = found.node
        return len(path)

    def _nested(self, words: Words, inside: dict[str, Any]) -> dict[str, Any]:
        """A container or a list entry as a patch's value has it."""
        if words[0] not in self.style.lists or len(words) == 1:
            return {words[0]: inside}
        keys = dict(zip(self.style.lists[words[0]], map(_native, words[1:]), strict=False))
        mirror = {self.style.mirror: {**keys, **inside.get(self.style.mirror, {})}} if self.style.mirror else {}
        return {words[0]: [{**keys, **inside, **mirror}]}

    def _target(self, path: Path) -> str:
        return "".join(f"/{self._step(words)}" for words in path)

    def _step(self, words: Words) -> str:
        name = f"{self.style.modules[words[0]]}:{words[0]}" if words[0] in self.style.modules else words[0]
        escaped = (re.sub(r"[%/,= ]", lambda m: f"%{ord(m[0]):02X}", w) for w in words[1:])
        return name + (f"={','.join(escaped)}" if len(words) > 1 else "")

    @staticmethod
    def read_change(data: bytes, style: Style) -> list[Edit]:
        read = json.loads(data)
        edits = (
            read.get(PATCH, {}).get("edit") if isinstance(read, dict) and isinstance(read.get(PATCH), dict) else None
        )
        if not isinstance(edits, list):
            raise Unreadable(f"expected a YANG Patch: {{'{PATCH}': {{'edit': […]}}}}")
        return [one for edit in edits for one in _patch(edit, style)]


def _patch(edit: Any, style: Style) -> list[Edit]:
    """The edits that one edit of a patch is."""
    try:
        path = tuple(_words(step) for step in str(edit["target"]).strip("/").split("/"))
        operation = edit["operation"]
        if operation in ("remove", "delete"):
            return [Edit(path[:-1], path[-1], True)]
        if operation not in ("merge", "create", "replace"):
            raise Unreadable(f"operation '{operation}' is not known; expected merge or remove")
        value = JsonDocument.__new__(JsonDocument)
        value.style = style
        return list(_collected(value, _objects(edit["value"]), path[:-1]))
    except (KeyError, TypeError, AttributeError) as problem:
        raise Unreadable(f"an edit without {problem}") from None


def _collected(document: JsonDocument, node: Any, path: Path) -> Iterator[Edit]:
    for m in document.members(node):
        if m.value is not None:
            yield Edit(path, (m.name, "=", m.value))
            continue
        below = list(_collected(document, m.node, (*path, m.words)))
        yield from below
        if not below and m.words != (document.style.mirror,):
            yield Edit(path, m.words)


def _objects(value: Any) -> Any:
    """What json has read, with its objects as this module has them."""
    if isinstance(value, dict):
        new = _Object({name: _objects(inner) for name, inner in value.items()})
        new.lines = {}
        return new
    return [_objects(inner) for inner in value] if isinstance(value, list) else value


def _words(step: str) -> Words:
    name, _, keys = step.partition("=")
    values = (re.sub(r"%([0-9A-F]{2})", lambda m: chr(int(m[1], 16)), k) for k in keys.split(",")) if keys else ()
    return (_plain(name), *values)


def _plain(name: str) -> str:
    return name.rpartition(":")[2]


def _get(entry: _Object, key: str) -> Any:
    return next((value for name, value in entry.items() if _plain(name) == key), "")


_IDENTITY = re.compile(r"[A-Za-z][\w.-]*:([A-Za-z_][\w.-]*)")


def _bare(text: str) -> str:
    """An identity without the name of its module (RFC 7951 section 6.8; as a prefix in XML)."""
    match = _IDENTITY.fullmatch(text)
    return match[1] if match else text


def _text(value: Any) -> str:
    if value is True or value is False:
        return "true" if value else "false"
    if value is None or value == [None]:
        return ""
    return _bare(str(value)) if not isinstance(value, list) else ", ".join(map(_text, value))


def _native(word: str) -> Any:
    if word in ("true", "false"):
        return word == "true"
    return int(word) if re.fullmatch(r"0|[1-9][0-9]{0,8}", word) else word


_TOKEN = re.compile(r'\s*(?:("(?:[^"\\]|\\.)*")|([{}\[\],:])|(-?[0-9][0-9.eE+-]{0,40}|true|false|null))')


_DECODER = json.JSONDecoder(strict=False)


def _parse_json(data: bytes, wrapper: Container[str], wanted: Container[str] | None) -> Any:
    text = data.decode("utf-8", "replace")
    tokens = _Tokens(text)
    top = 1  # how deep the names at the top stand: deeper inside of a wrapper
    # The stack holds what is open: objects with the name that awaits a value, and lists.
    stack: list[tuple[Any, str | None]] = []
    done: Any = None
    name: str | None = None
    state = "value"
    for token, line in tokens:
        if state == "end":
            raise Unreadable(f"not JSON: line {line}: something behind the end")
        if token in ("{", "["):
            if state not in ("value", "first"):
                raise Unreadable(f"not JSON: line {line}: '{token}' is not expected here")
            if len(stack) >= DEEPEST:
                raise Unreadable(f"line {line}: nested deeper than {DEEPEST} levels")
            new: Any = _Object() if token == "{" else []
            if isinstance(new, _Object):
                new.line, new.lines = line, {}
            _attach(stack, name, new, line)
            stack.append((new, name))
            name, state = None, "name" if token == "{" else "first"
        elif token in ("}", "]"):
            if not stack or (isinstance(stack[-1][0], _Object) != (token == "}")) or state in ("value", "colon"):
                raise Unreadable(f"not JSON: line {line}: '{token}' is not expected here")
            done = stack.pop()[0]
            state = "comma" if stack else "end"
        elif token == ",":
            if state != "comma":
                raise Unreadable(f"not JSON: line {line}: ',' is not expected here")
            state = "name" if isinstance(stack[-1][0], _Object) else "value"
        elif token == ":":
            if state != "colon":
                raise Unreadable(f"not JSON: line {line}: ':' is not expected here")
            state = "value"
            if wanted is not None and len(stack) == top and name is not None and _plain(name) not in wanted:
                if _plain(name) in wrapper:
                    top += 1
                else:
                    tokens.skip_value()
                    state = "comma"
        elif state == "name" and token[0] == '"':
            name, state = _scalar(token, line), "colon"
        elif state in ("value", "first") and stack:
            _attach(stack, name, _scalar(token, line), line)
            state = "comma"
        else:
            raise Unreadable(f"not JSON: line {line}: {token[:20]} is not expected here")
    if state != "end":
        raise Unreadable("not JSON: the text ends too early")
    return done


def _attach(stack: Sequence[tuple[Any, str | None]], name: str | None, value: Any, line: int) -> None:
    if stack:
        holder = stack[-1][0]
        if isinstance(holder, _Object):
            holder[name or ""] = value
            holder.lines[name or ""] = line
        else:
            holder.append(value)


def _scalar(token: str, line: int) -> Any:
    try:
        return json.loads(token, strict=False)
    except ValueError:
        raise Unreadable(f"not JSON: line {line}: {token[:20]}") from None


class _Tokens:
    """The tokens of a JSON text with their lines."""

    def __init__(self, text: str) -> None:
        self.text, self.at, self.line = text, 0, 1

    def __iter__(self) -> Iterator[tuple[str, int]]:
        text = self.text
        while self.at < len(text):
            match = _TOKEN.match(text, self.at)
            if match is None:
                if not text[self.at :].strip():
                    return
                rest = text[self.at :].lstrip()
                self.line += text.count("\n", self.at, len(text) - len(rest))
                raise Unreadable(f"not JSON: line {self.line}: {rest[:20].strip()!r} is not expected here")
            start = match.start(match.lastindex or 0)
            self.line += text.count("\n", self.at, start)
            line = self.line
            self.line += text.count("\n", start, match.end())
            self.at = match.end()
            yield match[match.lastindex or 0], line

    def skip_value(self) -> None:
        """Passes over a value that nobody asks for."""
        start = self.at + len(self.text[self.at : self.at + 4096]) - len(self.text[self.at : self.at + 4096].lstrip())
        try:
            _, end = _DECODER.raw_decode(self.text, start)
        except (ValueError, RecursionError):
            raise Unreadable(f"not JSON: a value behind line {self.line} cannot be read") from None
        self.line += self.text.count("\n", self.at, end)
        self.at = end
