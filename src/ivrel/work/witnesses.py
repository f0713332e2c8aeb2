"""Three witnesses of each device: its configuration, its displays, and what collectors got."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence

from ivrel.core.dialects.dialect import Display
from ivrel.core.evidence.between import SLACK
from ivrel.core.evidence.witnesses import (
    NO_MESSAGES,
    Comparison,
    Displayed,
    MessagesGot,
    compared,
)
from ivrel.core.fleet import Device
from ivrel.core.reading import read_records
from ivrel.core.reading.display import read_display
from ivrel.core.settings import Scope
from ivrel.core.vocabulary.errors import Unreadable
from ivrel.sources.displays import DisplayFile, displays_of
from ivrel.sources.workspace import WorkspaceFiles


class Witnesses:
    """Compares what devices show of themselves with their configurations and their messages."""

    def __init__(self, files: WorkspaceFiles) -> None:
        self._files = files
        self._deliveries: Mapping[str, float] | None = None
        self.problems: list[str] = []

    def moments(self, devices: Iterable[Device]) -> Mapping[str, Sequence[float]]:
        """Return when devices showed their counters, by name; those that never did are left out."""
        found = {}
        for device in devices:
            some = self._apart(device)
            if some:
                found[device.name] = [one.taken for one in some]
        return found

    def _apart(self, device: Device) -> list[DisplayFile]:
        """Return the displays of a device that are far enough from each other to count between."""
        out: list[DisplayFile] = []
        for one in reversed(list(displays_of(self._files, device))):
            if not out or out[-1].taken - one.taken > 2 * SLACK:
                out.append(one)
        return out[::-1]

    def of(self, device: Device, messages: MessagesGot = NO_MESSAGES) -> tuple[Comparison, ...]:
        """Return what the three witnesses say of a device; nothing if it has no display.

        Displays that cannot be read go to `problems`.
        """
        some = self._apart(device)
        if not some or device.platform not in self._files.dialects.files:
            return ()
        dialect = self._files.dialects.of(device)
        if dialect.display is None:
            said = f"the dialect {dialect.name} does not describe displays (state:)"
            self.problems.append(f"{some[-1].shown}: {said}")
            return ()
        try:
            data, _ = self._files.text(device)
            text = Scope(device, read_records(dialect, data), self._files.policy.collectors)
        except Unreadable:
            return ()  # the audit reports it
        displays = list(self._read(dialect.display, some))
        times = [
            at
            for at in (self._delivered(device), self._files.texts.written(device))
            if at is not None
        ]
        return compared(text, displays, messages, max(times, default=None))

    def _delivered(self, device: Device) -> float | None:
        """Return when a correction was delivered to a device last, in seconds since 1970."""
        if self._deliveries is None:
            from ivrel.work.messages import changes_of

            self._deliveries = changes_of(self._files)
        return self._deliveries.get(device.name)

    def _read(self, display: Display, some: Iterable[DisplayFile]) -> Iterable[Displayed]:
        for one in some:
            try:
                yield Displayed(one.taken, one.shown, read_display(display, one.data()))
            except Unreadable as problem:
                self.problems.append(f"{one.shown}: {problem}")
