"""Ivrel audits, corrects and proves the syslog export settings of a fleet of network devices.

>>> import ivrel
>>> network = ivrel.open("skerry")
>>> sum(result.good for result in network.audit())
6

docs/library.md shows what else a program can do. What goes wrong is raised as `IvrelError`.
"""

from __future__ import annotations

from collections.abc import Mapping
from importlib import import_module
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from datetime import date
    from pathlib import Path

    from ivrel.core.attribution.filtering import Wanted as Wanted
    from ivrel.core.correcting import Correction as Correction
    from ivrel.core.delivery.corrections import CorrectionSet as CorrectionSet
    from ivrel.core.delivery.gathering import GatheredDevice as GatheredDevice
    from ivrel.core.delivery.record import DeliveryRecord as DeliveryRecord
    from ivrel.core.evidence.claims import Claim as Claim
    from ivrel.core.evidence.results import DeviceHeard as DeviceHeard
    from ivrel.core.evidence.results import HeardResult as HeardResult
    from ivrel.core.fleet import Device as Device
    from ivrel.core.vocabulary.errors import InputError as InputError
    from ivrel.core.vocabulary.errors import IvrelError as IvrelError
    from ivrel.core.vocabulary.errors import Unreadable as Unreadable
    from ivrel.core.vocabulary.verdict import DeviceResult as DeviceResult
    from ivrel.core.vocabulary.verdict import Verdict as Verdict
    from ivrel.work.correcting_jobs import NotCorrected as NotCorrected
    from ivrel.work.correction import WaveOptions as WaveOptions
    from ivrel.work.delivery import DeliveryCall as DeliveryCall
    from ivrel.work.delivery import DeliveryWatch as DeliveryWatch
    from ivrel.work.gathering import GatherOptions as GatherOptions
    from ivrel.work.run import Progress as Progress
    from ivrel.work.workspace import Workspace as Workspace

__version__ = "0.1.0"

# Where each public name is defined; its module is loaded when the name is first used.
_HOMES: Mapping[str, str] = {
    "Claim": "core.evidence.claims",
    "Correction": "core.correcting",
    "CorrectionSet": "core.delivery.corrections",
    "DeliveryCall": "work.delivery",
    "DeliveryRecord": "core.delivery.record",
    "DeliveryWatch": "work.delivery",
    "Device": "core.fleet",
    "DeviceHeard": "core.evidence.results",
    "DeviceResult": "core.vocabulary.verdict",
    "GatherOptions": "work.gathering",
    "GatheredDevice": "core.delivery.gathering",
    "HeardResult": "core.evidence.results",
    "InputError": "core.vocabulary.errors",
    "IvrelError": "core.vocabulary.errors",
    "NotCorrected": "work.correcting_jobs",
    "Progress": "work.run",
    "Unreadable": "core.vocabulary.errors",
    "Verdict": "core.vocabulary.verdict",
    "Wanted": "core.attribution.filtering",
    "WaveOptions": "work.correction",
    "Workspace": "work.workspace",
}

__all__ = ["open", *_HOMES]


def open(
    folder: Path | str,
    *,
    policy: Path | str = "",
    today: date | None = None,
    progress: Progress | None = None,
    scheduler: str = "",
    send: bool = False,
) -> Workspace:
    """Open a workspace: a folder with a fleet, a policy and configurations.

    policy: another policy file than the workspace's own.
    today: the day that waivers are judged for (default: the current day).
    progress: called during runs with what is done, how many are done, and how many there are.
    scheduler: the address of a Dask scheduler whose workers do the work; send: send the input to
    them, which they otherwise read from the same path.

    Raise InputError if there is no such folder. Files in it are read when they are needed.
    """
    from ivrel.work.workspace import Workspace

    return Workspace(
        folder, policy=policy, today=today, progress=progress, scheduler=scheduler, send=send
    )


def __getattr__(name: str) -> Any:
    if name in _HOMES:
        return getattr(import_module(f"ivrel.{_HOMES[name]}"), name)
    raise AttributeError(f"module 'ivrel' has no attribute '{name}'")
