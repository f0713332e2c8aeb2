"""What is done with each device of a workspace: it is audited, or its correction is written."""

from __future__ import annotations

import os
import pickle
from collections.abc import Collection, Sequence
from datetime import date

import msgspec
from msgspec import Struct

from ivrel.core.audit import DeviceResult
from ivrel.core.correct import Correction, correct
from ivrel.core.fleet import Device
from ivrel.core.mistakes import Unreadable, own_error
from ivrel.runners.through import Share
from ivrel.sources.daemon import checked
from ivrel.sources.workspace import Workspace


class Auditing:
    """The audit of each device against the workspace's policy."""

    share = Share(alone=200, first=24, chunk=64)

    def __init__(self, workspace: Workspace, today: date) -> None:
        self._workspace, self._today = workspace, today
        self._decoder = msgspec.msgpack.Decoder(list[DeviceResult])

    def prepare(self, devices: Sequence[Device]) -> None:
        self._workspace.prepare(devices)

    def one(self, device: Device) -> DeviceResult:
        return self._workspace.audit_device(device, self._today)

    def pack(self, results: list[DeviceResult]) -> bytes:
        return msgspec.msgpack.encode(results)

    def unpack(self, packed: bytes) -> list[DeviceResult]:
        return self._decoder.decode(packed)


class NotCorrected(Struct, frozen=True):
    """A device that could not be read, and why."""

    device: str
    problem: str


class Correcting:
    """The correction of each device, with its proof; `names`: the settings that it is about, if not all."""

    share = Share(alone=6, first=0, chunk=3)

    def __init__(self, workspace: Workspace, today: date, names: Collection[str] = ()) -> None:
        self._workspace, self._today, self._names = workspace, today, names

    def prepare(self, devices: Sequence[Device]) -> None:
        self._workspace.prepare(devices)

    def one(self, device: Device) -> Correction | NotCorrected:
        workspace = self._workspace
        dialect = workspace.dialects[device.platform]
        try:
            data, file = workspace.text(device)
            done = correct(device, dialect, data, workspace.policy, self._today, file, self._names)
            return checked(done, data)
        except Unreadable as problem:
            return NotCorrected(device.name, str(problem))
        except Exception as problem:  # one device never stops the others
            if os.environ.get("IVREL_TRACEBACK"):
                raise
            return NotCorrected(device.name, own_error(problem))

    def pack(self, results: list[Correction | NotCorrected]) -> bytes:
        return pickle.dumps(results)

    def unpack(self, packed: bytes) -> list[Correction | NotCorrected]:
        found: list[Correction | NotCorrected] = pickle.loads(packed)
        return found
