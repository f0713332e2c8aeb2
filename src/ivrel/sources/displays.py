"""Displays of devices in a workspace: what each showed of its present state, with the time.

`state/DEVICE/20261201T101112Z.txt` is what a device showed on 2026-12-01 at 10:11:12 UTC.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from datetime import UTC, datetime
from pathlib import Path

from msgspec import Struct

from ivrel.core.fleet import Device
from ivrel.sources.files import OWN, read_bytes, write_bytes
from ivrel.sources.workspace import WorkspaceFiles

FOLDER = "state"
KEPT = 100  # displays of each device; older ones are removed
_NAME = re.compile(r"[0-9]{8}T[0-9]{6}Z\.txt")
_FORM = "%Y%m%dT%H%M%SZ"


class DisplayFile(Struct, frozen=True):
    """A display: when it was taken, in seconds since 1970, its file, and the same for people."""

    taken: float
    path: Path
    shown: str

    def data(self) -> bytes:
        """Return what the device showed. Raise Unreadable if the file cannot be read."""
        return read_bytes(self.path, self.shown)


def display_name(device: str, taken: datetime) -> str:
    """Return the file of a display, from the folder of its workspace.

    >>> display_name("holmsay-gw1", datetime(2026, 12, 1, 10, 11, 12, tzinfo=UTC))
    'state/holmsay-gw1/20261201T101112Z.txt'
    """
    return f"{FOLDER}/{device}/{taken.astimezone(UTC):{_FORM}}.txt"


def keep_display(workspace: WorkspaceFiles, device: Device, data: bytes, taken: datetime) -> str:
    """Write a display into the workspace, remove the oldest of more than KEPT, and return the
    file.
    """
    shown = display_name(device.name, taken)
    path = workspace.folder / shown
    path.parent.mkdir(parents=True, exist_ok=True)
    write_bytes(path, data, OWN)
    for old in list(displays_of(workspace, device))[:-KEPT]:
        old.path.unlink(missing_ok=True)
    return shown


def displays_of(workspace: WorkspaceFiles, device: Device) -> Iterator[DisplayFile]:
    """Yield the displays of a device, the oldest first."""
    folder = workspace.folder / FOLDER / device.name
    if not folder.is_dir():
        return
    for path in sorted(folder.iterdir()):
        if _NAME.fullmatch(path.name):
            try:
                taken = datetime.strptime(path.name, f"{_FORM}.txt").replace(tzinfo=UTC)
            except ValueError:
                continue  # digits that are no time
            yield DisplayFile(taken.timestamp(), path, f"{FOLDER}/{device.name}/{path.name}")
