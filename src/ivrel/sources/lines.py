"""The text of single lines of configurations, for showing what decides a verdict."""

from __future__ import annotations

from ivrel.core.audit.verdict import Place
from ivrel.core.bundle import parts
from ivrel.core.dialects.shapes.base import decode
from ivrel.core.fleet import Device
from ivrel.core.form import shorten
from ivrel.core.mistakes import Unreadable
from ivrel.sources.workspace import Workspace


class Lines:
    """The lines of one text."""

    def __init__(self, data: bytes) -> None:
        self._lines = data.split(b"\n")

    def text(self, line: int) -> str:
        """One line, counted from 1, as it may be shown; '' if there is none."""
        return shorten(decode(self._lines[line - 1][:4096]).strip(), 100) if 0 < line <= len(self._lines) else ""


class LinesOf:
    """The lines of all configurations of a workspace; keeps the texts of the files last asked for."""

    def __init__(self, workspace: Workspace, devices: tuple[Device, ...]) -> None:
        self._workspace = workspace
        self._devices = {workspace.configuration(d): d for d in devices}
        self._file = ""
        self._lines = Lines(b"")

    def _data(self, file: str) -> bytes:
        """The text of a file, which may be one of the folder that is a device's configuration."""
        for configuration, device in self._devices.items():
            inner = file.removeprefix(f"{configuration}/") if file != configuration else ""
            if configuration is not None and inner != file:
                try:
                    data = self._workspace.text(device)[0]
                except Unreadable:
                    return b""
                return next((p.data for p in parts(data) if p.name == inner), b"")
        return b""

    def __call__(self, place: Place) -> str:
        """The text of a place."""
        if place.file != self._file:
            self._file, self._lines = place.file, Lines(self._data(place.file))
        return self._lines.text(place.line)
