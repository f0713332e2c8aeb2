"""Copies of the example workspace with the corrections applied."""

from __future__ import annotations

from pathlib import Path

from ivrel.core.correcting.changes import apply_change
from ivrel.demo.workspace import entries
from ivrel.sources.dialects import Dialects
from ivrel.sources.files import read_configuration, read_text, write_configuration, write_text


def write_copies(folder: Path, changes: Path, copies: Path) -> None:
    """Write a workspace whose configurations have been corrected as their platforms would."""
    dialects = Dialects()
    for name in ("fleet.yaml", "policy.yaml"):
        write_text(copies / name, read_text(folder / name, name))
    for e in entries():
        name = e.device if e.files else f"{e.device}.conf"
        change = changes / e.device / "change.txt"
        before = data = read_configuration(folder / "configs" / name, name)
        if change.exists():
            data = apply_change(dialects[e.platform], data, change.read_text(), str(change))
        write_configuration(copies / "configs" / name, data, before)
