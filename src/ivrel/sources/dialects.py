"""Where dialects come from: those that ship, and a workspace's own in `dialects/`, which come
first.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from difflib import get_close_matches
from pathlib import Path

from msgspec.structs import replace

from ivrel.core.dialects.dialect import Dialect
from ivrel.core.dialects.load import read_dialect
from ivrel.core.fleet import Device
from ivrel.core.vocabulary.errors import InputError, Mistake, Unreadable
from ivrel.core.vocabulary.software import Software
from ivrel.core.vocabulary.wording import not_one_of, shorten
from ivrel.sources.files import read_text

SHIPPED = Path(__file__).parent.parent / "platforms"


def no_dialect(platform: str, names: Iterable[str]) -> str:
    """Return the message about a platform that no dialect describes."""
    likely = get_close_matches(platform, names, 1)
    meant = f"; did you mean '{likely[0]}'?" if likely else ""
    return f"platform '{shorten(platform)}' has no dialect{meant}"


class Dialects:
    """Finds dialects by name; reads each one once."""

    def __init__(self, workspace: Path | None = None) -> None:
        self.files: Mapping[str, Path] = {
            path.stem: path
            for folder in (SHIPPED, *([workspace / "dialects"] if workspace else []))
            for path in sorted(folder.glob("*.yaml"))
        }
        self._read: dict[str, Dialect] = {}
        self._special: dict[tuple[str, Software], Dialect] = {}

    def __iter__(self) -> Iterator[Dialect]:
        return (self[name] for name in sorted(self.files))

    def of(self, device: Device) -> Dialect:
        """Return the dialect of a device, as its software reads it; Unreadable if its platform has
        none.
        """
        if device.platform not in self.files:
            raise Unreadable(no_dialect(device.platform, self.files))
        dialect = self[device.platform]
        shape = dialect.shape.on(device.software)
        if shape is dialect.shape:
            return dialect
        key = device.platform, device.software
        if key not in self._special:
            self._special[key] = replace(dialect, shape=shape, made={})
        return self._special[key]

    def __getitem__(self, name: str) -> Dialect:
        if name not in self._read:
            path = self.files.get(name)
            if path is None:
                raise InputError(f"dialect {not_one_of(name, self.files)}")
            shown = path.name if path.parent == SHIPPED else f"dialects/{path.name}"
            text = read_text(path, shown)
            dialect = read_dialect(text, shown)
            if dialect.name != name:
                line = next(
                    (
                        n
                        for n, said in enumerate(text.split("\n"), 1)
                        if said.startswith("dialect:")
                    ),
                    1,
                )
                said = (
                    f"the dialect is called '{dialect.name}' and its file '{path.name}'; "
                    "expected one name"
                )
                raise InputError([Mistake(shown, said, line, 1)])
            self._read[name] = dialect
        return self._read[name]
