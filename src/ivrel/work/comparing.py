"""What another policy would change."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from pathlib import Path

from ivrel.core.correcting import WhatIf
from ivrel.core.fleet import Device
from ivrel.core.policy import Policy
from ivrel.sources import workspace as sources
from ivrel.sources.workspace import WorkspaceFiles
from ivrel.work.correcting_jobs import ComparingPolicies
from ivrel.work.deciding import Deciding, left_open
from ivrel.work.run import RunOptions


def policy_of(file: Path | str) -> Policy:
    """Return the policy of a file, with the files that it includes."""
    return sources.policy_of(Path(), str(file))


def compared(
    files: WorkspaceFiles,
    options: RunOptions,
    other: Policy,
    devices: Sequence[Device],
    settings: Collection[str] = (),
) -> tuple[WhatIf, ...]:
    """Return the differences that the other policy makes for each device: verdicts and
    corrections.
    """
    run = Deciding(
        files,
        options,
        lambda usual: ComparingPolicies(files, options.today, other, settings, usual),
        left_open([files.policy, other], settings),
        doing="comparing",
    )
    return tuple(run.through(devices))
