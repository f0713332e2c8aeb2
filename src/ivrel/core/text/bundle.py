"""A bundle: the files of one configuration in one text, each behind a line that names it.

The line begins with the control character FS (ASCII 28, "file separator"), which is in no
configuration. A text that does not begin with it is one file without a name. Behind the name of a
file whose last line has no end, the character is repeated.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Mapping

from msgspec import Struct

MARK = b"\x1c"


def is_marked(data: bytes) -> bool:
    """Whether a file holds what only a bundle may hold: a line that begins with the mark."""
    return MARK in data and (data.startswith(MARK) or b"\n" + MARK in data)


def is_inside(name: str) -> bool:
    """Whether a name is that of a file in a folder, by no way out of it.

    >>> is_inside("rsyslog.d/50.conf"), is_inside("../passwd")
    (True, False)
    """
    return (
        bool(name) and not name.startswith("/") and ".." not in name.split("/") and "\0" not in name
    )


class Part(Struct, frozen=True):
    """One file of a bundle: its name, the bundle's line that its first line is, and its text."""

    name: str
    first: int
    data: bytes

    @property
    def text(self) -> str:
        """The text; bytes that are no UTF-8 stay as surrogates."""
        return self.data.decode("utf-8", "surrogateescape")


def pack(files: Mapping[str, bytes]) -> bytes:
    """Return the bundle of these files, in their order."""
    out = []
    for name, data in files.items():
        whole = not data or data.endswith(b"\n")
        out += [MARK, name.encode(), b"" if whole else MARK, b"\n", data, b"" if whole else b"\n"]
    return b"".join(out)


def parts(data: bytes) -> list[Part]:
    r"""Return the files of a text: those of a bundle, or the one that it is.

    >>> [(part.name, part.data) for part in parts(pack({"a.conf": b"x\n", "b.conf": b"y\n"}))]
    [('a.conf', b'x\n'), ('b.conf', b'y\n')]
    """
    if not data.startswith(MARK):
        return [Part("", 1, data)]
    out = []
    line = 1
    # The line end before the next mark belongs to the text before it, if that has any.
    for whole in (data if data.endswith(b"\n") else data + b"\n")[1:-1].split(b"\n" + MARK):
        name, ends, text = whole.partition(b"\n")
        if name.endswith(MARK):
            name = name[:-1]  # a text whose last line has no end
        else:
            text += ends
        out.append(Part(name.decode("utf-8", "replace"), line + 1, text))
        line += 1 + text.count(b"\n") + (text[-1:] not in (b"", b"\n"))
    return out


class Places:
    """Maps a line of a text to its file, and to the line there.

    `told`: whether verdicts tell lines; those of a text that is no file yet lead nowhere.
    """

    def __init__(self, data: bytes, file: str, *, told: bool = True) -> None:
        self._file = file
        self.told = told
        self._parts = parts(data) if data.startswith(MARK) else []
        self._firsts = [part.first for part in self._parts]

    @property
    def file(self) -> str:
        """The only file that there is; '' if there are several."""
        return "" if self._parts else self._file

    def __call__(self, line: int) -> tuple[str, int]:
        """Return the file and its line, from 1."""
        if not self._parts:
            return self._file, line
        part = self._parts[max(bisect_right(self._firsts, line) - 1, 0)]
        return f"{self._file}/{part.name}", line - part.first + 1
