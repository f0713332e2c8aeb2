"""A spool: pieces that wait in a temporary file until they are written out, so that memory does not
grow with a fleet.
"""

from __future__ import annotations

import tempfile
from collections.abc import Iterator


class Spool:
    """Pieces by their numbers, from 0, in the order in which they were added."""

    def __init__(self) -> None:
        self._file = tempfile.TemporaryFile()  # noqa: SIM115 (gone with this object)
        self._ends = [0]

    def __len__(self) -> int:
        return len(self._ends) - 1

    def add(self, piece: bytes) -> int:
        """Add a piece and return its number."""
        self._file.seek(self._ends[-1])
        self._file.write(piece)
        self._ends.append(self._ends[-1] + len(piece))
        return len(self) - 1

    def __getitem__(self, number: int) -> bytes:
        begin, end = self._ends[number], self._ends[number + 1]
        self._file.seek(begin)
        return self._file.read(end - begin)

    def __iter__(self) -> Iterator[bytes]:
        return (self[number] for number in range(len(self)))
