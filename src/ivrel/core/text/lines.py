"""Lines of a text: found by what is in them, and changed so that all others stay as they were."""

from __future__ import annotations

import re
from collections.abc import Callable, Container, Iterator, Sequence

from ivrel.core.text.text import decode
from ivrel.core.text.words import quoted, unquoted

FAR_BEFORE = 40  # bytes before a value in which the word before it ends


def line_end(data: bytes) -> bytes:
    r"""Return the line end of a text.

    >>> line_end(b"a\r\nb\r\n")
    b'\r\n'
    """
    return b"\r\n" if b"\r\n" in data[:65536] else b"\n"


def spacing(data: bytes) -> str:
    r"""Return the sign and blanks between a name and its value in the assignments of a text.

    >>> spacing(b"a=1\nb=2\n"), spacing(b"a = 1\n")
    ('=', ' = ')
    """
    found = re.search(rb"^[ \t]*[\w.\-]+([ \t]*=[ \t]*)\S", data, re.MULTILINE)
    return decode(found[1]) if found else " = "


def assigned(text: str, equals: str) -> str:
    """Return an assignment with other blanks around its sign."""
    name, sign, value = text.partition(" = ")
    return f"{name}{equals}{value}" if sign else text


def as_before(old: bytes, text: str) -> str:
    """Return an assignment with the blanks and the quotes of the one whose place it takes."""
    sign = re.match(rb"[^=]*?([ \t]*=[ \t]*)", old)
    name, assigns, value = text.partition("=")
    if sign is None or not assigns:
        return text
    stood = decode(old).partition("=")[2].strip()
    in_quotes = unquoted(stood) != stood
    said = quoted(unquoted(value.strip()), always=in_quotes)
    return f"{name.rstrip()}{decode(sign[1])}{said}"


class _Whole(bytes):
    """A line that ends as it is to end."""


def in_place_of(old: bytes, text: str) -> bytes:
    r"""Return a line that takes the place of another: indented as it was, and ending as it did.

    >>> in_place_of(b"    facility local3\r", "facility local4")
    b'    facility local4\r'
    """
    lead = old[: len(old) - len(old.lstrip())]
    new = lead + text.encode() + (b"\r" if old.endswith(b"\r") else b"")
    return _Whole(new) if isinstance(old, _Whole) else new


def edited_lines(data: bytes, change: Callable[[list[bytes]], None]) -> bytes:
    """Return the text after `change` has worked on its lines.

    Each line that stays ends as it did, one that is new as most do. Whether the last line has an
    end stays, too.
    """
    return edited_parts(data, [(0, len(data))], lambda parts: change(parts[0]))


def edited_parts(
    data: bytes, places: Sequence[tuple[int, int]], change: Callable[[list[list[bytes]]], None]
) -> bytes:
    """Return the text after `change` has worked on the lines of some parts of it, as
    `edited_lines` does.

    `places`: where each part begins and ends, in their order; but for the end of the text, each
    ends where a line does.
    """
    returns = b"\r" in data and 2 * data.count(b"\r\n") > data.count(b"\n")
    texts = [data[begin:end] for begin, end in places]
    parts = [_lines_of(text, returns) for text in texts]
    change(parts)
    out: list[bytes] = []
    copied = 0
    for (begin, end), text, lines in zip(places, texts, parts, strict=True):
        out += [data[copied:begin], _joined(lines, returns, ended=text[-1:] in (b"", b"\n"))]
        copied = end
    return b"".join([*out, data[copied:]])


def _lines_of(text: bytes, returns: bool) -> list[bytes]:
    lines = text.split(b"\n")
    # What has no end yet gets one, if something comes behind it.
    last = [lines.pop()]
    if last[0] == b"":
        last.pop()
    return [*map(_Whole, lines), *last] if returns else [*lines, *last]


def _joined(lines: Sequence[bytes], returns: bool, ended: bool) -> bytes:
    if returns:
        lines = [line if isinstance(line, _Whole) else line + b"\r" for line in lines]
        if not ended and lines:
            lines[-1] = lines[-1].removesuffix(b"\r")
    return b"\n".join([*lines, b""] if ended and lines else lines)


def line_at(data: bytes, begin: int) -> bytes:
    r"""Return the line that begins at a place, without its end.

    >>> line_at(b"one\ntwo\n", 4)
    b'two'
    """
    end = data.find(b"\n", begin)
    return data[begin : end if end >= 0 else len(data)]


def next_line(data: bytes, at: int) -> int:
    r"""Return where the line after that of a place begins: at the end of the text, if none does.

    >>> next_line(b"one\ntwo\n", 0)
    4
    """
    return data.find(b"\n", at) + 1 or len(data)


def lines_with(data: bytes, word: bytes, behind: Container[bytes]) -> Iterator[tuple[int, int]]:
    """Yield where lines begin and end that hold a word right behind one of those in `behind`.

    The word is by itself or followed by '/' and the length of a prefix.
    """
    at = data.find(word)
    while at >= 0:
        part = data[at + len(word) : at + len(word) + 1].isalnum() or data[at - 1 : at].isalnum()
        if part or not _is_behind(data, at, behind):
            at = data.find(word, at + 1)
            continue
        start = data.rfind(b"\n", 0, at) + 1
        end = data.find(b"\n", at)
        if end < 0:
            end = len(data)
        yield start, end
        at = data.find(word, end)


def _is_behind(data: bytes, at: int, behind: Container[bytes]) -> bool:
    before = data[max(at - FAR_BEFORE, 0) : at].split()
    return bool(before) and before[-1] in behind
