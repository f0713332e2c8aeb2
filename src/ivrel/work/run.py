"""How a run is carried out: the day, the place, and the progress reports."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from datetime import date
from pathlib import Path
from typing import TypeVar

from msgspec import Struct

from ivrel.sources.files import write_bytes

T = TypeVar("T")

# Called with what is done (such as "auditing"), how many are done, and how many there are.
Progress = Callable[[str, int, int], None]


class RunOptions(Struct, frozen=True):
    """How a run is carried out.

    `today`: the day that waivers are judged for; `progress`: called after each device; `scheduler`:
    the address of a Dask scheduler whose workers do the work, empty for this machine; `send`: send
    the input to those workers, which otherwise read it from the same path.
    """

    today: date
    progress: Progress | None = None
    scheduler: str = ""
    send: bool = False

    def reported(self, items: Iterable[T], total: int, doing: str) -> Iterator[T]:
        """Yield items, and report after each how many are done."""
        if self.progress is None:
            yield from items
            return
        for number, item in enumerate(items, 1):
            yield item
            self.progress(doing, number, total)


def write_file(path: Path, data: bytes) -> None:
    """Write a file as a whole: if that fails, what was there before is still there."""
    write_bytes(path, data)
