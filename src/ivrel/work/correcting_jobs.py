"""Jobs about corrections: they are computed, changes are proved, policies are compared."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from datetime import date
from functools import cached_property
from typing import Generic, TypeVar

import msgspec
from msgspec import Struct
from msgspec.structs import replace

from ivrel.core.correcting import (
    Correction,
    Corrector,
    Judged,
    WhatIf,
    Written,
    judge_change,
    what_if,
)
from ivrel.core.correcting.fleet_defaults import NOTHING_USUAL, Surveyor, Usual, Votes
from ivrel.core.fleet import Device
from ivrel.core.policy import Policy
from ivrel.core.text.text import Text
from ivrel.runners.job import Share
from ivrel.sources.daemon import DaemonCheck
from ivrel.sources.workspace import WorkspaceFiles
from ivrel.work.jobs import WorkspaceJob

R = TypeVar("R")


class NotCorrected(Struct, frozen=True):
    """A device that could not be read, and why."""

    device: str
    problem: str


class Surveying(WorkspaceJob[Votes]):
    """What each device has of some settings."""

    share = Share(alone=200, first=24, chunk=64)

    def __init__(self, workspace: WorkspaceFiles, today: date, settings: Collection[str]) -> None:
        super().__init__(workspace, today)
        self._settings = tuple(settings)

    @cached_property
    def _surveyor(self) -> Surveyor:
        return Surveyor(self._policy, self._settings)

    def one(self, device: Device, data: bytes, file: str) -> Votes:
        return self.votes(device, Text(data))

    def votes(self, device: Device, text: Text) -> Votes:
        """Return what one device has."""
        return self._surveyor.votes(device, self._dialect_of(device), text)

    def failed(self, device: Device, problem: str) -> Votes:
        return ()

    def pack(self, results: list[Votes]) -> bytes:
        return msgspec.msgpack.encode(results)

    def unpack(self, packed: bytes) -> list[Votes]:
        return msgspec.msgpack.decode(packed, type=list[Votes])


class OfCorrections(WorkspaceJob[R], Generic[R]):
    """What depends on corrections.

    `names`: the settings they are about, if not all; `usual`: what most of the fleet has, None
    while that is not known; `carry_out`: have the platform's own program run what is corrected.
    """

    # A correction takes as long as several audits: few of them are worth a process.
    share = Share(alone=6, first=24, chunk=16)

    def __init__(
        self,
        workspace: WorkspaceFiles,
        today: date,
        names: Collection[str] = (),
        usual: Usual | None = NOTHING_USUAL,
        *,
        carry_out: bool = False,
    ) -> None:
        super().__init__(workspace, today)
        self._carries = carry_out
        self._names = tuple(names)
        self._usual = usual

    @cached_property
    def _corrector(self) -> Corrector:
        return self._corrector_by(self._policy)

    @cached_property
    def _daemon(self) -> DaemonCheck:
        return DaemonCheck(carry_out=self._carries)

    def _corrector_by(self, policy: Policy) -> Corrector:
        return Corrector(policy, self._today, self._names, self._usual, self._known)

    def one(self, device: Device, data: bytes, file: str) -> R:
        return self.worked_out(device, Text(data), file)

    def worked_out(self, device: Device, text: Text, file: str) -> R:
        """Return what comes of one device; Undecided if that depends on what the fleet has."""
        raise NotImplementedError


class Correcting(OfCorrections["Correction | NotCorrected"]):
    """The correction of each device, with its proof.

    `needs_text`: whether the corrected configurations are wanted, too.
    """

    def __init__(
        self,
        workspace: WorkspaceFiles,
        today: date,
        names: Collection[str] = (),
        usual: Usual | None = NOTHING_USUAL,
        *,
        needs_text: bool = False,
        carry_out: bool = False,
    ) -> None:
        super().__init__(workspace, today, names, usual, carry_out=carry_out)
        self._needs_text = needs_text

    def worked_out(self, device: Device, text: Text, file: str) -> Correction | NotCorrected:
        dialect = self._dialect_of(device)
        done = self._corrector.correct(device, dialect, text, file)
        done = self._daemon.checked(done, dialect, text.data, device.software)
        if not done.changes:
            # Verdicts that do not change are reported by nobody.
            before = replace(done.before, verdicts=())
            done = replace(done, before=before, after=before)
        return done if self._needs_text else replace(done, corrected=b"")

    def failed(self, device: Device, problem: str) -> Correction | NotCorrected:
        return NotCorrected(device.name, problem)


class Proving(OfCorrections["Judged | NotCorrected"]):
    """What is to be said of a change that somebody wrote, for each device. `changes`: by device."""

    def __init__(
        self,
        workspace: WorkspaceFiles,
        today: date,
        changes: Mapping[str, Written],
        names: Collection[str] = (),
    ) -> None:
        super().__init__(workspace, today, names)
        self._changes = changes

    def worked_out(self, device: Device, text: Text, file: str) -> Judged | NotCorrected:
        dialect = self._dialect_of(device)
        begun = self._corrector.start(device, dialect, text, file)
        judged = judge_change(begun, self._changes[device.name])
        return self._daemon.checked(judged, dialect, text.data, device.software)

    def failed(self, device: Device, problem: str) -> Judged | NotCorrected:
        return NotCorrected(device.name, problem)


class ComparingPolicies(OfCorrections[WhatIf]):
    """What another policy would change for each device."""

    def __init__(
        self,
        workspace: WorkspaceFiles,
        today: date,
        other: Policy,
        names: Collection[str] = (),
        usual: Usual | None = NOTHING_USUAL,
    ) -> None:
        super().__init__(workspace, today, names, usual)
        self._other = other

    @cached_property
    def _correctors(self) -> tuple[Corrector, Corrector]:
        return self._corrector, self._corrector_by(self._other)

    def worked_out(self, device: Device, text: Text, file: str) -> WhatIf:
        return what_if(device, self._dialect_of(device), text, self._correctors, file)

    def failed(self, device: Device, problem: str) -> WhatIf:
        return WhatIf(device.name, device.platform, problem=problem)
