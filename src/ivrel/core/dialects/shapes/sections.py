"""The shape `sections`: assignments under headers in brackets; a header's words are divided by dots.

    [collector.1]
    inet = 198.51.100.21

A change holds whole sections, which replace those of the same header; `[drop collector.2]`, with the
dialect's removal word, takes one away.
"""

from __future__ import annotations

import re
from collections.abc import Container, Iterator, Sequence

from ivrel.core.dialects.shapes.base import (
    Edit,
    Found,
    Identity,
    Path,
    Style,
    Words,
    decode,
    edited_lines,
    line_of,
    lines_with,
    missing,
    refuse,
    starts,
)
from ivrel.core.dialects.shapes.paths import split as split_path

__all__ = ["ATOMIC", "apply", "everything", "fine", "holding", "join", "read_change", "scan", "split", "write_change"]

ATOMIC = False

_HEADER = re.compile(rb"\[([^\]\n]*)\]\s*$")


def split(line: str) -> list[str]:
    name, equals, value = line.partition("=")
    if not equals:
        return split_path(line.strip())
    return [name.strip(), "=", _unquoted(value.strip())]


def _unquoted(value: str) -> str:
    return value[1:-1] if len(value) > 1 and value[0] == value[-1] == '"' else value


def join(words: Sequence[str]) -> str:
    return f"{words[0]} = {' '.join(words[2:])}" if tuple(words[1:2]) == ("=",) else ".".join(words)


def scan(data: bytes, heads: Sequence[Words], style: Style) -> Iterator[Found]:
    begins = {b"[" + ".".join(head).encode(): head for head in heads}
    for at, begin in starts(data, tuple(begins)):
        end = data.find(b"\n[", at) + 1 or len(data)
        yield from _section(data[at:end], line_of(data, at), (begins[begin],), style)


def _section(text: bytes, first: int, heads: Sequence[Words] | None, style: Style) -> Iterator[Found]:
    comment = style.comment.encode()
    path: Path = ()
    for n, raw in enumerate(text.split(b"\n"), first):
        said = raw.strip()
        header = _HEADER.match(said)
        if header:
            words = tuple(split_path(decode(header[1])))
            if heads is not None and not any(words[: len(head)] == head for head in heads):
                return
            path = (words,)
            yield (), ".".join(words).encode(), n
        elif said and not said.startswith(comment):
            yield path, said, n


def everything(data: bytes, style: Style) -> Iterator[Found]:
    return _section(data, 1, None, style)


def holding(
    data: bytes, text: bytes, heads: Sequence[Words], style: Style, behind: Container[bytes]
) -> Iterator[Found]:
    for at in dict.fromkeys(data.rfind(b"\n[", 0, start) + 1 for start, _ in lines_with(data, text, behind)):
        end = data.find(b"\n[", at) + 1 or len(data)
        line = line_of(data, at)
        yield from (found for found in _section(data[at:end], line, heads, style) if text in found[1])


def write_change(data: bytes, edits: Sequence[Edit], identity: Identity, style: Style) -> str:
    after = _sections(apply(data, edits, identity, style), style)
    out: list[str] = []
    for header in dict.fromkeys(edit.path[0] if edit.path else edit.words for edit in edits):
        if header in after:
            out += [f"[{'.'.join(header)}]", *(join(words) for words in after[header]), ""]
        else:
            out += [f"[{style.remove} {'.'.join(header)}]", ""]
    return "".join(line + "\n" for line in out[:-1])


def read_change(text: str, file: str, style: Style) -> list[Edit]:
    edits: list[Edit] = []
    body: list[Words] = []
    for path, raw, line in _section(text.encode(), 1, None, style):
        words = tuple(split(decode(raw)))
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
        removes = first == style.remove
        edits.append(Edit((), (rest, *words[1:]) if removes else words, removes, line, None if removes else ()))
    return edits


def fine(data: bytes, edits: Sequence[Edit], identity: Identity, style: Style) -> list[Edit]:
    out: list[Edit] = []
    before = _sections(data, style)
    for edit in edits:
        if edit.body is None:
            out.append(edit)
            continue
        path: Path = (edit.words,)
        old = before.get(edit.words, ())
        out += [Edit(path, words, False, edit.line) for words in edit.body if words not in old]
        names = {words[0] for words in edit.body}
        out += [Edit(path, words[:1], True, edit.line) for words in old if words[0] not in names]
    return out


def _sections(data: bytes, style: Style) -> dict[Words, tuple[Words, ...]]:
    out: dict[Words, tuple[Words, ...]] = {}
    for path, raw, _ in everything(data, style):
        words = tuple(split(decode(raw)))
        if path:
            out[path[0]] = (*out.get(path[0], ()), words)
        else:
            out.setdefault(words, ())
    return out


def apply(data: bytes, edits: Sequence[Edit], identity: Identity, style: Style) -> bytes:
    def change(lines: list[bytes]) -> None:
        for edit in edits:
            _apply(lines, edit, style)

    return edited_lines(data, change)


def _apply(lines: list[bytes], edit: Edit, style: Style) -> None:
    header = edit.path[0] if edit.path else edit.words
    found = _find(lines, header)
    if edit.removes and not edit.path:
        if found is None:
            raise missing(edit, ".".join)
        del lines[found[0] : found[1]]
        return
    if found is None:
        if edit.removes:
            raise missing(edit, join)
        if lines and lines[-1].strip():
            lines.append(b"")
        lines.append(f"[{'.'.join(header)}]".encode())
        found = len(lines) - 1, len(lines)
    first, stop = found
    if edit.body is not None:
        lines[first + 1 : stop] = [*(join(words).encode() for words in edit.body), *_rest(lines, first, stop)]
        return
    members = [
        (at, tuple(split(decode(lines[at]))))
        for at in range(first + 1, stop)
        if lines[at].strip() and not lines[at].strip().startswith(style.comment.encode())
    ]
    hits = [at for at, words in members if words[:1] == edit.words[:1]]
    if edit.removes:
        if not hits:
            raise missing(edit, join)
        for at in reversed(hits):
            del lines[at]
    elif hits:
        lines[hits[-1]] = join(edit.words).encode()
    else:
        lines.insert(members[-1][0] + 1 if members else first + 1, join(edit.words).encode())


def _find(lines: list[bytes], header: Words) -> tuple[int, int] | None:
    """The lines of the last section with a header: its first, and the one behind its last."""
    found = None
    for at, raw in enumerate(lines):
        match = _HEADER.match(raw.strip())
        if match:
            if found is not None and found[1] < 0:
                found = found[0], at
            if tuple(split_path(decode(match[1]))) == header:
                found = at, -1
    return None if found is None else (found[0], len(lines) if found[1] < 0 else found[1])


def _rest(lines: list[bytes], first: int, stop: int) -> list[bytes]:
    """The empty lines at a section's end."""
    at = stop
    while at > first + 1 and not lines[at - 1].strip():
        at -= 1
    return lines[at:stop]
