"""Serving: the stand-ins of a fleet in this process, and the socket for requests to them."""

from __future__ import annotations

import asyncio
import contextlib
import os
import secrets
import signal
import tempfile
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path

import asyncssh
import msgspec
from msgspec import Struct

from ivrel.core.evidence.emitters import Event
from ivrel.core.fleet import Device
from ivrel.core.reach import PORTS, Reach, reach_of
from ivrel.core.vocabulary.errors import InputError, IvrelError, Mistake
from ivrel.core.vocabulary.severity import SEVERITIES
from ivrel.sources.files import OWN, reason, write_bytes
from ivrel.sources.workspace import WorkspaceFiles
from ivrel.standin.certificate import CERTIFICATE
from ivrel.standin.faults import FAULTS, Chance, Fault, fault_of
from ivrel.standin.files import Root
from ivrel.standin.netconf import Server, serve
from ivrel.standin.speaking import Mouth
from ivrel.standin.ssh import Door, JumpHost, talk
from ivrel.standin.talk import Talker
from ivrel.standin.tree import as_xml
from ivrel.standin.unit import Unit

FOLDER = "standin"  # in .ivrel/
CLIENT_KEY = "key"
HOST_KEYS = "host-keys"
RUNNING = "running.json"
SECOND = "second-password"  # the file of what allows one to change things
CHATTER = (
    Event(6, "link", "port up"),
    Event(5, "link", "port flapped"),
    Event(4, "env", "fan at another speed than expected"),
    Event(3, "route", "neighbour lost"),
)


class StandinOptions(Struct, frozen=True):
    """What is asked of stand-ins.

    `share`, `seed`: the share of sessions with a fault, and the seed of the random choice;
    `faults`: by device; `every`: seconds between two events of a device, 0 for none.
    """

    share: float = 0.0
    seed: int = 1
    faults: dict[str, Fault] = {}
    every: float = 0.0


class Response(Struct, frozen=True):
    """What is answered to a request: what came of it, or (`is_wrong`) what is wrong with it."""

    said: str
    is_wrong: bool = False


class Serving:
    """The stand-ins of some devices of a workspace."""

    def __init__(
        self, workspace: WorkspaceFiles, devices: Sequence[Device], plan: StandinOptions
    ) -> None:
        self._workspace = workspace
        self._devices = devices
        self._plan = plan
        self.folder = workspace.folder / ".ivrel" / FOLDER
        self._units: dict[str, Unit] = {}
        self._servers: list[asyncssh.SSHAcceptor] = []
        self._done = asyncio.Event()
        collectors = workspace.policy.collectors if workspace.has_policy else {}
        self._collectors = collectors
        self._mouth = Mouth(collectors, self.folder / CERTIFICATE)
        self._chance = Chance(plan.share, plan.seed)

    async def run(
        self, ready: Callable[[int, str], None], ends_with: int = -1, *, has_hosts: bool = True
    ) -> None:
        """Serve until told to end; `ready` is given the number of devices and the socket.

        `ends_with`: a file descriptor whose other end is held as long as this is to go on;
        `has_hosts`: the hosts that devices are reached through are served, too.
        """
        loop = asyncio.get_running_loop()
        for number in (signal.SIGINT, signal.SIGTERM):
            with contextlib.suppress(NotImplementedError, ValueError):
                loop.add_signal_handler(number, self._done.set)
        if ends_with >= 0:
            loop.add_reader(ends_with, self._done.set)
        keys = prepare(self.folder)
        for device in self._devices:
            await self._begin(device, *keys)
        if has_hosts:
            await self._begin_hosts(*keys)
        # Names of sockets have a limit, which the folder of a workspace may exceed.
        with tempfile.TemporaryDirectory(prefix="ivrel-") as name:
            path = f"{name}/{os.getpid()}"
            control = await asyncio.start_unix_server(self._told, path)
            chatter = asyncio.create_task(self._chatter())
            ready(len(self._units), path)
            await self._done.wait()
            chatter.cancel()
            control.close()
            for server in self._servers:
                server.close()
            self._mouth.close()

    async def _begin(
        self, device: Device, client: asyncssh.SSHKey, options: asyncssh.SSHServerConnectionOptions
    ) -> None:
        """Begin to serve a device; InputError tells why it cannot be served."""
        workspace = self._workspace
        reach = reach_of(workspace.fleet.ways.rules, device)
        dialect = workspace.dialects.of(device)
        data, _ = workspace.text(device)
        if reach.via == "netconf":
            data = as_xml(dialect, data)
        unit = Unit(device, dialect, data, self._collectors, self._mouth, self._chance)
        unit.fault = self._plan.faults.get(device.name)
        self._units[device.name] = unit
        with self._stands(device.name, reach, device.line):
            self._servers.append(await self._listen(unit, reach, client, options))

    async def _begin_hosts(
        self, client: asyncssh.SSHKey, options: asyncssh.SSHServerConnectionOptions
    ) -> None:
        """Begin to serve the hosts that devices are reached through."""
        ways = self._workspace.fleet.ways
        for name, reach in ways.hosts.items():
            with self._stands(name, reach, 0):
                server = await asyncssh.listen(
                    reach.address,
                    reach.port or PORTS["ssh"],
                    options=options,
                    server_host_keys=[_key(self.folder / HOST_KEYS / f"host-{name}")],
                    server_factory=lambda: JumpHost(client),
                )
                self._servers.append(server)

    @contextlib.contextmanager
    def _stands(self, name: str, reach: Reach, line: int) -> Iterator[None]:
        """InputError tells why something cannot be at its address."""
        try:
            yield
        except OSError as problem:
            said = f"{name} cannot stand at {reach.address} port {reach.port}"
            hint = "expected an address of loopback, as 'ivrel standin --new DIR' writes them"
            why = os.strerror(problem.errno).lower() if problem.errno else reason(problem)
            file = self._workspace.fleet.file
            raise InputError([Mistake(file, f"{said}: {why}; {hint}", line)]) from None

    async def _listen(
        self,
        unit: Unit,
        reach: Reach,
        client: asyncssh.SSHKey,
        options: asyncssh.SSHServerConnectionOptions,
    ) -> asyncssh.SSHAcceptor:
        session = unit.dialect.session
        locks = dict[str, Server]()
        root: Root | None = None
        if session is not None and session.files:
            root = Root(unit, self.folder / "files" / unit.device.name)
        elif reach.via == "ssh":
            Talker(unit)  # a dialect without a dialog is told now
        second = (self.folder / SECOND).read_text().strip()

        async def begin(process: asyncssh.SSHServerProcess[bytes]) -> None:
            if process.subsystem == "netconf" and reach.via == "netconf":
                await serve(unit, locks, process)
            elif root is not None:
                await root.run(process)
            elif process.subsystem or process.command or reach.via != "ssh":
                process.exit(1)
            else:
                await talk(unit, process, second)

        def files(channel: asyncssh.SSHServerChannel[bytes]) -> asyncssh.SFTPServer:
            assert root is not None
            return asyncssh.SFTPServer(channel, chroot=str(root.folder).encode())

        return await asyncssh.listen(
            reach.address,
            reach.port,
            options=options,
            server_host_keys=[_key(self.folder / HOST_KEYS / unit.device.name)],
            server_factory=lambda: Door(unit, client),
            process_factory=begin,
            sftp_factory=files if root is not None else None,
        )

    async def _chatter(self) -> None:
        """Let each device log an event now and then."""
        if not self._plan.every or not self._units:
            return
        units = list(self._units.values())
        n = 0
        while True:
            await asyncio.sleep(self._plan.every / len(units))
            units[n % len(units)].say(CHATTER[n // len(units) % len(CHATTER)])
            n += 1

    async def _told(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        """Do what one request asks for."""
        try:
            request = msgspec.json.decode(await reader.readline(), type=list[str])
            answer = Response(self._do(request))
        except (msgspec.DecodeError, IvrelError, ValueError, IndexError) as problem:
            answer = Response(str(problem), is_wrong=True)
        with contextlib.suppress(OSError):
            writer.write(msgspec.json.encode(answer))
            await writer.drain()
            writer.close()

    def _do(self, request: Sequence[str]) -> str:
        """Do what is asked for, and return what came of it; '' if the device is none of these."""
        what, *words = request
        if what == "stop":
            self._done.set()
            return "stopped"
        unit = self._units.get(words[0]) if words else None
        if unit is None:
            return ""
        if what == "make":
            number = unit.say(Event(SEVERITIES.index(words[1]), "made", words[2]))
            return f"{words[0]} told {number} collector{'s' * (number != 1)}"
        if what == "fault" and words[1] == "none":
            unit.fault = None
            return f"{words[0]} has no fault any more"
        if what == "fault":
            unit.fault = fault_of(words[1])
            return f"{words[0]} {FAULTS[unit.fault.kind]}"
        if what == "restart":
            unit.restart()
            return f"{words[0]} has restarted"
        if what == "show":
            return unit.running.decode("utf-8", "replace")
        raise ValueError(f"'{what}' is not known")


def prepare(folder: Path) -> tuple[asyncssh.SSHKey, asyncssh.SSHServerConnectionOptions]:
    """Return the key of those who are let in, and the options of all listeners."""
    options = asyncssh.SSHServerConnectionOptions(
        encoding=None,
        line_editor=False,
        compression_algs=None,
        keepalive_interval=0,
    )
    if not (folder / SECOND).exists():
        write_bytes(folder / SECOND, secrets.token_urlsafe(12).encode() + b"\n", OWN)
    return _key(folder / CLIENT_KEY), options


def _key(path: Path) -> asyncssh.SSHKey:
    """Return the key of a file; one that is not there yet is made."""
    if not path.exists():
        made = asyncssh.generate_private_key("ssh-ed25519")
        write_bytes(path, made.export_private_key(), OWN)
    return asyncssh.read_private_key(str(path))
