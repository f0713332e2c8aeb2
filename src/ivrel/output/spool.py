"""A spool: pieces that wait in a temporary file until they are written out, so that memory does not
grow with a fleet.
"""

from __future__ import annotations

import tempfile
from collections.abc import Iterator

from ivrel.core.vocabulary.errors import InputError, Mistake


class Spool:
    """Pieces by their numbers, from 0, in the order of addition.

    InputError if there is no room for another.
    """

    def __init__(self) -> None:
        # Without a buffer: what does not fit is reported when it is added, and not at the end.
        self._file = tempfile.TemporaryFile(buffering=0)  # noqa: SIM115 (gone with this object)
        self._ends = [0]
        self._at = 0  # where the file stands

    def __len__(self) -> int:
        return len(self._ends) - 1

    def add(self, piece: bytes) -> int:
        """Add a piece and return its number."""
        begin = self._ends[-1]
        written = 0
        try:
            if self._at != begin:
                self._file.seek(begin)
            self._at = -1  # unknown, until all of it is written
            while written < len(piece):
                written += self._file.write(piece[written:])
        except OSError as problem:
            said = f"cannot be written: {(problem.strerror or str(problem)).lower()}"
            raise InputError([Mistake(tempfile.gettempdir(), said)]) from None
        self._at = begin + len(piece)
        self._ends.append(self._at)
        return len(self) - 1

    def __getitem__(self, number: int) -> bytes:
        begin = self._ends[number]
        end = self._ends[number + 1]
        if self._at != begin:
            self._file.seek(begin)
        self._at = end
        return self._file.read(end - begin)

    def __iter__(self) -> Iterator[bytes]:
        return (self[number] for number in range(len(self)))
