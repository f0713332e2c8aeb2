"""Unified diffs of files (POSIX diff -u), with no line as context but those that may be shown.

`git apply` takes a hunk that ends in context, or at the end of its file; one that does neither it
takes with `--unidiff-zero`.
"""

from __future__ import annotations

import re
from collections.abc import Container, Iterable, Iterator, Sequence

from msgspec import Struct

from ivrel.core.text.alike import runs_alike

CONTEXT = 3  # lines on each side of a change, at most
NOTHING = "/dev/null"
_NO_END = b"\\ No newline at end of file\n"
_PLAIN = re.compile(rb"[\s{}()\[\],;]*")  # signs alone say nothing of a configuration


class Patch(Struct, frozen=True):
    """The diff of one file; `is_held`: whether each of its hunks ends in context or with the
    file; `changes`: the lines of the old file, from 1, that go.
    """

    text: bytes
    is_held: bool
    changes: frozenset[int]


class _Hunk(Struct):
    """What changes in one place: the lines from and to, in the old and in the new file, from 0."""

    a: int
    b: int
    c: int
    d: int


def patch(
    name: str, before: bytes | None, after: bytes | None, shown: Container[int] = ()
) -> Patch:
    """Return the diff that turns a file into another; None is a file that is not there.

    `shown`: the lines of the file, from 1, that may stand in it although they do not change.
    """
    old, new = _lines(before), _lines(after)
    may = [n + 1 in shown or bool(_PLAIN.fullmatch(line)) for n, line in enumerate(old)]
    hunks = _with_context(_joined(_changes(old, new), may), may)
    names = (
        NOTHING if before is None else _named(f"a/{name}"),
        NOTHING if after is None else _named(f"b/{name}"),
    )
    out = [f"--- {names[0]}\n+++ {names[1]}\n".encode()]
    is_held = True
    for h, (lead, tail) in hunks:
        out += _written(h, old, new, lead, tail)
        is_held = is_held and (tail > 0 or h.b == len(old)) and not _seems_first(h, lead, tail)
    changes = frozenset(n + 1 for h in _changes(old, new) for n in range(h.a, h.b))
    return Patch(b"".join(out) if hunks else b"", is_held, changes)


def _lines(data: bytes | None) -> list[bytes]:
    if not data:
        return []
    lines = data.split(b"\n")
    return [line + b"\n" for line in lines[:-1]] + ([lines[-1]] if lines[-1] else [])


def _changes(old: Sequence[bytes], new: Sequence[bytes]) -> Iterator[_Hunk]:
    at, there = 0, 0
    for a, c, length in (*runs_alike(old, new), (len(old), len(new), 0)):
        if a > at or c > there:
            yield _Hunk(at, a, there, c)
        at, there = a + length, c + length


def _joined(hunks: Iterable[_Hunk], may: Sequence[bool]) -> list[_Hunk]:
    """Return hunks, those that would share context as one."""
    out: list[_Hunk] = []
    for h in hunks:
        last = out[-1] if out else None
        if last is not None and h.a - last.b <= 2 * CONTEXT and all(may[last.b : h.a]):
            last.b, last.d = h.b, h.d
        else:
            out.append(h)
    return out


def _with_context(
    hunks: Sequence[_Hunk], may: Sequence[bool]
) -> list[tuple[_Hunk, tuple[int, int]]]:
    """Return hunks with how many lines of context stand before and behind each.

    Two hunks never share a line: what is context of the earlier is none of the later.
    """
    out: list[tuple[_Hunk, tuple[int, int]]] = []
    free = 0
    for n, h in enumerate(hunks):
        end = hunks[n + 1].a if n + 1 < len(hunks) else len(may)
        lead, tail = 0, 0
        while lead < CONTEXT and h.a - lead - 1 >= free and may[h.a - lead - 1]:
            lead += 1
        while tail < CONTEXT and h.b + tail < end and may[h.b + tail]:
            tail += 1
        free = h.b + tail
        out.append((h, (lead, tail)))
    return out


def _written(
    h: _Hunk, old: Sequence[bytes], new: Sequence[bytes], lead: int, tail: int
) -> Iterator[bytes]:
    """Yield the lines of a hunk, its head first."""
    a, b, c, d = h.a - lead, h.b + tail, h.c - lead, h.d + tail
    yield f"@@ -{_range(a, b)} +{_range(c, d)} @@\n".encode()
    for mark, line in _marked(old[a:b], new[c:d]):
        yield mark + line
        if not line.endswith(b"\n"):
            yield b"\n" + _NO_END


def _marked(old: Sequence[bytes], new: Sequence[bytes]) -> Iterator[tuple[bytes, bytes]]:
    """Yield lines with what is done with each: ' ' stays, '-' goes, '+' comes."""
    at, there = 0, 0
    for a, c, length in (*runs_alike(old, new), (len(old), len(new), 0)):
        yield from ((b"-", line) for line in old[at:a])
        yield from ((b"+", line) for line in new[there:c])
        yield from ((b" ", line) for line in old[a : a + length])
        at, there = a + length, c + length


def _seems_first(h: _Hunk, lead: int, tail: int) -> bool:
    """Whether git takes a hunk for one at the beginning of the file, which it is not: it holds no
    line of the file and stands behind the first.
    """
    return h.a - lead == h.b + tail == 1


def _range(first: int, last: int) -> str:
    # A range without lines names the line that it stands behind.
    return f"{first + (last > first)},{last - first}"


def _named(name: str) -> str:
    """Return a name as diffs have it: quoted where a sign of it would be misread, and with a tab
    behind one that holds blanks.
    """
    if '"' in name or "\\" in name:
        quoted = name.replace("\\", "\\\\").replace('"', '\\"')
        return f'"{quoted}"'
    return f"{name}\t" if " " in name else name
