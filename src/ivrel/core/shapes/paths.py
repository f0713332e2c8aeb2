"""The shape `paths`: one assignment a line, the name on its left a path of words divided by dots.

    journal.target.beacon-a.inet = 198.51.100.21

A change assigns again; a line that begins with the removal word takes away everything below a path.
"""

from __future__ import annotations

import re
from collections.abc import Collection, Container, Iterable, Iterator, Sequence
from functools import lru_cache
from typing import ClassVar

from ivrel.core.shapes.shape import Edit, Found, Identity, Shape, missing, refuse
from ivrel.core.text.lines import (
    as_before,
    assigned,
    edited_parts,
    in_place_of,
    lines_with,
    next_line,
    spacing,
)
from ivrel.core.text.text import Text, decode
from ivrel.core.text.words import Words, quoted, unquoted


class Paths(Shape, frozen=True):
    """The shape `paths`, which has no options of its own."""

    LISTS: ClassVar[bool] = True
    NEGATES: ClassVar[bool] = True
    ASSIGNS: ClassVar[bool] = True
    ANCHORS: ClassVar[tuple[bytes, bytes, bytes]] = (
        rb"\n[ \t]*+",
        rb"[^\s.=]++",
        rb"(?:[ \t]*+[.=][ \t]*+|[ \t]++)",
    )

    def split(self, line: str) -> list[str]:
        return split_path(line)

    def join(self, words: Sequence[str]) -> str:
        return join_path(words)

    def negation_of(self, words: Words) -> Words:
        word = self.negation or self.remove
        return (f"{word} {words[0]}", *words[1:]) if words else (word,)

    def scan(self, text: Text, heads: Sequence[Words]) -> Iterator[Found]:
        data = text.data
        begins = tuple(join_path(head).encode() for head in heads)
        if not begins:
            return
        for run in _runs(data, begins):
            lines = run[0].removesuffix(b"\n").split(b"\n")
            for line, raw in enumerate(lines, text.line_of(run.start())):
                yield (), raw.strip(), line

    def holding(
        self, text: Text, word: bytes, heads: Sequence[Words], behind: Container[bytes]
    ) -> Iterator[Found]:
        data = text.data
        begins = tuple(join_path(head).encode() for head in heads)
        if not begins:
            return
        run, _ = _run(begins)
        for start, end in lines_with(data, word, behind):
            if run.match(data, start, end):
                yield (), data[start:end].strip(), text.line_of(start)

    def everything(self, text: Text) -> Iterator[Found]:
        comment = self.comment.encode()
        for n, raw in enumerate(text.data.split(b"\n"), 1):
            said = raw.strip()
            if said and not said.startswith(comment):
                yield (), said, n

    def part_around(self, text: Text, at: int) -> tuple[int, Iterable[Found]]:
        data = text.data
        start = data.rfind(b"\n", 0, at) + 1
        end = next_line(data, at)
        # The lines behind it that begin with the same word are looked at together with it.
        first = data[start:end].lstrip(_BLANKS).partition(b".")[0].partition(b"=")[0]
        while first.strip() and end < len(data) and data.startswith(first, end):
            end = next_line(data, end)
        comment = self.comment.encode()
        said = (
            ((), raw.strip(), line)
            for line, raw in enumerate(data[start:end].split(b"\n"), text.line_of(start))
        )
        return end, (one for one in said if one[1] and not one[1].startswith(comment))

    @property
    def apart(self) -> bool:
        return True

    def begins_anew(self, line: bytes) -> bool:
        return True

    def write_change(self, text: Text, edits: Sequence[Edit], identity: Identity) -> str:
        equals = spacing(text.data)
        said = (
            f"{self.remove} {join_path(e.words)}"
            if e.removes
            else assigned(join_path(e.words), equals)
            for e in edits
        )
        return "".join(f"{line}\n" for line in said)

    def read_change(self, text: str, file: str) -> list[Edit]:
        edits: list[Edit] = []
        for _, raw, line in self.everything(Text(text.encode())):
            said = decode(raw)
            first, _, rest = said.partition(" ")
            if first == self.remove:
                if not rest.strip():
                    raise refuse(file, line, f"'{self.remove}' without the path to remove")
                edits.append(Edit((), tuple(split_path(rest)), True, line))
            elif "=" in said or self.negated(tuple(split_path(said))):
                edits.append(Edit((), tuple(split_path(said)), False, line))
            else:
                raise refuse(file, line, f"expected 'path = value' or '{self.remove} path'")
        return edits

    def apply(self, text: Text, edits: Sequence[Edit], identity: Identity) -> bytes:
        data = text.data
        equals = spacing(data)

        def change(parts: list[list[bytes]]) -> None:
            editing = _Editing(parts[0], self.firsts(data, edits), self)
            for edit in edits:
                editing.carry_out(edit, equals)
            at_end = editing.at_end()
            parts[0][:] = editing.lines()
            parts[-1] += at_end

        return edited_parts(data, _places(data, self.firsts(data, edits)), change)

    def firsts(self, data: bytes, edits: Sequence[Edit]) -> set[str]:
        """Return the first words of the lines of a text that edits may be about: of those that they
        name, and of their negations.
        """
        names = {
            words[0] for edit in edits for words in (edit.words, self.negated(edit.words)) if words
        }
        if (self.negation or self.remove).encode() not in data:
            return names
        return names | {self.negation_of((name,))[0] for name in names}

    def name_of(self, words: Words) -> Words:
        """Return the name that an assignment has, with its sign; the same of its negation.

        >>> Paths(remove="no").name_of(("no events", "facility"))
        ('events', 'facility', '=')
        """
        negated = self.negated(words)
        said = negated or words
        if "=" in said:
            return said[: said.index("=") + 1]
        return (*said, "=") if negated else said


def split_path(line: str) -> list[str]:
    """Return the words of an assignment: those of its path, the sign, the value."""
    left, equals, right = line.partition("=")
    words = [word.strip() for word in left.strip().split(".")]
    return [*words, "=", unquoted(right.strip())] if equals else words


def join_path(words: Sequence[str]) -> str:
    """Return an assignment of these words, or the beginning of one."""
    if "=" not in words:
        return ".".join(words)
    at = list(words).index("=")
    return f"{'.'.join(words[:at])} = {quoted(' '.join(words[at + 1 :]))}"


def _runs(data: bytes, begins: tuple[bytes, ...]) -> Iterator[re.Match[bytes]]:
    """Yield the lines that begin with any of these, indented or not, those together that follow one
    another.
    """
    # What belongs together mostly stands together: then nothing has to be searched or counted.
    run, behind = _run(begins)
    found = run.match(data) or _next(data, begins, run, behind, 0)
    while found:
        yield found
        found = _next(data, begins, run, behind, found.end() - 1)


def _next(
    data: bytes,
    begins: tuple[bytes, ...],
    run: re.Pattern[bytes],
    behind: re.Pattern[bytes],
    at: int,
) -> re.Match[bytes] | None:
    """Return the lines that follow one another behind the next end of a line; `behind`: finds where
    the first of them begins.
    """
    if len(begins) > 1:
        found = behind.search(data, at)
        return run.match(data, found.start() + 1) if found else None
    # A single beginning is found much faster without a pattern.
    (begin,) = begins
    place = data.find(begin, at)
    while place >= 0:
        start = data.rfind(b"\n", at, place)
        if start >= 0 and not data[start + 1 : place].strip(_BLANKS):
            found = run.match(data, start + 1)
            # A name that only begins alike is another one.
            if found:
                return found
        place = data.find(begin, next_line(data, place))
    return None


_BLANKS = b" \t\r\x0b\x0c"


@lru_cache(maxsize=4096)
def _run(begins: tuple[bytes, ...]) -> tuple[re.Pattern[bytes], re.Pattern[bytes]]:
    """Return the expressions for consecutive lines with any of these beginnings, indented or not,
    and for the start of one.
    """
    # A negation may name its path alone; a blank tells one.
    ends = {False: rb"(?=[ \t]*+[.=])", True: rb"(?=[ \t]*+(?:[.=]|\r?(?:\n|$)))"}
    either = b"|".join(re.escape(begin) + ends[b" " in begin] for begin in begins)
    one = b"[" + _BLANKS + b"]*+(?:" + either + b")"
    return re.compile(b"(?:" + one + b"[^\n]*+(?:\n|$))++"), re.compile(b"\n" + one)


def _places(data: bytes, firsts: Collection[str]) -> list[tuple[int, int]]:
    """Return the span of the lines that begin with some words, and that of the end of the text.

    A new line goes to the end if it begins like none of those lines.
    """
    whole = (0, len(data))
    # A last line without an end is one of the whole text.
    if not data.endswith(b"\n"):
        return [whole]
    begins = tuple(first.encode() for first in firsts)
    runs = [run.span() for run in _runs(data, begins)] if begins else []
    return [(runs[0][0], runs[-1][1]) if runs else (0, 0), (len(data), len(data))]


class _Line:
    """A line that an edit may be about.

    `at`: its number in the text; of one that is new, that of the line which it follows;
    `words`: the line in words; `gone`: whether it has been removed.
    """

    __slots__ = ("at", "gone", "raw", "words")

    def __init__(self, at: int, raw: bytes) -> None:
        self.at = at
        self.raw = raw
        self.gone = False
        self.words: Words = tuple(split_path(decode(raw)))


class _Editing:
    """Lines on their way through edits; only those that begin with some words are looked at."""

    def __init__(self, lines: list[bytes], firsts: Collection[str], shape: Paths) -> None:
        self._whole = lines
        self._shape = shape
        begin, _ = _run(tuple(first.encode() for first in firsts))
        self._about = [at for at, raw in enumerate(lines) if begin.match(raw)]
        self._lines = [_Line(at, lines[at]) for at in self._about]
        # The lines that begin with some words, and those of a name, in the order of the text.
        self._beginnings: dict[Words, dict[_Line, None]] = {}
        self._names: dict[Words, dict[_Line, None]] = {}
        for line in self._lines:
            self._index(line)

    def _index(self, line: _Line) -> None:
        for length in range(1, len(line.words) + 1):
            self._beginnings.setdefault(line.words[:length], {})[line] = None
        self._names.setdefault(self._shape.name_of(line.words), {})[line] = None

    def _forget(self, line: _Line) -> None:
        for length in range(1, len(line.words) + 1):
            del self._beginnings[line.words[:length]][line]
        del self._names[self._shape.name_of(line.words)][line]

    def carry_out(self, edit: Edit, equals: str) -> None:
        """Carry out an edit; Refused if there is nothing to remove."""
        if edit.removes:
            hits = list(self._beginnings.get(edit.words, ()))
            if not hits:
                raise missing(edit, join_path)
            for line in hits:
                self._forget(line)
                line.gone = True
            return
        said = assigned(join_path(edit.words), equals)
        name = self._shape.name_of(edit.words)
        # Of several lines of one name the last holds; it keeps its place.
        last = next(reversed(self._names.get(name, {})), None)
        if last is not None:
            self._forget(last)
            last.raw = in_place_of(last.raw, as_before(last.raw, said))
            last.words = tuple(split_path(decode(last.raw)))
            self._index(last)
            return
        place = self._behind(name)
        new = _Line(self._lines[place - 1].at if place else len(self._whole), said.encode())
        self._lines.insert(place or len(self._lines), new)
        self._index(new)

    def _behind(self, name: Words) -> int:
        """Return where a new assignment goes: behind the last one that shares the longest beginning
        with it; 0 if none shares any, and it goes to the end.
        """
        length = len(name)
        while length and not self._beginnings.get(name[:length]):
            length -= 1
        if not length:
            return 0
        alike = self._beginnings[name[:length]]
        behind = range(len(self._lines), 0, -1)
        return next(n for n in behind if self._lines[n - 1] in alike)

    def at_end(self) -> list[bytes]:
        """Return the lines that are new and are at the end."""
        return [line.raw for line in self._left() if line.at == len(self._whole)]

    def _left(self) -> Iterator[_Line]:
        return (line for line in self._lines if not line.gone)

    def lines(self) -> list[bytes]:
        """Return all other lines as they are now."""
        now: dict[int, list[bytes]] = {at: [] for at in (*self._about, len(self._whole))}
        for line in self._left():
            now[line.at].append(line.raw)
        out: list[bytes] = []
        copied = 0
        for at in self._about:
            out += self._whole[copied:at]
            out += now[at]
            copied = at + 1
        return [*out, *self._whole[copied:]]
