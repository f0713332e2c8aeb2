"""Gathers from many stand-ins on this machine, against opening as many connections to them.

python bench/gather.py [--devices N] [--processes N] [--at-once N]

The yardstick is the same number of SSH sessions by the same library, each of which logs in and does
nothing, those behind a host through one connection to it: what remains is Ivrel's own.
"""

from __future__ import annotations

import argparse
import asyncio
import resource
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from typing import Any

import asyncssh

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

from fleets import PROGRAM, standins, write_fleet

from ivrel.core import read_fleet
from ivrel.core.fleet import Device
from ivrel.core.reach import reach_of
from ivrel.standin.example import NETCONF_PORT, SSH_PORT


def main() -> None:
    """Gather twice and print seconds, the ratio to the yardstick, and memory."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--devices", type=int, default=1000)
    parser.add_argument("--processes", type=int, default=2)
    parser.add_argument("--at-once", type=int, default=50)
    args = parser.parse_args()
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        devices = write_fleet(folder, args.devices, patience=30)
        with standins(folder, "--processes", str(args.processes)):
            yardstick = _seconds(folder, devices, args.at_once)
            print(f"yardstick: {args.devices} sessions that do nothing: {yardstick:.1f} s")
            for what in ("first", "again"):
                begun = time.monotonic()
                words = ["gather", "-w", str(folder), "--at-once", str(args.at_once)]
                done = subprocess.run(
                    [PROGRAM, *words], capture_output=True, text=True, check=False
                )
                took = time.monotonic() - begun
                sums = [line for line in done.stdout.splitlines() if " in " in line][-1]
                print(f"{what}: {took:.1f} s, {took / yardstick:.1f} times the yardstick: {sums}")
    peak = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss // 1024
    print(f"memory of the largest process: {peak} MiB")


def _seconds(folder: Path, devices: list[Device], at_once: int) -> float:
    """Return how long as many sessions take that do nothing."""
    key = asyncssh.read_private_key(str(folder / ".ivrel" / "standin" / "key"))
    room = asyncio.Semaphore(at_once)

    ways = read_fleet((folder / "fleet.yaml").read_text(), "fleet.yaml").ways
    common: dict[str, Any] = {
        "username": "keeper",
        "client_keys": [key],
        "known_hosts": None,
        "config": None,
        "agent_path": None,
    }

    async def one(device: Device, host: asyncssh.SSHClientConnection) -> None:
        is_model = device.platform in ("ietf-syslog", "openconfig")
        async with (
            room,
            asyncssh.connect(
                device.identity or "",
                NETCONF_PORT if is_model else SSH_PORT,
                tunnel=host if reach_of(ways.rules, device).through else None,
                **common,
            ),
        ):
            pass

    async def go() -> None:
        (host,) = ways.hosts.values()
        async with asyncssh.connect(host.address, host.port, **common) as between:
            await asyncio.gather(*(one(device, between) for device in devices))

    begun = time.monotonic()
    asyncio.run(go())
    return time.monotonic() - begun


if __name__ == "__main__":
    main()
