"""The statements that decide verdicts, as they may be shown.

A line of a configuration may hold more than the statement that decides: all of a document, or a
secret beside it. So statements are shown, not lines, and of these only such as surely concern
export.
"""

from __future__ import annotations

from ivrel.core.dialects.dialect import Dialect
from ivrel.core.fleet import Device
from ivrel.core.reading.matcher import matcher
from ivrel.core.reading.reader import known_parts, outside
from ivrel.core.reading.secrets import masked
from ivrel.core.reading.statements import Statement, TakenBack, Understood, Unparsed
from ivrel.core.settings.relevance import BEARS_ON, bearing
from ivrel.core.text.bundle import Places
from ivrel.core.text.text import LONGEST, Text, decode
from ivrel.core.text.words import Path
from ivrel.core.vocabulary.errors import Unreadable
from ivrel.core.vocabulary.verdict import Place
from ivrel.core.vocabulary.wording import shorten
from ivrel.sources.workspace import WorkspaceFiles

LONGEST_SHOWN = 100  # signs of a line that are shown


class Lines:
    """The statements of one text, by line."""

    def __init__(self, dialect: Dialect, data: bytes) -> None:
        self._dialect = dialect
        self._source = data.split(b"\n") if dialect.shape.DERIVED else []
        # Few lines of a text are shown: what the others say need not be found out.
        self._there: dict[int, list[tuple[Path, bytes]]] = {}
        self._outside: dict[int, str] = {}  # statements in doubt, beyond the known parts
        if self._source or not data:
            return
        try:
            text = Text(data)
            for path, raw, line in known_parts(matcher(dialect), text):
                self._there.setdefault(line, []).append((path, raw))
            for unparsed_line in outside(matcher(dialect), text):
                self._outside[unparsed_line.line] = unparsed_line.text
        except Unreadable:
            self._there = {}

    def _about(self, said: Statement) -> frozenset[str]:
        """Return the settings that a statement bears on, or may bear on."""
        if isinstance(said, Understood):
            slots = self._dialect.patterns[said.pattern].slots
            return frozenset(name for slot in slots for name in BEARS_ON.get(slot, ()))
        if isinstance(said, TakenBack):
            said = said.says
        return frozenset(bearing(self._dialect, said) if isinstance(said, Unparsed) else ())

    def text(self, line: int, setting: str = "") -> str:
        """Return the statements of a line that bear on a setting, or all of them if none does.

        '' if there are none.
        """
        if self._source:
            # What this platform's statements say is worked out from lines, each of which is one
            # rule.
            there = 0 < line <= len(self._source)
            return (
                masked(decode(self._source[line - 1][:LONGEST]).strip(), LONGEST_SHOWN)
                if there
                else ""
            )
        if line in self._outside:
            return shorten(self._outside[line], LONGEST_SHOWN)
        reader = matcher(self._dialect)
        every = [(raw, reader.known(path, raw)) for path, raw in self._there.get(line, ())]
        said = [(text, match) for raw, match in every if (text := reader.as_shown(raw, match))]
        about = [text for text, match in said if setting in self._about(match)]
        return shorten("; ".join(dict.fromkeys(about or [text for text, _ in said])), LONGEST_SHOWN)


class LinesOf:
    """The statements of all configurations of a workspace.

    Keeps those of the device last asked for.
    """

    def __init__(self, workspace: WorkspaceFiles, devices: tuple[Device, ...]) -> None:
        self._workspace = workspace
        self._devices = {workspace.configuration(d): d for d in devices}
        self._device: Device | None = None
        self._lines: Lines | None = None
        self._numbers: dict[tuple[str, int], int] = {}

    def _device_of(self, file: str) -> Device | None:
        """Return the device of a file, which may be one of the folder that is its configuration."""
        if file in self._devices:
            return self._devices[file]
        return next(
            (d for name, d in self._devices.items() if name and file.startswith(f"{name}/")), None
        )

    def __call__(self, place: Place, setting: str = "") -> str:
        """Return the statement at a place."""
        device = self._device_of(place.file)
        if device is None:
            return ""
        # Findings come device by device, so that each text is read once.
        if device is not self._device:
            try:
                data, shown = self._workspace.text(device)
            except Unreadable:
                return ""
            self._device, self._lines = (
                device,
                Lines(self._workspace.dialects.of(device), data),
            )
            places = Places(data, shown)
            several = not places.file
            self._numbers = (
                {places(n): n for n in range(1, data.count(b"\n") + 2)} if several else {}
            )
        line = self._numbers.get((place.file, place.line), 0) if self._numbers else place.line
        return self._lines.text(line, setting) if self._lines else ""
