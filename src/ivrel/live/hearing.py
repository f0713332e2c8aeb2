"""Hearing: whether a message of a device arrives as the policy asks, after its change.

Messages come from sockets of this run's own, or from the recordings that another one keeps.
"""

from __future__ import annotations

import asyncio
import contextlib
import gzip
import time
from collections.abc import Callable, Mapping, Sequence
from datetime import UTC, date, datetime
from pathlib import Path

from ivrel.core.attribution.senders import Directory, attribute
from ivrel.core.evidence.expecting import CONTRADICTED, HEARD, Expecting
from ivrel.core.fleet import Device
from ivrel.core.policy import Policy
from ivrel.core.syslog.record import Record
from ivrel.core.vocabulary.errors import Unreadable
from ivrel.sources.messages.formats import read_kept

LOOK = 0.3  # seconds between two looks into recordings


class Hearing:
    """What has been heard of each device while its change was sent, and after."""

    def __init__(
        self, devices: Sequence[Device], policy: Policy, directory: Directory, today: date
    ) -> None:
        self._devices: Mapping[str, Device] = {d.name: d for d in devices}
        self._policy = policy
        self._directory = directory
        self._today = today
        self._records: dict[str, list[tuple[float, Record]]] = {}
        self._news: dict[str, asyncio.Event] = {}

    def begin(self, device: str) -> None:
        """Begin to note what a device says: its change is about to be sent."""
        self._records[device] = []
        self._news[device] = asyncio.Event()

    def take(self, record: Record) -> None:
        """Take a message as it comes."""
        found = attribute(record, self._directory)
        if found.is_sure and found.device in self._records:
            self._records[found.device].append((time.monotonic(), record))
            self._news[found.device].set()

    async def heard(self, device: str, since: float, seconds: float) -> str:
        """Wait until a message of a device has come that contradicts nothing; return '' then, and
        else, after this many seconds, what the last one contradicts.

        `since`: when the change took effect, by the clock that never goes back: what was said
        before proves nothing.
        """
        if device not in self._records:
            self.begin(device)
        expected = Expecting([self._devices[device]], self._policy, self._directory, self._today)
        with contextlib.suppress(TimeoutError):
            async with asyncio.timeout(seconds):
                while expected.states[device].state != HEARD:
                    for when, record in self._records[device]:
                        if when >= since and expected.states[device].state != HEARD:
                            expected.take(record)
                    self._records[device] = []
                    if expected.states[device].state != HEARD:
                        await self._news[device].wait()
                        self._news[device].clear()
        self._records.pop(device, None)
        found = expected.states[device]
        if found.state == HEARD:
            return ""
        if found.state == CONTRADICTED:
            return (
                f"its messages are not as asked: {found.against[0].setting}: {found.against[0].why}"
            )
        return f"no message of it arrived within {seconds:g} s"


async def following(folder: Path, take: Callable[[Record], None]) -> None:
    """Take the messages that are added to the recordings in a folder, until cancelled.

    A recording that is full, or over, is compressed: what was added last is then read from there.
    """
    places = {name: len(_read(path, 0)) for name, path in _recordings(folder).items()}
    while True:
        for name, path in _recordings(folder).items():
            places[name] = _added(path, places.get(name, 0), take)
        await asyncio.sleep(LOOK)


def _recordings(folder: Path) -> dict[str, Path]:
    """Return recordings by their names, compressed ones where there is no plain one any more."""
    found = sorted(folder.glob("heard-*.jsonl.gz")) + sorted(folder.glob("heard-*.jsonl"))
    return {path.name.removesuffix(".gz"): path for path in found}


def _read(path: Path, place: int) -> bytes:
    """Return the rest of a recording after a place; nothing if the recording is gone."""
    opened = gzip.open if path.suffix == ".gz" else open
    try:
        # One that is compressed does not grow, and is read as a whole again at most.
        with opened(path, "rb") as file:
            file.seek(place)
            return bytes(file.read())
    except (OSError, EOFError):
        return b""


def _added(path: Path, place: int, take: Callable[[Record], None]) -> int:
    """Take what was added to a file behind a place, and return where the last whole line ends."""
    data = _read(path, place)
    whole = data[: data.rfind(b"\n") + 1]
    for number, line in enumerate(whole.splitlines(), 1):
        with contextlib.suppress(Unreadable, ValueError):
            take(read_kept(line, str(path), number, datetime.now(UTC)))
    return place + len(whole)
