"""What every shape offers, and what the text shapes share."""

from __future__ import annotations

import re
from bisect import bisect_right
from collections.abc import Callable, Container, Iterator, Mapping, Sequence
from typing import Protocol

from msgspec import Struct

from ivrel.core.form import shorten
from ivrel.core.mistakes import InputError, Mistake

Words = tuple[str, ...]
Path = tuple[Words, ...]
Found = tuple[Path, bytes, int]
Identity = Callable[[Path, Words], object]

LONGEST = 4096  # bytes; no statement about export settings is longer


class Identities(Struct, frozen=True):
    """The module of the identities that a leaf of a tree can have; '' where they are of the leaf's own module."""

    module: str = ""
    namespace: str = ""
    prefix: str = ""


class Style(Struct, frozen=True):
    """What a dialect says about its shape.

    `remove`: the word that takes a statement away; `wrapper`: the block that everything stands in, if any;
    `change_wrapper`: the block that a change stands in; `lists`: for a tree, the names of its list entries
    with the names of their keys; `mirror`: the container of an entry in which its keys stand once more;
    `leaves`: for XML, whether values are attributes or elements; `namespaces`
    and `modules`: what new elements (XML) and new names (JSON) belong to; `patch`: how a change of a tree is
    written, in a form of its `own` or as RFC 6241 and RFC 8072 have it (`standard`); `blocks`: the words that
    alone are the headers of blocks, and begin nothing else that matters; `identities`: the leaves of a tree whose
    values are identities, and of which module; `numbers`, `booleans`: those that JSON has as such; `passed_over`:
    names that say nothing of the configuration; `aliases`: other names for one that the dialect knows.
    """

    comment: str = "#"
    remove: str = "remove"
    indent: int = 4
    wrapper: tuple[str, ...] = ()
    change_wrapper: str = ""
    lists: Mapping[str, tuple[str, ...]] = {}
    leaves: str = "elements"
    mirror: str = ""
    namespaces: Mapping[str, str] = {}
    modules: Mapping[str, str] = {}
    patch: str = "own"
    blocks: tuple[str, ...] = ()
    identities: Mapping[str, Identities] = {}
    numbers: frozenset[str] = frozenset()
    booleans: frozenset[str] = frozenset()
    passed_over: tuple[str, ...] = ()
    aliases: Mapping[str, str] = {}


class Edit(Struct, frozen=True):
    """One step of a change: a statement that is set, or (`removes`) the first words of those that go.

    `body`: the statements of a block that is written anew as a whole; `words` are then its header.
    """

    path: Path
    words: Words
    removes: bool = False
    line: int = 0
    body: tuple[Words, ...] | None = None


class Shape(Protocol):
    """The functions of a shape's module."""

    ATOMIC: bool  # whether a change is carried out as a whole or not at all
    DERIVED: bool  # whether statements are worked out from lines rather than stand in them
    ASKS: str  # the program that says whether it takes a configuration; "" if there is none

    def split(self, line: str) -> list[str]:
        """The words of a statement."""

    def join(self, words: Sequence[str]) -> str:
        """A statement of these words, or the beginning of one."""

    def scan(self, data: bytes, heads: Sequence[Words], style: Style) -> Iterator[Found]:
        """The statements that begin with `heads`, or stand inside of what does: path, text, line from 1."""

    def holding(
        self, data: bytes, text: bytes, heads: Sequence[Words], style: Style, behind: Container[bytes]
    ) -> Iterator[Found]:
        """The statements that `scan` finds on lines that hold this text right behind one of these words.

        A quick look: it may miss some, and may find more.
        """

    def everything(self, data: bytes, style: Style) -> Iterator[Found]:
        """Every statement of the text."""

    def write_change(self, data: bytes, edits: Sequence[Edit], identity: Identity, style: Style) -> str:
        """The text of a change that carries out the edits on `data`."""

    def read_change(self, text: str, file: str, style: Style) -> list[Edit]:
        """The edits of a change's text; InputError if it is none."""

    def fine(self, data: bytes, edits: Sequence[Edit], identity: Identity, style: Style) -> list[Edit]:
        """The single statements that the edits of a change set or remove, for leaving them out one by one."""

    def apply(self, data: bytes, edits: Sequence[Edit], identity: Identity, style: Style) -> bytes:
        """The text after the edits; a statement replaces that of the same identity. Raises Refused."""


class Refused(Exception):
    """The platform would not take an edit."""

    def __init__(self, edit: Edit, said: str) -> None:
        super().__init__(said)
        self.edit = edit


_WORDS = re.compile(r'"((?:[^"\\]|\\.)*)"|(\S+)')


def split_words(line: str) -> list[str]:
    """Words divided by white space; double quotes hold one together."""
    if '"' not in line:
        return line.split()
    return [m[2] if m[2] is not None else re.sub(r"\\(.)", r"\1", m[1]) for m in _WORDS.finditer(line)]


def quote(word: str) -> str:
    """A word as it must stand to be read as one."""
    if word and not re.search(r'[\s"]', word):
        return word
    return '"' + re.sub(r'(["\\])', r"\\\1", word) + '"'


def line_end(data: bytes) -> bytes:
    """How the lines of a text end."""
    return b"\r\n" if b"\r\n" in data[:65536] else b"\n"


def spacing(data: bytes) -> str:
    """What stands between a name and its value in the assignments of a text: the sign and the blanks around it."""
    found = re.search(rb"^[ \t]*[\w.\-]+([ \t]*=[ \t]*)\S", data, re.MULTILINE)
    return decode(found[1]) if found else " = "


def assigned(text: str, equals: str) -> str:
    """An assignment with other blanks around its sign."""
    name, sign, value = text.partition(" = ")
    return f"{name}{equals}{value}" if sign else text


class _Whole(bytes):
    """A line that ends as it is to end."""


def in_place_of(old: bytes, text: str) -> bytes:
    """A line that takes the place of another: indented as it was, and ending as it did."""
    lead = old[: len(old) - len(old.lstrip())]
    return _Whole(lead + text.encode() + (b"\r" if old.endswith(b"\r") else b""))


def edited_lines(data: bytes, change: Callable[[list[bytes]], None]) -> bytes:
    """The text after `change` has worked on its lines.

    Each line that stays ends as it did, one that is new as most do; whether the last one ends stays, too.
    """
    lines = data.split(b"\n")
    ended = lines[-1] == b""
    if ended:
        lines.pop()
    returns = data.count(b"\r\n")
    before = set(lines) if 2 * returns > len(lines) else None
    change(lines)
    if before is not None:
        whole = (line in before or isinstance(line, _Whole) for line in lines)
        lines = [line if is_whole else line + b"\r" for line, is_whole in zip(lines, whole, strict=True)]
        if not ended and lines:
            lines[-1] = lines[-1].removesuffix(b"\r")
    return b"\n".join([*lines, b""] if ended and lines else lines)


class _Numbered:
    """How many lines end before some places of a text."""

    FAR = 2048  # bytes; what is nearer to a known place is counted from there again

    def __init__(self, data: bytes) -> None:
        self.data = data
        self._places, self._ended = [0], [0]

    def line(self, at: int) -> int:
        behind = bisect_right(self._places, at)
        place = self._places[behind - 1]
        if at - place < self.FAR:
            return self._ended[behind - 1] + self.data.count(b"\n", place, at) + 1
        if behind < len(self._places) and self._places[behind] - at < at - place:
            ended = self._ended[behind] - self.data.count(b"\n", at, self._places[behind])
        else:
            ended = self._ended[behind - 1] + self.data.count(b"\n", place, at)
        self._places.insert(behind, at)
        self._ended.insert(behind, ended)
        return ended + 1


_numbered = _Numbered(b"")


def line_of(data: bytes, at: int) -> int:
    """The line, from 1, in which a place of a text stands.

    Counting lines is a good part of all the reading, so what was counted last in the same text is kept.
    """
    global _numbered
    if _numbered.data is not data:
        _numbered = _Numbered(data)
    return _numbered.line(at)


def lines_with(data: bytes, text: bytes, behind: Container[bytes]) -> Iterator[tuple[int, int]]:
    """Where lines begin and end that hold `text` as a word of its own, or with a '/' after it, behind a word."""
    at = data.find(text)
    while at >= 0:
        if data[at + len(text) : at + len(text) + 1].isalnum() or data[at - 1 : at].isalnum():
            at = data.find(text, at + 1)
            continue
        if not behind_one(data, at, behind):
            at = data.find(text, at + 1)
            continue
        start, end = data.rfind(b"\n", 0, at) + 1, data.find(b"\n", at)
        if end < 0:
            end = len(data)
        yield start, end
        at = data.find(text, end)


def behind_one(data: bytes, at: int, behind: Container[bytes]) -> bool:
    """Whether one of these words stands right before a place."""
    before = data[max(at - 40, 0) : at].split()
    return bool(before) and before[-1] in behind


def decode(raw: bytes) -> str:
    """Text of a configuration; bytes that are no UTF-8 are replaced, never refused."""
    return raw.decode("utf-8", "replace")


def fine(data: bytes, edits: Sequence[Edit], identity: Identity, style: Style) -> list[Edit]:
    """For shapes whose changes are single statements anyway."""
    return list(edits)


def missing(edit: Edit, join: Callable[[Sequence[str]], str]) -> Refused:
    """What a platform says when there is nothing to remove."""
    return Refused(edit, f"there is no '{shorten(join(edit.words))}' to remove")


def refuse(file: str, line: int, said: str) -> InputError:
    """A mistake in the text of a change."""
    return InputError([Mistake(file, said, line, 1)])
