"""JSON as RFC 7951 has it; changed by a YANG Patch (RFC 8072)."""

from __future__ import annotations

import json
import re
from collections.abc import Container, Iterator, Sequence
from typing import Any
from urllib.parse import quote

from ivrel.core.shapes.documents.base import Member, MemberIndex, as_it_stood, without_module
from ivrel.core.shapes.documents.json_text import Object, local_of, parse_json
from ivrel.core.shapes.documents.json_values import (
    copied,
    key_value,
    objects,
    text_of,
    words_of_step,
)
from ivrel.core.shapes.documents.options import TreeOptions
from ivrel.core.shapes.shape import Edit
from ivrel.core.text.words import Path, Words
from ivrel.core.vocabulary.errors import Unreadable

PATCH = "ietf-yang-patch:yang-patch"  # RFC 8072


class JsonDocument:
    """JSON as RFC 7951 has it: names may bear their module's name, entries of lists are objects."""

    def __init__(
        self, data: bytes, options: TreeOptions, wanted: Container[str] | None = None
    ) -> None:
        self.options = options
        self.top = parse_json(data, options, wanted)
        if not isinstance(self.top, Object):
            raise Unreadable("not a JSON object")
        self.crlf = b"\r\n" in data[:65536]
        indent = re.search(rb"\n( +)", data)
        # A text of one line stays one.
        self.indent = len(indent[1]) if indent else 2 if b"\n" in data.strip() else None
        self.separators = (",", ":") if self.indent is None and b'": ' not in data else (", ", ": ")
        if self.indent is not None:
            self.separators = (",", ": ")
        self.data = data
        self._find_root()

    def _find_root(self) -> None:
        options = self.options
        root = self.top
        while (
            len(root) == 1
            and local_of(options, next(iter(root))).rpartition(":")[2] in options.wrapper
        ):
            inner = next(iter(root.values()))
            if not isinstance(inner, Object):
                break
            root = inner
        self.root = root

    def members(self, node: Any) -> list[Member]:
        out = []
        keys = node.keys_of
        options = self.options
        for name, value in node.items():
            plain = local_of(options, name)
            line = node.lines.get(name, node.line)
            if name.startswith("@") or plain in options.passed_over:
                continue  # annotations (RFC 7952), and what is no configuration
            if isinstance(value, Object):
                # The mirror of an entry repeats its keys, which are no settings there either.
                if plain == options.mirror:
                    value.keys_of = keys
                out.append(Member(plain, (plain,), None, value, line))
            # `[null]` is a leaf that is there and has no value (RFC 7951 section 6.9).
            elif isinstance(value, list) and value != [None]:
                for n, entry in enumerate(value):
                    if isinstance(entry, Object):
                        entry.keys_of = options.lists.get(plain, ())
                        words = (
                            plain,
                            *(
                                self._text(key, key_value(options, entry, key))
                                for key in entry.keys_of
                            ),
                        )
                        at = [
                            line
                            for name, line in entry.lines.items()
                            if local_of(options, name) in entry.keys_of
                        ]
                        out.append(Member(plain, words, None, entry, at[-1] if at else entry.line))
                    else:
                        out.append(Member(plain, (), self._text(plain, entry), (name, n), line))
            elif plain not in keys:
                out.append(Member(plain, (), self._text(plain, value), (name, None), line))
        return out

    def as_text(self, node: Any) -> object:
        return json.dumps(node, ensure_ascii=False)

    def _text(self, name: str, value: Any) -> str:
        return without_module(self.options, name, text_of(value))

    def _native(self, name: str, word: str, old: Any = None) -> Any:
        """Return a value as JSON has it: of the type that it had, or that the model gives the leaf
        (RFC 7951 section 6).
        """
        options = self.options
        known = options.identities.get(name)
        module = known.module if known is not None and word not in known.plain else ""
        if module and word:
            return f"{module}:{word}"
        # A value keeps the type that it had, even if the model would give another.
        boolean = isinstance(old, bool) or (not isinstance(old, str) and name in options.booleans)
        number = isinstance(old, int) or (not isinstance(old, str) and name in options.numbers)
        if boolean and word in ("true", "false"):
            return word == "true"
        return int(word) if number and re.fullmatch(r"-?[0-9]{1,18}", word) else word

    def _name(self, node: Any, plain: str) -> str:
        """Return the full name of a member: as it is there, or with its module at the top."""
        options = self.options
        found = next((name for name in node if local_of(options, name) == plain), None)
        alias = next(
            (
                a
                for a, name in options.aliases.items()
                if name == plain and f'"{a}"'.encode() in self.data
            ),
            plain,
        )
        return found or (f"{options.modules[plain]}:{plain}" if plain in options.modules else alias)

    def add(self, node: Any, words: Words) -> Any:
        child = Object()
        child.lines = {}
        keys = self.options.lists.get(words[0], ())
        for key, value in zip(keys, words[1:], strict=False):
            child[key] = self._native(key, value)
        # Models that keep configuration apart repeat the keys in there, and want them the same.
        if keys and self.options.mirror:
            copy = Object(child)
            copy.lines = {}
            child[self.options.mirror] = copy
        name = self._name(node, words[0])
        if words[0] in self.options.lists:
            child.keys_of = keys
            node.setdefault(name, []).append(child)
        else:
            node[name] = child
        return child

    def set(self, node: Any, name: str, value: str, old: Member | None) -> None:
        full = self._name(node, name)
        node[full] = self._native(name, value, node.get(full))

    def place_before(self, node: Any, words: Words, other: Words) -> None:
        """Move an entry in front of another one."""
        found = {m.words: m.node for m in self.members(node) if m.words in (words, other)}
        entries = node[self._name(node, words[0])]
        if len(found) == 2 and isinstance(entries, list):
            rest = [entry for entry in entries if entry is not found[words]]
            at = next(n for n, entry in enumerate(rest) if entry is found[other])
            entries[:] = [*rest[:at], found[words], *rest[at:]]

    def drop(self, node: Any, member: Member) -> None:
        if member.value is None:
            name = self._name(node, member.name)
            # The other entries of the list stay; a list that is empty then goes as well.
            if isinstance(node[name], list):
                node[name] = [entry for entry in node[name] if entry is not member.node]
                if node[name]:
                    return
            del node[name]
        else:
            # Of several values of a leaf-list, the first takes all others with it.
            node.pop(member.node[0], None)

    def copy(self) -> JsonDocument:
        other = JsonDocument.__new__(JsonDocument)
        other.__dict__.update(self.__dict__)
        other.top = copied(self.top)
        other._find_root()
        return other

    def dump(self, before: bytes) -> bytes:
        return as_it_stood(self.data, before, self.written())

    def written(self) -> bytes:
        text = json.dumps(
            self.top, indent=self.indent, separators=self.separators, ensure_ascii=False
        )
        text += "\n" if self.data.endswith(b"\n") else ""
        return (text.replace("\n", "\r\n") if self.crlf else text).encode()

    def write_change(self, edits: Sequence[Edit]) -> str:
        out: list[dict[str, Any]] = []
        index = MemberIndex(self)
        for n, edit in enumerate(edits, 1):
            one: dict[str, Any] = {
                "edit-id": str(n),
                "operation": "remove" if edit.removes else "merge",
            }
            if edit.removes:
                one["target"] = self._target((*edit.path, edit.words))
            elif edit.ahead_of:
                # RFC 8072 section 2.5: an entry of a list that the user orders.
                one["operation"] = "insert"
                one["target"] = self._target((*edit.path, edit.words))
                one["point"] = self._target((*edit.path, edit.ahead_of))
                one["where"] = "before"
                value = self._nested(edit.words, {})
                one["value"] = self._qualified(value, (*edit.path, edit.words))
            else:
                # The target of a merge must be there: what is not there yet is in the value.
                there = max(self._there(edit.path, index), 1)
                leaf = edit.words[1:2] == ("=",)
                said = " ".join(edit.words[2:])
                value = (
                    {edit.words[0]: self._native(edit.words[0], said)}
                    if leaf
                    else self._nested(edit.words, {})
                )
                for words in reversed(edit.path[there - 1 :]):
                    value = self._nested(words, value)
                one["target"] = self._target(edit.path[:there])
                one["value"] = self._qualified(value, (*edit.path, edit.words)[:there])
            out.append(one)
        return (
            json.dumps(
                {PATCH: {"patch-id": "correction", "edit": out}}, indent=2, ensure_ascii=False
            )
            + "\n"
        )

    def _there(self, path: Path, index: MemberIndex) -> int:
        """Return how many steps of a path lead to what exists."""
        node: Any = self.root
        for depth, words in enumerate(path):
            found = index.find(node, words)
            if found is None or found.value is not None:
                return depth
            node = found.node
        return len(path)

    def _qualified(self, value: dict[str, Any], path: Path) -> dict[str, Any]:
        """Return the value of an edit, its outermost name with the module that it is of (RFC 7951
        section 4).
        """
        modules = [
            self.options.modules[words[0]] for words in path if words[0] in self.options.modules
        ]
        return {
            (f"{modules[-1]}:{name}" if modules and ":" not in name else name): v
            for name, v in value.items()
        }

    def _nested(self, words: Words, inside: dict[str, Any]) -> dict[str, Any]:
        """Return a container or a list entry as a patch's value has it."""
        name = (
            f"{self.options.modules[words[0]]}:{words[0]}"
            if words[0] in self.options.modules
            else words[0]
        )
        if words[0] not in self.options.lists or len(words) == 1:
            return {name: inside}
        keys = {
            key: self._native(key, word)
            for key, word in zip(self.options.lists[words[0]], words[1:], strict=False)
        }
        mirror = (
            {self.options.mirror: {**keys, **inside.get(self.options.mirror, {})}}
            if self.options.mirror
            else {}
        )
        return {name: [{**keys, **inside, **mirror}]}

    def _target(self, path: Path) -> str:
        return "".join(f"/{self._step(words)}" for words in path)

    def _step(self, words: Words) -> str:
        name = (
            f"{self.options.modules[words[0]]}:{words[0]}"
            if words[0] in self.options.modules
            else words[0]
        )
        # RFC 8040 section 3.5.3: what is reserved in a URI is percent-encoded.
        keys = self.options.lists.get(words[0], ())
        values = (self._native(key, word) for key, word in zip(keys, words[1:], strict=False))
        return name + (
            f"={','.join(quote(str(value), safe='') for value in values)}" if len(words) > 1 else ""
        )

    @staticmethod
    def read_change(data: bytes, options: TreeOptions) -> list[Edit]:
        read = json.loads(data)
        json.dumps(read, ensure_ascii=False).encode()  # half of a surrogate pair is no text
        edits = (
            read.get(PATCH, {}).get("edit")
            if isinstance(read, dict) and isinstance(read.get(PATCH), dict)
            else None
        )
        if not isinstance(edits, list):
            raise Unreadable(f"expected a YANG Patch: {{'{PATCH}': {{'edit': […]}}}}")
        return [one for edit in edits for one in _patch(edit, options)]


def _patch(edit: Any, options: TreeOptions) -> list[Edit]:
    """Return the edits that one edit of a patch is."""
    try:
        path = tuple(
            words_of_step(options, step) for step in str(edit["target"]).strip("/").split("/")
        )
        operation = edit["operation"]
        if operation in ("remove", "delete"):
            return [Edit(path[:-1], path[-1], True)]
        if operation == "insert" and edit["where"] == "before":
            other = str(edit["point"]).rpartition("/")[2]
            return [Edit(path[:-1], path[-1], ahead_of=words_of_step(options, other))]
        if operation not in ("merge", "create", "replace"):
            raise Unreadable(f"operation '{operation}' is not known; expected merge or remove")
        # The value of an edit is no text of its own: only the reading of members is wanted here.
        value = JsonDocument.__new__(JsonDocument)
        value.options = options
        value.data = b""
        return list(_collected(value, objects(edit["value"]), path[:-1]))
    except (KeyError, TypeError, AttributeError) as problem:
        raise Unreadable(f"an edit without {problem}") from None


def _collected(document: JsonDocument, node: Any, path: Path) -> Iterator[Edit]:
    for m in document.members(node):
        if m.value is not None:
            yield Edit(path, (m.name, "=", m.value))
            continue
        below = list(_collected(document, m.node, (*path, m.words)))
        yield from below
        if not below and m.words != (document.options.mirror,):
            yield Edit(path, m.words)
