"""Where dialects come from: those that ship, and a workspace's own in `dialects/`, which come
first.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from pathlib import Path

from ivrel.core.dialects.dialect import Dialect
from ivrel.core.dialects.load import read_dialect
from ivrel.core.vocabulary.errors import InputError, Mistake
from ivrel.core.vocabulary.wording import not_one_of
from ivrel.sources.files import read_text

SHIPPED = Path(__file__).parent.parent / "platforms"


class Dialects:
    """Finds dialects by name; reads each one once."""

    def __init__(self, workspace: Path | None = None) -> None:
        self.files: Mapping[str, Path] = {
            path.stem: path
            for folder in (SHIPPED, *([workspace / "dialects"] if workspace else []))
            for path in sorted(folder.glob("*.yaml"))
        }
        self._read: dict[str, Dialect] = {}

    def __iter__(self) -> Iterator[Dialect]:
        return (self[name] for name in sorted(self.files))

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
