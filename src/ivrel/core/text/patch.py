"""Unified diffs of files (POSIX diff -u), with no line as context but those that may be shown.

`git apply` takes a hunk that ends in context, or at the end of its file; one that does neither it
takes with `--unidiff-zero` (`delta.py` has another form).
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
    """The diff of one file.

    `is_held`: whether git takes it, and takes it back, without `--unidiff-zero`; `changes`: the
    lines of the old file, from 1, that go.
    """

    text: bytes
    is_held: bool
    changes: frozenset[int]


class _Change(Struct, frozen=True):
    """What changes in one place: the lines from and to, in the old and in the new file, from 0."""

    a: int
    b: int
    c: int
    d: int


class _Hunk(Struct, frozen=True):
    """Neighbouring changes, with the number of lines of context before and behind them."""

    changes: tuple[_Change, ...]
    lead: int
    tail: int

    @property
    def old(self) -> tuple[int, int]:
        """The lines from and to in the old file."""
        return self.changes[0].a - self.lead, self.changes[-1].b + self.tail

    @property
    def new(self) -> tuple[int, int]:
        """The lines from and to in the new file."""
        return self.changes[0].c - self.lead, self.changes[-1].d + self.tail

    def is_held(self, length: int) -> bool:
        """Whether git takes the hunk, and takes it back, without being told to mind no context;
        `length`: the lines of the old file.
        """
        # An empty range behind the first line is one at the beginning of the file to git.
        if (1, 1) in (self.old, self.new):
            return False
        return self.tail > 0 or self.old[1] == length


def patch(
    name: str, before: bytes | None, after: bytes | None, shown: Container[int] = ()
) -> Patch:
    r"""Return the diff that turns a file into another; None is a file that is not there.

    `shown`: the lines of the file, from 1, that may be in it although they do not change.

    >>> print(patch("a.conf", b"one\ntwo\n", b"one\n2\n", range(9)).text.decode(), end="")
    --- a/a.conf
    +++ b/a.conf
    @@ -1,2 +1,2 @@
     one
    -two
    +2
    """
    old = _lines(before)
    new = _lines(after)
    may = [n + 1 in shown or bool(_PLAIN.fullmatch(line)) for n, line in enumerate(old)]
    every = list(_changes(old, new))
    hunks = _with_context(_joined(every, may), may)
    names = (
        NOTHING if before is None else _named(f"a/{name}"),
        NOTHING if after is None else _named(f"b/{name}"),
    )
    out = [f"--- {names[0]}\n+++ {names[1]}\n".encode()]
    for hunk in hunks:
        out += _written(hunk, old, new)
    return Patch(
        b"".join(out) if hunks else b"",
        all(hunk.is_held(len(old)) for hunk in hunks),
        frozenset(n + 1 for change in every for n in range(change.a, change.b)),
    )


def _lines(data: bytes | None) -> list[bytes]:
    if not data:
        return []
    lines = data.split(b"\n")
    return [line + b"\n" for line in lines[:-1]] + ([lines[-1]] if lines[-1] else [])


def _changes(old: Sequence[bytes], new: Sequence[bytes]) -> Iterator[_Change]:
    at = 0
    there = 0
    for a, c, length in (*runs_alike(old, new), (len(old), len(new), 0)):
        if a > at or c > there:
            yield _Change(at, a, there, c)
        at = a + length
        there = c + length


def _joined(changes: Iterable[_Change], may: Sequence[bool]) -> list[list[_Change]]:
    """Return changes, those together that would share context."""
    out: list[list[_Change]] = []
    for change in changes:
        end = out[-1][-1].b if out else -1
        if out and change.a - end <= 2 * CONTEXT and all(may[end : change.a]):
            out[-1].append(change)
        else:
            out.append([change])
    return out


def _with_context(groups: Sequence[Sequence[_Change]], may: Sequence[bool]) -> list[_Hunk]:
    """Return hunks, each with as much context as may be shown.

    Two hunks never share a line: what is context of the earlier is none of the later.
    """
    out: list[_Hunk] = []
    free = 0
    for n, group in enumerate(groups):
        first = group[0].a
        last = group[-1].b
        end = groups[n + 1][0].a if n + 1 < len(groups) else len(may)
        lead = 0
        tail = 0
        while lead < CONTEXT and first - lead - 1 >= free and may[first - lead - 1]:
            lead += 1
        while tail < CONTEXT and last + tail < end and may[last + tail]:
            tail += 1
        free = last + tail
        out.append(_Hunk(tuple(group), lead, tail))
    return out


def _written(hunk: _Hunk, old: Sequence[bytes], new: Sequence[bytes]) -> Iterator[bytes]:
    """Yield the lines of a hunk, its head first."""
    yield f"@@ -{_range(*hunk.old)} +{_range(*hunk.new)} @@\n".encode()
    for mark, line in _marked(hunk, old, new):
        yield mark + line
        if not line.endswith(b"\n"):
            yield b"\n" + _NO_END


def _marked(
    hunk: _Hunk, old: Sequence[bytes], new: Sequence[bytes]
) -> Iterator[tuple[bytes, bytes]]:
    """Yield lines with what is done with each: ' ' stays, '-' goes, '+' comes."""
    at, end = hunk.old
    for change in hunk.changes:
        yield from ((b" ", line) for line in old[at : change.a])
        yield from ((b"-", line) for line in old[change.a : change.b])
        yield from ((b"+", line) for line in new[change.c : change.d])
        at = change.b
    yield from ((b" ", line) for line in old[at:end])


def _range(first: int, last: int) -> str:
    # A range without lines names the line that it follows.
    return f"{first + (last > first)},{last - first}"


def git_name(name: str) -> str:
    """Return the name of a file as a header of Git's own form has it."""
    return _named(f"a/{name}").rstrip("\t")


def _named(name: str) -> str:
    """Return a name as diffs have it: quoted where a sign of it would be misread, and with a tab
    behind one that holds blanks.
    """
    if '"' in name or "\\" in name:
        quoted = name.replace("\\", "\\\\").replace('"', '\\"')
        return f'"{quoted}"'
    return f"{name}\t" if " " in name else name
