"""What is done with each device of a workspace: it is audited, its correction is written, or it is
judged by two policies.
"""

from __future__ import annotations

import pickle
from collections.abc import Collection, Mapping, Sequence
from datetime import date
from typing import Any, Generic, TypeVar

import msgspec
from msgspec import Struct
from msgspec.structs import replace

from ivrel.core.correcting import (
    Correction,
    Judged,
    WhatIf,
    Written,
    correct,
    judge_change,
    start,
    what_if,
)
from ivrel.core.dialects import Dialect
from ivrel.core.fleet import Device
from ivrel.core.judging import Auditor, DeviceResult, unreadable
from ivrel.core.policy import Policy
from ivrel.runners.job import Job, Share
from ivrel.sources.daemon import checked
from ivrel.sources.workspace import Workspace

R = TypeVar("R")


class _OfWorkspace(Job[R], Generic[R]):
    """A job on the devices of a workspace, by its policy, on one day."""

    def __init__(self, workspace: Workspace, today: date) -> None:
        self.texts, self._today = workspace.texts, today
        self._policy = workspace.policy
        self._known = workspace.dialects
        self._dialects: dict[str, Dialect] = {}

    def prepare(self, devices: Sequence[Device]) -> None:
        platforms = {d.platform: None for d in devices}
        self._dialects = {name: self._known[name] for name in platforms}


class Auditing(_OfWorkspace[DeviceResult]):
    """The audit of each device against the workspace's policy."""

    share = Share(alone=200, first=24, chunk=64)

    def __init__(self, workspace: Workspace, today: date) -> None:
        super().__init__(workspace, today)
        self._begin()

    def _begin(self) -> None:
        self._auditor = Auditor(self._policy, self._today, self._known)
        self._decoder = msgspec.msgpack.Decoder(list[DeviceResult])

    def __getstate__(self) -> dict[str, Any]:
        # Neither what was learned nor what unpacks is sent along.
        own = ("_auditor", "_decoder")
        return {name: value for name, value in self.__dict__.items() if name not in own}

    def __setstate__(self, state: dict[str, Any]) -> None:
        self.__dict__.update(state)
        self._begin()

    def one(self, device: Device, data: bytes, file: str) -> DeviceResult:
        return self._auditor.audit(device, self._dialects[device.platform], data, file)

    def failed(self, device: Device, problem: str) -> DeviceResult:
        return unreadable(device, self._policy, problem)

    def pack(self, results: list[DeviceResult]) -> bytes:
        return msgspec.msgpack.encode(results)

    def unpack(self, packed: bytes) -> list[DeviceResult]:
        return self._decoder.decode(packed)


class NotCorrected(Struct, frozen=True):
    """A device that could not be read, and why."""

    device: str
    problem: str


class _OfCorrections(_OfWorkspace[R], Generic[R]):
    """What hangs on corrections. `names`: the settings they are about, if not all."""

    # A correction takes as long as several audits: few of them are worth a process.
    share = Share(alone=6, first=0, chunk=3)

    def __init__(self, workspace: Workspace, today: date, names: Collection[str] = ()) -> None:
        super().__init__(workspace, today)
        self._names = tuple(names)

    def pack(self, results: list[R]) -> bytes:
        # Corrections hold types of many modules. The bytes come from this program's own workers.
        return pickle.dumps(results)

    def unpack(self, packed: bytes) -> list[R]:
        found: list[R] = pickle.loads(packed)
        return found


class Correcting(_OfCorrections["Correction | NotCorrected"]):
    """The correction of each device, with its proof.

    `needs_text`: whether the corrected configurations are wanted, too.
    """

    def __init__(
        self,
        workspace: Workspace,
        today: date,
        names: Collection[str] = (),
        *,
        needs_text: bool = False,
    ) -> None:
        super().__init__(workspace, today, names)
        self._needs_text = needs_text

    def one(self, device: Device, data: bytes, file: str) -> Correction | NotCorrected:
        dialect = self._dialects[device.platform]
        done = correct(device, dialect, data, self._policy, self._today, file, self._names)
        done = checked(done, data)
        return done if self._needs_text else replace(done, corrected=b"")

    def failed(self, device: Device, problem: str) -> Correction | NotCorrected:
        return NotCorrected(device.name, problem)


class Proving(_OfCorrections["Judged | NotCorrected"]):
    """What is to be said of a change that somebody wrote, for each device. `changes`: by device."""

    def __init__(
        self,
        workspace: Workspace,
        today: date,
        changes: Mapping[str, Written],
        names: Collection[str] = (),
    ) -> None:
        super().__init__(workspace, today, names)
        self._changes = changes

    def one(self, device: Device, data: bytes, file: str) -> Judged | NotCorrected:
        dialect, policy = self._dialects[device.platform], self._policy
        begun = start(device, dialect, data, policy, self._today, file, self._names)
        return checked(judge_change(begun, self._changes[device.name]), data)

    def failed(self, device: Device, problem: str) -> Judged | NotCorrected:
        return NotCorrected(device.name, problem)


class ComparingPolicies(_OfCorrections[WhatIf]):
    """What another policy would change for each device."""

    def __init__(
        self, workspace: Workspace, today: date, other: Policy, names: Collection[str] = ()
    ) -> None:
        super().__init__(workspace, today, names)
        self._other = other

    def one(self, device: Device, data: bytes, file: str) -> WhatIf:
        dialect, policies = self._dialects[device.platform], (self._policy, self._other)
        return what_if(device, dialect, data, policies, self._today, file, self._names)

    def failed(self, device: Device, problem: str) -> WhatIf:
        return WhatIf(device.name, device.platform, problem=problem)
