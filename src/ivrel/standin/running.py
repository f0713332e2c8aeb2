"""Running: stand-ins in one process or several, and requests to those that run."""

from __future__ import annotations

import asyncio
import multiprocessing
import os
import signal
import socket
from collections.abc import Callable, Sequence
from multiprocessing.connection import Connection
from pathlib import Path

import msgspec
from msgspec import Struct

from ivrel.core.fleet import Device
from ivrel.core.vocabulary.errors import InputError, Unreadable
from ivrel.sources.files import read_bytes, write_bytes
from ivrel.sources.workspace import WorkspaceFiles
from ivrel.standin.certificate import make_certificate
from ivrel.standin.serving import FOLDER, RUNNING, Response, Serving, StandinOptions, prepare


class Running(Struct, frozen=True):
    """What runs: the process that began it, and the sockets that take requests."""

    pid: int
    sockets: tuple[str, ...]


def serve(
    workspace: WorkspaceFiles,
    devices: Sequence[Device],
    plan: StandinOptions,
    processes: int,
    ready: Callable[[int], None],
) -> None:
    """Serve devices until told to end; `ready` is given their number when all are there."""
    path = _file(workspace.folder)
    if _is_running(path):
        raise InputError(
            "stand-ins of this workspace are running; 'ivrel standin --stop' ends them"
        )
    prepare(path.parent)
    if workspace.has_policy:
        make_certificate(path.parent, workspace.policy.collectors.values())

    def running(number: int, sockets: Sequence[str]) -> None:
        write_bytes(path, msgspec.json.encode(Running(os.getpid(), tuple(sockets))))
        ready(number)

    try:
        if processes <= 1:
            serving = Serving(workspace, devices, plan)
            asyncio.run(serving.run(lambda number, where: running(number, [where])))
        else:
            _in_processes(workspace, devices, plan, processes, running)
    finally:
        path.unlink(missing_ok=True)


def _in_processes(
    workspace: WorkspaceFiles,
    devices: Sequence[Device],
    plan: StandinOptions,
    processes: int,
    running: Callable[[int, Sequence[str]], None],
) -> None:
    context = multiprocessing.get_context("fork")
    shares = []
    pipes = []
    for ending in (signal.SIGTERM, signal.SIGHUP):
        signal.signal(ending, signal.default_int_handler)  # ends it as Ctrl-C does
    for n in range(processes):
        ours, theirs = context.Pipe()
        some = devices[n::processes]
        args = (workspace, some, plan, ours, theirs, not n)
        one = context.Process(target=_share, args=args, daemon=True)
        one.start()
        theirs.close()
        shares.append(one)
        pipes.append(ours)
    try:
        told = [pipe.recv() for pipe in pipes]
        problem = next((said for _, _, said in told if said), "")
        if problem:
            raise InputError(problem)
        running(sum(number for number, _, _ in told), [where for _, where, _ in told])
        for one in shares:
            one.join()
    except KeyboardInterrupt:
        pass
    finally:
        for one in shares:
            if one.pid and one.is_alive():
                os.kill(one.pid, signal.SIGTERM)
            one.join(5)


def _share(
    workspace: WorkspaceFiles,
    devices: Sequence[Device],
    plan: StandinOptions,
    ours: Connection,
    pipe: Connection,
    has_hosts: bool,
) -> None:
    """Serve a share of the devices in a process of its own, until the first one ends.

    `ours`: the end of the pipe that the first process holds, and nobody else may; `has_hosts`: it
    serves the hosts in between, too.
    """
    ours.close()
    try:
        serving = Serving(workspace, devices, plan)

        def ready(number: int, where: str) -> None:
            pipe.send((number, where, ""))

        asyncio.run(serving.run(ready, pipe.fileno(), has_hosts=has_hosts))
    except InputError as problem:
        pipe.send((0, "", str(problem)))


def asked(folder: Path, request: Sequence[str]) -> str:
    """Send a request to the stand-ins that run, and return what they say to it."""
    path = _file(folder)
    if not _is_running(path):
        raise InputError("no stand-ins of this workspace are running; 'ivrel standin' starts them")
    running = msgspec.json.decode(read_bytes(path, str(path)), type=Running)
    found = [one for one in (_said(where, request) for where in running.sockets) if one.said]
    if not found:
        raise InputError(f"no stand-in is called '{request[1]}'")
    if found[0].is_wrong:
        raise InputError(found[0].said)
    return found[0].said


def _said(where: str, request: Sequence[str]) -> Response:
    with socket.socket(socket.AF_UNIX, socket.SOCK_STREAM) as one:
        one.settimeout(10)
        one.connect(where)
        one.sendall(msgspec.json.encode(list(request)) + b"\n")
        parts = []
        while part := one.recv(1 << 16):
            parts.append(part)
    return msgspec.json.decode(b"".join(parts), type=Response)


def _file(folder: Path) -> Path:
    return folder / ".ivrel" / FOLDER / RUNNING


def _is_running(path: Path) -> bool:
    """Whether the processes named in a file are alive."""
    try:
        running = msgspec.json.decode(read_bytes(path, str(path)), type=Running)
        os.kill(running.pid, 0)
    except (OSError, msgspec.DecodeError, Unreadable):
        return False
    return True
