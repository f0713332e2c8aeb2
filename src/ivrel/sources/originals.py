"""Files as they lie on the disk, beside the text that is read from them: with their mark of byte
order, encoding and compression.
"""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

from msgspec import Struct

from ivrel.core.text.bundle import is_inside, parts
from ivrel.core.vocabulary.errors import Unreadable
from ivrel.sources.files import BOM, UTF_16, plain_text, raw_bytes
from ivrel.sources.packed import LIMITS, SizeLimits, packed_like, unpacked


class Original(Struct, frozen=True):
    """A file that is to say another text: its name from the workspace's folder, its bytes (None if
    it is not there yet), and the text (None if it goes). `first`: the line of the configuration
    that its first line is.
    """

    file: str
    data: bytes | None
    wanted: bytes | None
    first: int = 1
    limits: SizeLimits = LIMITS

    @property
    def is_plain(self) -> bool:
        """Whether its lines are those of the text that is read from it, but for a mark of byte
        order.
        """
        if self.data is None:
            return True
        return plain_text(self.data, self.file, self.limits) == self.data.removeprefix(BOM)

    @property
    def after(self) -> bytes | None:
        """The bytes of the file with the text that is wanted: marked, encoded and packed as they
        are; None if it goes.
        """
        if self.data is None or self.wanted is None:
            return self.wanted
        inner = unpacked(self.data, self.file, self.limits)
        said = self.wanted
        if inner.startswith(BOM):
            said = BOM + said
        elif inner[:2] in UTF_16:
            name = "utf-16-le" if inner[:2] == UTF_16[0] else "utf-16-be"
            said = inner[:2] + said.decode("utf-8").encode(name)
        return packed_like(self.data, said)


def originals(
    root: Path, file: str, before: bytes, after: bytes, limits: SizeLimits = LIMITS
) -> Iterator[Original]:
    """Yield the files of a configuration that differ after a change.

    `file`: what the configuration is called, from the folder `root`: a file, or a folder of those
    of a bundle. Unreadable if what lies there is not the text before.
    """
    old, new = ({part.name: part for part in parts(data)} for data in (before, after))
    for name in sorted({**old, **new}):
        was = old.get(name)
        will = new.get(name)
        if was is not None and will is not None and was.data == will.data:
            continue
        if name and not is_inside(name):
            raise Unreadable(f"{file}: '{name}' would lie outside of it")
        shown = f"{file}/{name}" if name else file
        data = raw_bytes(root / shown, shown, limits) if was is not None else None
        if was is not None and data is not None and plain_text(data, shown, limits) != was.data:
            raise Unreadable(f"{shown}: it was changed meanwhile; try again")
        if was is None and (root / shown).exists():
            raise Unreadable(f"{shown}: is there already; try again")
        first = was.first if was else 1
        yield Original(shown, data, will.data if will else None, first, limits)
