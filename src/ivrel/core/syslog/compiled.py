"""The compiled search for lines of the same signature, `signatures.c`. Where that could not be
compiled, `signatures.py` does the same more slowly.

It is compiled when Ivrel is installed, if there is a compiler (`hatch_build.py`). The library's
name tells which source it was made of, so that an old one is never used.
"""

from __future__ import annotations

import ctypes
from collections.abc import Callable
from hashlib import sha256
from pathlib import Path

from msgspec import Struct

SOURCE = Path(__file__).with_name("signatures.c")
_MOST = 1 << 16  # groups, as in `signatures.c`


class Alike(Struct, frozen=True):
    """Lines that are alike: how many, the numbers of the first and of the last of them, and in how
    many bytes of the first its signature must end.
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
    return source.with_name(f"signatures-{sha256(source.read_bytes()).hexdigest()[:12]}.compiled")


def _loaded() -> ctypes.CDLL | None:
    try:
        made = ctypes.CDLL(str(library()))
    except OSError:
        return None
    made.ivrel_lines.restype = made.ivrel_signatures.restype = ctypes.c_int64
    made.ivrel_lines.argtypes = ctypes.c_void_p, ctypes.c_int64
    made.ivrel_signatures.argtypes = (
        *(ctypes.c_void_p, ctypes.c_int64, ctypes.c_int),
        *(ctypes.c_void_p,) * 4,
    )
    return made


def line_counter() -> Callable[[bytearray, int], int]:
    """Return the function that counts line ends in the first bytes of a buffer."""
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
        self, data: bytes, recorded: bool, signature_of: Callable[[bytes, int], object | None]
    ) -> Found:
        """Return which of some lines are alike; each has its line end.

        `recorded`: whether the lines are of a recording; `signature_of`: returns what distinguishes
        the signature of a line that ends after so many bytes, or None if the line has none; then
        all lines like it are among the others.
        """
        lines: int = self._made.ivrel_lines(data, len(data))
        begins = (ctypes.c_int64 * (lines + 1))()
        group = (ctypes.c_int32 * lines)()
        others = (ctypes.c_int32 * lines)()
        alike = (_Alike * min(_MOST, lines))()
        number = self._made.ivrel_signatures(
            data, len(data), recorded, begins, group, others, alike
        )
        if number < 0:
            raise MemoryError
        some = [Alike(a.number, a.first, a.last, a.cut) for a in alike[:number]]
        left = lines - sum(a.number for a in some)
        return _checked(data, Found(some, others[:left], begins), group, signature_of)


def _checked(
    data: bytes,
    found: Found,
    group: ctypes.Array[ctypes.c_int32],
    signature_of: Callable[[bytes, int], object | None],
) -> Found:
    """Return the groups, with those of one signature joined, and without those of none."""
    alike: dict[object, Alike] = {}
    without = set()
    for n, one in enumerate(found.alike):
        line = data[found.begins[one.first] : found.begins[one.first + 1]]
        signature = signature_of(line, one.cut)
        if signature is None:
            without.add(n)
            continue
        before = alike.get(signature)
        alike[signature] = one if before is None else _joined(before, one)
    others = found.others
    if without:
        others = sorted([*others, *(at for at, n in enumerate(group) if n in without)])
    return Found(list(alike.values()), others, found.begins)


def _joined(one: Alike, other: Alike) -> Alike:
    first = min(one.first, other.first)
    last = max(one.last, other.last)
    return Alike(one.number + other.number, first, last, one.cut)
