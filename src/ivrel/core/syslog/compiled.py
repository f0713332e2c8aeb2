"""The compiled search for lines of the same signature, `signatures.c`. Where that could not be
compiled, `signatures.py` does the same more slowly.

It is compiled when Ivrel is installed, if there is a compiler (`hatch_build.py`). The library's
name tells which source it was made of, so that an old one is never used.
"""

from __future__ import annotations

import ctypes
from collections.abc import Callable, Sequence
from hashlib import sha256
from pathlib import Path

from msgspec import Struct

SOURCE = Path(__file__).with_name("signatures.c")
_MOST = 1 << 16  # groups, as in `signatures.c`


class Alike(Struct, frozen=True):
    """Lines that are alike, as the library reports them: how many, the numbers of the first and of
    the last of them, and in how many bytes of the first its signature must end.
    """

    number: int
    first: int
    last: int
    cut: int


class Found(Struct, frozen=True):
    """What was found in some lines: the numbers of those that are alike; the numbers of the others;
    where each line begins, and one more.
    """

    alike: list[list[int]]
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
        return _checked(data, some, begins, group[:lines], signature_of)


def _checked(
    data: bytes,
    some: Sequence[Alike],
    begins: ctypes.Array[ctypes.c_int64],
    group: Sequence[int],
    signature_of: Callable[[bytes, int], object | None],
) -> Found:
    """Return the lines of each signature, and the others.

    `group`: the number in `some` that each line is of, -1 for none.
    """
    ats: dict[object, list[int]] = {}
    others: list[int] = []
    # Groups of one signature are joined, and those without one are among the others.
    joined = []
    for one in some:
        signature = signature_of(data[begins[one.first] : begins[one.first + 1]], one.cut)
        joined.append(others if signature is None else ats.setdefault(signature, []))
    joined.append(others)  # of the number -1
    for at, n in enumerate(group):
        joined[n].append(at)
    return Found(list(ats.values()), others, begins)
