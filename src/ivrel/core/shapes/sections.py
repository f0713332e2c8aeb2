"""The shape `sections`: assignments under headers in brackets.

A header's words are divided by dots.

    [collector.1]
    inet = 198.51.100.21

A change holds whole sections, which replace those of the same header; `[drop collector.2]`, with
the dialect's removal word, takes one away.
"""

from __future__ import annotations

import re
from collections.abc import Collection, Container, Iterable, Iterator, Sequence
from functools import lru_cache
from typing import ClassVar

from ivrel.core.shapes.paths import split_path
from ivrel.core.shapes.shape import Edit, Found, Identity, Shape, missing, refuse
from ivrel.core.text.lines import (
    as_before,
    assigned,
    edited_lines,
    in_place_of,
    line_at,
    spacing,
)
from ivrel.core.text.text import Text, decode
from ivrel.core.text.words import Path, Words, quoted, unquoted

_HEADER = re.compile(rb"\[\s*([^\]\n]*?)\s*\]\s*(\S.*)?$")


class Sections(Shape, frozen=True):
    """The shape `sections`, which has no options of its own."""

    LISTS: ClassVar[bool] = True
    ASSIGNS: ClassVar[bool] = True
    ANCHORS: ClassVar[tuple[bytes, bytes, bytes]] = (
        rb"\n[ \t]*+\[?+[ \t]*+",
        rb"[^\s.=\]]++",
        rb"(?:[ \t]*+[.=][ \t]*+|[ \t]++)",
    )

    def split(self, line: str) -> list[str]:
        return _split(line)

    def join(self, words: Sequence[str]) -> str:
        return _join(words)

    def scan(self, text: Text, heads: Sequence[Words]) -> Iterator[Found]:
        data = text.data
        if not heads:
            return
        # Two expressions, since one with an anchor for the start of any line is several times
        # slower over a long text.
        first, behind = _begins(tuple(heads))
        found = first.match(data) or behind.search(data)
        while found:
            # A header behind the first line is found with the line end in front of it.
            at = found.start() + (data[found.start() : found.start() + 1] == b"\n")
            after = _NEXT.search(data, at)
            end = after.start() + 1 if after else len(data)
            yield from _section(data[at:end], text.line_of(at), heads, self)
            found = behind.search(data, found.end())

    def everything(self, text: Text) -> Iterator[Found]:
        return _section(text.data, 1, None, self)

    def part_around(self, text: Text, at: int) -> tuple[int, Iterable[Found]]:
        data = text.data
        start = at
        while True:
            start = data.rfind(b"\n", 0, start) + 1
            if not start or self.begins_anew(line_at(data, start)):
                break
            start -= 1
        after = _NEXT.search(data, start)
        end = after.start() + 1 if after else len(data)
        return end, _section(data[start:end], text.line_of(start), None, self)

    @property
    def apart(self) -> bool:
        return True

    def begins_anew(self, line: bytes) -> bool:
        said = line.strip()
        return said[:1] == b"[" and _header(said, self.comment.encode()) is not None

    def holding(
        self, text: Text, word: bytes, heads: Sequence[Words], behind: Container[bytes]
    ) -> Iterator[Found]:
        if word in text.data:
            yield from (found for found in self.scan(text, heads) if word in found[1])

    def write_change(self, text: Text, edits: Sequence[Edit], identity: Identity) -> str:
        data = text.data
        # A section replaces the one that stands, so a change must hold all of it, as it will be.
        headers = dict.fromkeys(edit.path[0] if edit.path else edit.words for edit in edits)
        after = _sections(Text(self.apply(text, edits, identity)), headers, self)
        out: list[str] = []
        for header in headers:
            if header in after:
                said = (assigned(_join(words), spacing(data)) for words in after[header])
                out += [f"[{'.'.join(header)}]", *said, ""]
            else:
                out += [f"[{self.remove} {'.'.join(header)}]", ""]
        return "".join(line + "\n" for line in out[:-1])

    def read_change(self, text: str, file: str) -> list[Edit]:
        edits: list[Edit] = []
        body: list[Words] = []
        for path, raw, line in _section(text.encode(), 1, None, self):
            words = tuple(_split(decode(raw)))
            if not any(words):
                continue  # signs that count as blanks
            if path:
                if "=" not in words:
                    raise refuse(file, line, "expected 'name = value'")
                if edits[-1].removes:
                    raise refuse(file, line, "a section that goes holds nothing")
                body.append(words)
                edits[-1] = Edit((), edits[-1].words, False, edits[-1].line, tuple(body))
                continue
            if "=" in words:
                raise refuse(file, line, "expected a section's header first")
            body = []
            first, _, rest = words[0].partition(" ")
            removes = first == self.remove
            edits.append(
                Edit(
                    (),
                    (rest, *words[1:]) if removes else words,
                    removes,
                    line,
                    None if removes else (),
                )
            )
        return edits

    def fine(self, text: Text, edits: Sequence[Edit], identity: Identity) -> list[Edit]:
        out: list[Edit] = []
        before = _sections(text, [edit.words for edit in edits if edit.body is not None], self)
        for edit in edits:
            if edit.body is None:
                out.append(edit)
                continue
            path: Path = (edit.words,)
            old = before.get(edit.words, ())
            out += [Edit(path, words, False, edit.line) for words in edit.body if words not in old]
            # What the new section does not say any more, it takes away.
            names = {words[0] for words in edit.body}
            out += [
                Edit(path, words[:1], True, edit.line) for words in old if words[0] not in names
            ]
        return out

    def apply(self, text: Text, edits: Sequence[Edit], identity: Identity) -> bytes:
        data = text.data

        def change(lines: list[bytes]) -> None:
            headers = text.once("headers", lambda: _headers(lines, self))
            sections = _divided(lines, headers)
            for edit in edits:
                _apply(sections, edit, self)
            lines[:] = [line for section in sections for line in section.lines]

        return edited_lines(data, change)


def _split(line: str) -> list[str]:
    name, equals, value = line.partition("=")
    if not equals:
        return split_path(line.strip())
    return [name.strip(), "=", unquoted(value.strip())]


def _join(words: Sequence[str]) -> str:
    if tuple(words[1:2]) == ("=",):
        return f"{words[0]} = {quoted(' '.join(words[2:]))}"
    return ".".join(words)


_NEXT = re.compile(rb"\n[ \t]*\[")


@lru_cache(maxsize=4096)
def _begins(heads: tuple[Words, ...]) -> tuple[re.Pattern[bytes], re.Pattern[bytes]]:
    """Return the expressions for the header of a section with any of these beginnings: the first
    line, and the following ones.
    """
    words = b"|".join(
        re.escape(".".join(head).encode()) for head in sorted(heads, key=len, reverse=True)
    )
    one = rb"[ \t]*+\[[ \t]*+(?:" + words + rb")(?=[.\s\]])"
    return re.compile(one), re.compile(b"\n" + one)


def _section(
    text: bytes, first: int, heads: Sequence[Words] | None, shape: Sections
) -> Iterator[Found]:
    comment = shape.comment.encode()
    path: Path = ()
    for n, raw in enumerate(text.split(b"\n"), first):
        said = raw.strip()
        header = _header(said, comment) if said[:1] == b"[" else None
        if header:
            words = tuple(split_path(decode(header[1])))
            if heads is not None and not any(words[: len(head)] == head for head in heads):
                return
            path = (words,)
            yield (), ".".join(words).encode(), n
        elif said and not said.startswith(comment):
            yield path, said, n


def _header(said: bytes, comment: bytes) -> re.Match[bytes] | None:
    """Return the header that a line with a bracket in front is; only a comment may be behind it."""
    header = _HEADER.match(said)
    return header if header and (not header[2] or header[2].startswith(comment)) else None


def _sections(
    text: Text, headers: Collection[Words], shape: Sections
) -> dict[Words, tuple[Words, ...]]:
    """Return the assignments of the sections with these headers, and perhaps of others."""
    out: dict[Words, tuple[Words, ...]] = {}
    for path, raw, _ in shape.scan(text, list({words[:1] for words in headers})):
        words = tuple(_split(decode(raw)))
        if path:
            out[path[0]] = (*out.get(path[0], ()), words)
        else:
            out.setdefault(words, ())
    return out


class _Section:
    """One section of a text on its way: the lines from its header to the next."""

    def __init__(self, header: Words, lines: list[bytes]) -> None:
        self.header = header
        self.lines = lines

    def members(self, shape: Sections) -> list[tuple[int, Words]]:
        """Return the assignments of the section, with their lines counted from its header."""
        comment = shape.comment.encode()
        said = ((at, raw.strip()) for at, raw in enumerate(self.lines) if at)
        return [
            (at, tuple(_split(decode(raw))))
            for at, raw in said
            if raw and not raw.startswith(comment)
        ]


def _headers(lines: Sequence[bytes], shape: Sections) -> tuple[tuple[int, Words], ...]:
    """Return the lines that are headers, with their words."""
    comment = shape.comment.encode()
    out = []
    for at, raw in enumerate(lines):
        # Most lines are no headers, and need no closer look.
        if b"[" not in raw:
            continue
        said = raw.strip()
        header = _header(said, comment) if said[:1] == b"[" else None
        if header:
            out.append((at, tuple(split_path(decode(header[1])))))
    return tuple(out)


def _divided(lines: Sequence[bytes], headers: Sequence[tuple[int, Words]]) -> list[_Section]:
    """Return the sections of a text; what precedes the first header has none."""
    begins = ((0, ()), *headers)
    ends = (*(at for at, _ in headers), len(lines))
    return [
        _Section(words, list(lines[at:end])) for (at, words), end in zip(begins, ends, strict=True)
    ]


def _apply(sections: list[_Section], edit: Edit, shape: Sections) -> None:
    header = edit.path[0] if edit.path else edit.words
    every = [one for one in sections[1:] if one.header == header]
    if edit.removes and not every:
        raise missing(edit, _join if edit.path else ".".join)
    if edit.removes and not edit.path:
        for one in every:
            sections.remove(one)
    elif edit.body is not None:
        # The last section of a header takes the place of all others.
        for one in every[:-1]:
            sections.remove(one)
        _rewrite(every[-1] if every else _added(sections, header), edit.body, shape)
    else:
        _set(every or [_added(sections, header)], edit, shape)


def _added(sections: list[_Section], header: Words) -> _Section:
    """Return a new section at the end."""
    # Behind sections that went, the text may end in one without lines.
    last = next((one for one in reversed(sections) if one.lines), None)
    if last is not None and last.lines[-1].strip():
        last.lines.append(b"")
    sections.append(_Section(header, [f"[{'.'.join(header)}]".encode()]))
    return sections[-1]


def _set(sections: Sequence[_Section], edit: Edit, shape: Sections) -> None:
    """Set or remove an assignment, which may be in any of the sections of its header."""
    members = [(one, at, words) for one in sections for at, words in one.members(shape)]
    hits = [(one, at) for one, at, words in members if words[:1] == edit.words[:1]]
    if edit.removes:
        if not hits:
            raise missing(edit, _join)
        # From the end, so that the numbers of lines further up stay true.
        for one, at in reversed(hits):
            del one.lines[at]
    elif hits:
        # Of several assignments of a name the last holds.
        one, at = hits[-1]
        one.lines[at] = in_place_of(one.lines[at], as_before(one.lines[at], _join(edit.words)))
    else:
        one, at = members[-1][:2] if members else (sections[-1], 0)
        one.lines.insert(at + 1, _join(edit.words).encode())


def _rewrite(section: _Section, body: Sequence[Words], shape: Sections) -> None:
    """Give a section its new assignments.

    Those that stay keep their lines, as comments and empty lines do.
    """
    # A name may be assigned several times, each time another value.
    wanted: dict[str, list[Words]] = {}
    for words in body:
        wanted.setdefault(words[0], []).append(words)
    lines = section.lines
    last = 0
    gone: list[int] = []
    for at, words in section.members(shape):
        of_name = wanted.get(words[0], [])
        if not of_name:
            gone.append(at)
            continue
        new = of_name.pop(of_name.index(words) if words in of_name else 0)
        last = at
        if new != words:
            lines[at] = in_place_of(lines[at], as_before(lines[at], _join(new)))
    added = [words for of_name in wanted.values() for words in of_name]
    lines[last + 1 : last + 1] = [_join(words).encode() for words in added]
    for at in reversed(gone):
        del lines[at + (len(added) if at > last else 0)]
