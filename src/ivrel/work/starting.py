"""New workspaces."""

from __future__ import annotations

from pathlib import Path

from ivrel.sources.files import claim_folder, read_text, write_text

_START = Path(__file__).parent.parent / "start"  # the files of a new workspace


def new_workspace(folder: Path | str, *, replace: bool = False) -> None:
    """Write a commented workspace to start from.

    `replace`: write into the folder even if it is not empty; otherwise InputError is raised.
    """
    folder = Path(folder)
    claim_folder(folder, replace)
    for path in sorted(p for p in _START.rglob("*") if p.is_file()):
        name = path.relative_to(_START)
        write_text(folder / name, read_text(path, str(name)))
