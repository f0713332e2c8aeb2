"""Proofs of changes that somebody else wrote, against the configurations at hand."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from pathlib import Path

from msgspec import Struct

from ivrel.core.correcting import STATES, Judged, Written
from ivrel.core.fleet import Device
from ivrel.core.vocabulary.errors import InputError
from ivrel.runners import through
from ivrel.sources.corrections import read_change, read_corrections
from ivrel.sources.workspace import WorkspaceFiles
from ivrel.work.correcting_jobs import NotCorrected, Proving
from ivrel.work.run import RunOptions


class ExistingChanges(Struct, frozen=True):
    """Changes for some devices; `unread`: names without a change that can be read, and why."""

    devices: tuple[Device, ...]
    changes: dict[str, Written]
    unread: tuple[tuple[str, str], ...]


class ProofResult(Struct, frozen=True):
    """The proofs of existing changes; `unread`: devices that could not be judged, and why."""

    judged: tuple[Judged, ...]
    unread: tuple[tuple[str, str], ...]

    @property
    def failing(self) -> list[Judged]:
        """The changes that are not proved, the worst first."""
        worst = sorted(self.judged, key=lambda one: STATES.index(one.state))
        return [one for one in worst if one.state in ("refused", "fails")]

    @property
    def holds(self) -> bool:
        """Whether every change is proved, or is already in the configuration."""
        return not self.failing and not self.unread


def existing_changes(
    files: WorkspaceFiles, path: Path, devices: Sequence[Device]
) -> ExistingChanges:
    """Return the changes for some devices: of a folder, or of one file for one device.

    Raise InputError if there is none.
    """
    if path.is_file():
        if len(devices) != 1:
            raise InputError(
                f"{path} is one change, and {len(devices)} devices are chosen; expected one"
            )
        return ExistingChanges(tuple(devices), {devices[0].name: read_change(path)}, ())
    found = read_corrections(path)
    fleet = {d.name for d in files.fleet.devices}
    chosen = {d.name for d in devices}
    unread = [(name, "no device of the fleet is called so") for name in found if name not in fleet]
    changes: dict[str, Written] = {}
    for name, one in found.items():
        if name not in chosen:
            continue
        if isinstance(one, str):
            unread.append((name, one))
        else:
            changes[name] = one
    if not changes and not unread:
        raise InputError(f"{path} holds no change of the devices that are chosen")
    return ExistingChanges(tuple(d for d in devices if d.name in changes), changes, tuple(unread))


def proofs_of(
    files: WorkspaceFiles,
    options: RunOptions,
    existing: ExistingChanges,
    settings: Collection[str] = (),
) -> ProofResult:
    """Return the proof of each change against the device's configuration."""
    judged: list[Judged] = []
    unread = list(existing.unread)
    job = Proving(files, options.today, existing.changes, settings)
    found = through(job, existing.devices, options.scheduler, send=options.send)
    for done in options.reported(found, len(existing.devices), "proving"):
        if isinstance(done, NotCorrected):
            unread.append((done.device, done.problem))
        else:
            judged.append(done)
    return ProofResult(tuple(judged), tuple(unread))
