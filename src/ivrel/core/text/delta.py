"""Deltas of files, as `git apply` takes them: what changes and nothing that stays.

A delta says which bytes of the old file are copied, by their places, and which are put in. So a
change can be told of a line whose rest must not be shown, and without lines of context. The form is
that of Git's documentation (gitformat-pack, "deltified representation"), in base 85.
"""

from __future__ import annotations

import base64
import hashlib
import re
import zlib
from collections.abc import Iterator

from ivrel.core.text.alike import runs_alike

MOST_WORDS = 4_000  # words of lines that change, up to which they are compared one by one

_LONGEST_COPY = 0xFFFF
_LONGEST_INSERT = 127
_BYTES_OF_LINE = 52  # bytes of compressed data that a line holds
_LINES = re.compile(rb"\n|[^\n]+\n?")
# Bytes that are no ASCII are of words: a secret may be in any language.
_WORDS = re.compile(rb"[\w\x80-\xff]+|[^\w\x80-\xff]")
_WORD = re.compile(rb"[\w\x80-\xff]+")


def git_delta(name: str, before: bytes, after: bytes) -> bytes:
    """Return the delta from a file to another one for `git apply`, and back for `git apply -R`.

    `name`: that of the file, quoted where it must be.
    """
    head = f"diff --git {name} {name.replace('a/', 'b/', 1)}\n"
    head += f"index {_blob(before)}..{_blob(after)}\nGIT binary patch\n"
    return head.encode() + _hunk(before, after) + _hunk(after, before)


def words_put_in(before: bytes, after: bytes) -> set[bytes]:
    """Return the words that `git_delta` puts in, there and back; all others are copied.

    >>> sorted(words_put_in(b"key k1, level error", b"key k1, level notice"))
    [b'error', b'notice']
    """
    out: set[bytes] = set()
    for one, other in ((before, after), (after, before)):
        done = 0
        for _, there, length in (*_alike(one, other), (0, len(other), 0)):
            out |= words_of(other[done:there])
            done = there + length
    return out


def words_of(data: bytes) -> set[bytes]:
    """Return the words of a text, signs aside."""
    return set(_WORD.findall(data))


def _blob(data: bytes) -> str:
    """Return Git's name for the content of a file."""
    return hashlib.sha1(b"blob %d\0" % len(data) + data, usedforsecurity=False).hexdigest()


def _hunk(before: bytes, after: bytes) -> bytes:
    delta = b"".join((_size(len(before)), _size(len(after)), *_steps(before, after)))
    packed = zlib.compress(delta)
    out = [b"delta %d\n" % len(delta)]
    for at in range(0, len(packed), _BYTES_OF_LINE):
        part = packed[at : at + _BYTES_OF_LINE]
        sign = len(part) + (64 if len(part) <= 26 else 70)  # A to Z, then a to z
        out.append(bytes([sign]) + base64.b85encode(part, pad=True) + b"\n")
    return b"".join((*out, b"\n"))


def _size(number: int) -> bytes:
    """Return a number in groups of seven bits, the lowest first."""
    out = bytearray()
    while number > 0x7F:
        out.append(number & 0x7F | 0x80)
        number >>= 7
    out.append(number)
    return bytes(out)


def _steps(before: bytes, after: bytes) -> Iterator[bytes]:
    """Yield the steps that make the new file: copies out of the old one, and what is put in."""
    done = 0
    for begin, there, length in _alike(before, after):
        yield from _inserts(after[done:there])
        yield from _copies(begin, length)
        done = there + length
    yield from _inserts(after[done:])


def _copies(begin: int, length: int) -> Iterator[bytes]:
    for at in range(begin, begin + length, _LONGEST_COPY):
        size = min(_LONGEST_COPY, begin + length - at)
        # All four bytes of the place, and two of the length.
        yield b"\xbf" + at.to_bytes(4, "little") + size.to_bytes(2, "little")


def _inserts(data: bytes) -> Iterator[bytes]:
    for at in range(0, len(data), _LONGEST_INSERT):
        part = data[at : at + _LONGEST_INSERT]
        yield bytes([len(part)]) + part


def _alike(before: bytes, after: bytes) -> Iterator[tuple[int, int, int]]:
    """Yield the ranges of equal bytes: in lines that stay, and in words of lines that change."""
    old = _LINES.findall(before)
    new = _LINES.findall(after)
    at = 0
    there = 0
    done = 0
    done_there = 0
    runs = sorted(runs_alike(old, new), key=lambda run: run[1])
    for a, c, length in (*runs, (len(old), len(new), 0)):
        gone = b"".join(old[done:a])
        come = b"".join(new[done_there:c])
        for begin, to, size in _words_alike(gone, come):
            yield at + begin, there + to, size
        at = at + len(gone)
        there = there + len(come)
        size = sum(map(len, old[a : a + length]))
        if size:
            yield at, there, size
        at = at + size
        there = there + size
        done = a + length
        done_there = c + length


def _words_alike(gone: bytes, come: bytes) -> Iterator[tuple[int, int, int]]:
    old = _WORDS.findall(gone)
    new = _WORDS.findall(come)
    if len(old) + len(new) > MOST_WORDS:
        yield from _ends_alike(gone, come)
        return
    at = [0]
    for word in old:
        at.append(at[-1] + len(word))
    there = [0]
    for word in new:
        there.append(there[-1] + len(word))
    for a, c, length in sorted(runs_alike(old, new), key=lambda run: run[1]):
        yield at[a], there[c], at[a + length] - at[a]


def _ends_alike(gone: bytes, come: bytes) -> Iterator[tuple[int, int, int]]:
    """Yield what two texts begin and end with alike."""
    most = min(len(gone), len(come))
    begin = next((n for n in range(most) if gone[n] != come[n]), most)
    rest = range(1, most - begin + 1)
    end = next((n - 1 for n in rest if gone[-n] != come[-n]), most - begin)
    yield 0, 0, begin
    yield len(gone) - end, len(come) - end, end
