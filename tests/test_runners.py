"""Runs over many devices: in this process, in several, and on a Dask cluster they give the same."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from conftest import TODAY, Run

from ivrel.core.fleet import Device
from ivrel.core.vocabulary.verdict import DeviceResult
from ivrel.runners import Job, Share, through
from ivrel.sources.workspace import WorkspaceFiles
from ivrel.work.correcting_jobs import Correcting
from ivrel.work.jobs import Auditing

distributed = pytest.importorskip(
    "distributed", reason="Dask is not installed: pip install 'ivrel[scale]'"
)


@pytest.fixture(scope="module")
def scheduler() -> Iterator[str]:
    options = {"n_workers": 2, "threads_per_worker": 1, "dashboard_address": ":0"}
    with distributed.LocalCluster(host="127.0.0.1", **options) as cluster:
        yield cluster.scheduler_address


def told(
    job: Job[Any], devices: tuple[Device, ...], scheduler: str = "", send: bool = False
) -> list[Any]:
    return list(through(job, devices, scheduler, send=send))


@pytest.mark.parametrize("send", [False, True])
@pytest.mark.deep
def test_a_cluster_tells_what_one_process_tells(scheduler: str, example: Path, send: bool) -> None:
    workspace = WorkspaceFiles(example)
    devices = workspace.fleet.devices
    plain = told(Auditing(workspace, TODAY), devices)
    assert told(Auditing(workspace, TODAY), devices, scheduler, send) == plain
    some = devices[:9]
    assert told(Correcting(workspace, TODAY), some, scheduler, send) == told(
        Correcting(workspace, TODAY), some
    )


def test_processes_tell_what_one_process_tells(example: Path) -> None:
    class Shared(Auditing):
        share = Share(alone=0, first=2, chunk=3)

    workspace = WorkspaceFiles(example)
    devices = workspace.fleet.devices
    assert told(Shared(workspace, TODAY), devices) == told(Auditing(workspace, TODAY), devices)


def test_one_device_never_stops_the_others(example: Path) -> None:
    class Failing(Auditing):
        def one(self, device: Device, data: bytes, file: str) -> DeviceResult:
            if device.site == "tarsk":
                raise KeyError("not foreseen")
            return super().one(device, data, file)

    workspace = WorkspaceFiles(example)
    found = told(Failing(workspace, TODAY), workspace.fleet.devices)
    problems = [r.problem for r in found if r.site == "tarsk"]
    assert len(found) == len(workspace.fleet.devices) and problems
    assert all(
        "an error in Ivrel itself, KeyError; IVREL_TRACEBACK=1 shows where" in p for p in problems
    )


@pytest.mark.deep
def test_a_call_names_a_scheduler(scheduler: str, ivrel: Run, example: Path) -> None:
    plain = ivrel("audit", "-w", example, "--format", "json", code=1).stdout
    assert (
        ivrel("audit", "-w", example, "--format", "json", "--scheduler", scheduler, code=1).stdout
        == plain
    )
    # Workers run in a folder of their own, whatever the workspace is called.
    here = ivrel("audit", "--format", "json", "--scheduler", scheduler, code=1, cwd=example)
    assert here.stdout == plain
    done = ivrel(
        "correct", "-w", example, "--scheduler", scheduler, "--send", "--site", "kelby", code=0
    )
    assert done.stdout == ivrel("correct", "-w", example, "--site", "kelby", code=0).stdout
    wrong = ivrel("audit", "-w", example, "--scheduler", "nowhere", code=2)
    assert (
        wrong.stderr.startswith("ivrel: no Dask scheduler answers at 'nowhere': ")
        and wrong.stderr.count("\n") == 1
    )
    lone = ivrel("correct", "-w", example, "--send", code=2)
    assert lone.stderr == (
        "ivrel: --send sends configurations to a scheduler; name it with --scheduler\n"
    )


@pytest.mark.deep
def test_messages_are_counted_alike_in_all_ways(
    ivrel: Run, example: Path, tmp_path: Path, scheduler: str
) -> None:
    """In one process, in several and on a cluster, and whether records are sent or not."""
    line = b"<181>Nov 23 2026 10:00:00.123 UTC tarsk-fw2 su: %s\n"
    path = tmp_path / "large.log"
    path.write_bytes(b"".join(line % (b"x" * (n % 100)) for n in range(150_000)) + b"<13>other\n")
    words = ("heard", "-w", example, path, "--format", "csv")
    outcomes = [
        ivrel(*words, code=0).stdout,
        ivrel(*words, "--scheduler", scheduler, code=0).stdout,
        ivrel(*words, "--scheduler", scheduler, "--send", code=0).stdout,
    ]
    assert outcomes[0] == outcomes[1] == outcomes[2]
    assert 'tarsk-fw2,export,proved,"150,000 messages"' in outcomes[0]
