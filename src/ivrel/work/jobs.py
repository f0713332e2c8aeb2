"""What is done with each device of a run: the base of all jobs, and the audit."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date
from functools import cached_property
from typing import Any, Generic, TypeVar

import msgspec

from ivrel.core.dialects import Dialect
from ivrel.core.fleet import Device
from ivrel.core.judging import Auditor, DeviceResult, unreadable
from ivrel.runners.job import Job, Share
from ivrel.sources.workspace import WorkspaceFiles

R = TypeVar("R")

_RESULTS = msgspec.msgpack.Decoder(list[DeviceResult])


class WorkspaceJob(Job[R], Generic[R]):
    """A job on the devices of a workspace, by its policy, on one day."""

    def __init__(self, workspace: WorkspaceFiles, today: date) -> None:
        self.texts = workspace.texts
        self._today = today
        self._policy = workspace.policy
        self._known = workspace.dialects

    def prepare(self, devices: Sequence[Device]) -> None:
        # Read once here, dialects go along with the job to other processes.
        for device in devices:
            if device.platform in self._known.files:
                self._known.of(device)

    def _dialect_of(self, device: Device) -> Dialect:
        """Return the dialect of a device; Unreadable if its platform has none."""
        return self._known.of(device)

    def __getstate__(self) -> dict[str, Any]:
        # What a run remembers is no part of what is sent.
        return {name: value for name, value in self.__dict__.items() if name not in _REMEMBERED}


_REMEMBERED = ("_auditor", "_daemon", "_corrector", "_correctors", "_surveyor")


class Auditing(WorkspaceJob[DeviceResult]):
    """The audit of each device against the workspace's policy."""

    share = Share(alone=200, first=24, chunk=64)

    @cached_property
    def _auditor(self) -> Auditor:
        return Auditor(self._policy, self._today, self._known)

    def one(self, device: Device, data: bytes, file: str) -> DeviceResult:
        return self._auditor.audit(device, self._dialect_of(device), data, file)

    def failed(self, device: Device, problem: str) -> DeviceResult:
        return unreadable(device, self._policy, problem)

    def pack(self, results: list[DeviceResult]) -> bytes:
        return msgspec.msgpack.encode(results)

    def unpack(self, packed: bytes) -> list[DeviceResult]:
        return _RESULTS.decode(packed)
