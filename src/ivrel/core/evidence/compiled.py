"""The compiled way to find lines of the same front, `fronts.c`; where it was not compiled, `fronts`
works without it, and takes longer.

It is compiled when Ivrel is installed, if there is a compiler (`hatch_build.py`). The library's
name tells which source it was made of, so that an old one is never used.
"""

from __future__ import annotations

import ctypes
from collections.abc import Callable
from hashlib import sha256
from pathlib import Path

from msgspec import Struct

SOURCE = Path(__file__).with_name("fronts.c")
_MOST = 1 << 16  # groups, as in `fronts.c`


class Alike(Struct, frozen=True):
    """Lines that are alike: how many, the numbers of the first and of the last of them, and in how
    many bytes of the first its front must end.
    """

    number: int
    first: int
    last: int
    cut: int


class Found(Struct, frozen=True):
    """What was found in some lines: those that are alike; the numbers of the others; where each
    line begins, and one more.
    """

    alike: list[Alike]
    others: list[int]
    begins: ctypes.Array[ctypes.c_int64]


class _Alike(ctypes.Structure):
    _fields_ = tuple((name, ctypes.c_int64) for name in Alike.__struct_fields__)


def library(source: Path = SOURCE) -> Path:
    """Return where the library made of a source lies."""
    return source.with_name(f"fronts-{sha256(source.read_bytes()).hexdigest()[:12]}.compiled")


def _loaded() -> ctypes.CDLL | None:
    try:
        made = ctypes.CDLL(str(library()))
    except OSError:
        return None
    made.ivrel_lines.restype = made.ivrel_fronts.restype = ctypes.c_int64
    made.ivrel_lines.argtypes = ctypes.c_void_p, ctypes.c_int64
    made.ivrel_fronts.argtypes = (
        *(ctypes.c_void_p, ctypes.c_int64, ctypes.c_int),
        *(ctypes.c_void_p,) * 4,
    )
    return made


def line_counter() -> Callable[[bytearray, int], int]:
    """Return what tells how many of the first bytes of a buffer end a line."""
    made = _loaded()
    if made is None:
        return lambda data, size: data.count(b"\n", 0, size)

    def count(data: bytearray, size: int) -> int:
        number: int = made.ivrel_lines(ctypes.byref(ctypes.c_char.from_buffer(data)), size)
        return number

    return count


def finder() -> Finder | None:
    """Return the compiled way, None where there is none."""
    made = _loaded()
    return Finder(made) if made is not None else None


class Finder:
    """Finds which of some lines are alike; `made`: the library."""

    def __init__(self, made: ctypes.CDLL) -> None:
        self._made = made

    def __reduce__(self) -> tuple[Callable[[], Finder | None], tuple[()]]:
        # Wherever it is sent, the library of that machine is loaded, if there is one.
        return finder, ()

    def __call__(
        self, data: bytes, recorded: bool, front_of: Callable[[bytes, int], object | None]
    ) -> Found:
        """Return which of some lines are alike; each has its line end.

        `recorded`: whether they are those of a recording; `front_of`: what tells fronts apart, for
        a line whose front ends in so many bytes; None if it has none, and is among the others with
        all that are like it.
        """
        lines: int = self._made.ivrel_lines(data, len(data))
        begins, group = (ctypes.c_int64 * (lines + 1))(), (ctypes.c_int32 * lines)()
        others, alike = (ctypes.c_int32 * lines)(), (_Alike * min(_MOST, lines))()
        number = self._made.ivrel_fronts(data, len(data), recorded, begins, group, others, alike)
        if number < 0:
            raise MemoryError
        some = [Alike(a.number, a.first, a.last, a.cut) for a in alike[:number]]
        left = lines - sum(a.number for a in some)
        return _checked(data, Found(some, others[:left], begins), group, front_of)


def _checked(
    data: bytes,
    found: Found,
    group: ctypes.Array[ctypes.c_int32],
    front_of: Callable[[bytes, int], object | None],
) -> Found:
    """Return what was found with groups of one front joined, and without those that have none."""
    alike: dict[object, Alike] = {}
    without = set()
    for n, one in enumerate(found.alike):
        line = data[found.begins[one.first] : found.begins[one.first + 1]]
        front = front_of(line, one.cut)
        if front is None:
            without.add(n)
            continue
        before = alike.get(front)
        alike[front] = one if before is None else _joined(before, one)
    others = found.others
    if without:
        others = sorted([*others, *(at for at, n in enumerate(group) if n in without)])
    return Found(list(alike.values()), others, found.begins)


def _joined(one: Alike, other: Alike) -> Alike:
    first, last = min(one.first, other.first), max(one.last, other.last)
    return Alike(one.number + other.number, first, last, one.cut)
