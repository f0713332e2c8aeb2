"""Replaced: a configuration that is files. They are fetched and replaced by SFTP, checked there
before anything is replaced, and the service is restarted.
"""

from __future__ import annotations

import asyncio
import contextlib
import posixpath
import secrets
import time
from collections import Counter
from collections.abc import Mapping, Sequence
from shlex import quote
from typing import ClassVar

import asyncssh

from ivrel.core.delivery.dialog import Exchange
from ivrel.core.dialects.session import FILE, Session
from ivrel.core.shapes.rsyslog.counters import (
    TAIL,
    counting_of,
    display_of,
    last_record,
    queue_prefixes,
)
from ivrel.core.text.bundle import pack, parts
from ivrel.core.vocabulary.errors import NotServed, Refused, Unreachable, Unreadable
from ivrel.core.vocabulary.wording import plain, shorten, span
from ivrel.live.links.link import DisplayedState, Link, OutgoingChange, Rehearsal, Target
from ivrel.live.links.ssh import Line, told
from ivrel.sources.daemon import told_in
from ivrel.sources.files import FILES, plain_text
from ivrel.sources.packed import LIMITS

NOT_THERE = (126, 127)  # what a shell ends with that finds no such program
NEW = ".ivrel-new"  # behind the name of a file that is about to take another's place


SETTLING = 1  # seconds after which a service has died that cannot run with its files


class _Hangs(Unreachable):
    """A command does not end."""


class Replaced(Link):
    """A device whose files are replaced; they outlast a restart as they are."""

    BY_TEXT: ClassVar[bool] = False

    def __init__(self, target: Target) -> None:
        super().__init__(target)
        session = target.dialect.session
        self._said: Session = session if session is not None else Session()
        self._patterns = target.reach.files or self._said.files
        self._connection: asyncssh.SSHClientConnection | None = None
        self._sftp: asyncssh.SFTPClient | None = None
        self._paths: dict[str, str] = {}  # where each file lies, by its name in a bundle
        self._way = Line()
        self._began = False  # whether files were to be replaced by this link

    @property
    def _main(self) -> str:
        return self._patterns[0]

    async def open(self) -> None:
        self._connection = await self._way.device(self.target)
        try:
            self._sftp = await self._connection.start_sftp_client()
        except (OSError, asyncssh.Error) as problem:
            raise self._lost(problem) from None

    async def fetch(self) -> bytes:
        try:
            files = await self._fetched()
        except (OSError, asyncssh.Error) as problem:
            raise self._lost(problem) from None
        data = files[""] if set(files) == {""} else pack(files)
        self.hider.know(data)
        return data

    async def _fetched(self) -> Mapping[str, bytes]:
        """Return the files by the names that they have in a bundle; '' for a single one."""
        sftp = self._open()
        found: list[str] = []
        for pattern in self._patterns:
            try:
                names = [str(name) for name in await sftp.glob(pattern)]
            except asyncssh.SFTPNoSuchFile:
                names = []
            found += [name for name in sorted(names) if name not in found]
        if self._main not in found:
            raise Unreachable(f"{self.target.where}: there is no {self._main}")
        if len(found) > FILES:
            raise Unreachable(f"{self.target.where}: more than {FILES} files")
        out: dict[str, bytes] = {}
        size = 0
        for path in found:
            size += (await sftp.stat(path)).size or 0
            if size > LIMITS.largest:
                raise Unreachable(f"{self.target.where}: larger than {LIMITS.largest:,} bytes")
            async with sftp.open(path, "rb") as file:
                data = await file.read()
            assert isinstance(data, bytes)  # the file was opened as bytes
            out[self._name(path)] = plain_text(data, path)
            self._paths[self._name(path)] = path
        if len(self._patterns) == 1 and not any(c in self._main for c in "*?["):
            return {"": out[self._name(self._main)]}
        return out

    async def display(self) -> DisplayedState | None:
        display = self.target.dialect.display
        if display is None:
            return None
        if display.show:
            return await self._printed(display.show)
        sftp = self._open()
        try:
            counting = counting_of(pack(await self._fetched()))
            like = await sftp.stat(counting.file)
            size = like.size or 0
            async with sftp.open(counting.file, "rb") as file:
                data = await file.read(TAIL, max(size - TAIL, 0))
            assert isinstance(data, bytes)  # the file was opened as bytes
            record, behind = last_record(data)
            queues = await self._sizes(queue_prefixes(counting))
            now = await self._now()
        except asyncssh.SFTPNoSuchFile:
            raise Unreachable(f"{self.target.where}: there is no {counting.file}") from None
        except Unreadable as problem:
            raise Unreachable(str(problem)) from None
        except (OSError, asyncssh.Error) as problem:
            raise self._lost(problem) from None
        age = max(now - (like.mtime or 0), 0.0) + behind
        if age > counting.seldom:
            said = f"its last statistics are {span(age)} old: does the daemon run?"
            raise Unreachable(f"{self.target.where}: {said}")
        return DisplayedState(display_of(counting, record, queues), age)

    async def _printed(self, command: str) -> DisplayedState:
        done = await self._run(command)
        if done.exit_status:
            said = next(iter(self.hider.shown(str(done.stderr or "").encode())), "no word why")
            raise Unreachable(f"'{shorten(command, 40)}' ended with {done.exit_status}: {said}")
        return DisplayedState(str(done.stdout or "").encode())

    async def _sizes(self, prefixes: Sequence[str]) -> Mapping[str, int]:
        """Return the sizes of the files whose names begin so, by name."""
        sftp = self._open()
        out: dict[str, int] = {}
        for prefix in prefixes:
            try:
                names = [str(name) for name in await sftp.glob(f"{prefix}.*")]
            except asyncssh.SFTPNoSuchFile:
                continue
            for name in names:
                out[posixpath.basename(name)] = (await sftp.stat(name)).size or 0
        return out

    async def _now(self) -> float:
        """Return the time on the device, in seconds since 1970: its files have their times of that
        clock.
        """
        done = await self._run("date +%s")
        said = str(done.stdout or "").strip()
        if done.exit_status or not said.isdecimal():
            raise Unreachable(f"{self.target.where}: it does not tell the time ('date +%s')")
        return float(said)

    def _name(self, path: str) -> str:
        """Return the name that a file has in a bundle: from the folder of the main one, if it lies
        there.
        """
        above = posixpath.dirname(self._main).rstrip("/") + "/"
        return path.removeprefix(above) if path.startswith(above) else path.lstrip("/")

    def _path(self, name: str) -> str:
        """Return where a file of a bundle lies."""
        if not name:
            return self._main
        new = posixpath.join(posixpath.dirname(self._main), name)
        return self._paths.get(name, new)

    async def rehearse(self, sent: OutgoingChange) -> Rehearsal | None:
        if not self._said.check:
            return None
        try:
            await self._check(*(self._files(data) for data in (sent.before, sent.target)))
        except (OSError, asyncssh.Error) as problem:
            raise self._lost(problem) from None
        return Rehearsal("its own check takes copies of the files")

    async def send(self, sent: OutgoingChange) -> None:
        old, new = (self._files(data) for data in (sent.before, sent.target))
        if not self.target.reach.restart:
            raise Refused("the fleet names no command that restarts the service (reach: restart)")
        self._began = True
        try:
            if not sent.back:  # what the device had is not held against what it has
                await self._check(old, new)
            await self._replace(old, new)
        except (OSError, asyncssh.Error) as problem:
            raise self._lost(problem) from None
        if sent.renews:
            await self.renew()

    def _files(self, data: bytes) -> Mapping[str, bytes]:
        return {part.name: part.data for part in parts(data)}

    async def _check(self, old: Mapping[str, bytes], new: Mapping[str, bytes]) -> None:
        """Have the device's own program read copies; Refused if it has anything new against
        them.
        """
        for command in self._said.check:
            before = await self._complaints(command, old)
            after = await self._complaints(command, new)
            against = list((after - before).elements())
            shown = tuple(self.hider.hidden(shorten(plain(one), 120)) for one in against[:3])
            self.exchanges.append(Exchange(command, shown or ("nothing against it",)))
            if against:
                raise Refused(f"its own check has something against it: {shown[0]}")

    async def _complaints(self, command: str, files: Mapping[str, bytes]) -> Counter[str]:
        """Return the complaints of a program about files, read from a copy of all of them."""
        sftp = self._open()
        folder = f"/tmp/ivrel-{secrets.token_hex(8)}"
        above = posixpath.dirname(self._main).rstrip("/") + "/"
        await sftp.mkdir(folder, asyncssh.SFTPAttrs(permissions=0o700))
        try:
            for name, data in files.items():
                path = f"{folder}/{name or posixpath.basename(self._main)}"
                await sftp.makedirs(posixpath.dirname(path), exist_ok=True)
                # What includes name are files of the copy, not those that are in use.
                copy = data.replace(above.encode(), f"{folder}/".encode())
                async with sftp.open(path, "wb") as file:
                    await file.write(copy)
            main = f"{folder}/{self._name(self._main)}"
            done = await self._run(command.replace(FILE, quote(main)))
            said = str(done.stderr or "")
            if done.exit_status in NOT_THERE:
                raise Refused(f"'{shorten(command, 60)}' is not there to check it")
            if done.exit_status and not said.strip():
                said = str(done.stdout or "") or f"it ended with {done.exit_status}"
            return told_in(said, f"{folder}/", above)
        finally:
            with contextlib.suppress(OSError, asyncssh.Error):
                await sftp.rmtree(folder, ignore_errors=True)

    async def _replace(self, old: Mapping[str, bytes], new: Mapping[str, bytes]) -> None:
        """Put each file that differs in its place, whole or not at all.

        `old`: what the files were when they were read. Refused if one of them is another by now:
        somebody else has written it.
        """
        sftp = self._open()
        for name, data in old.items():
            await self._be_same(self._path(name), data)
        for name, data in new.items():
            if old.get(name) == data:
                continue
            # A link stays one, and what it leads to is replaced.
            path = await self._led_to(self._path(name))
            try:
                like = await sftp.stat(path)
            except asyncssh.SFTPNoSuchFile:
                like = await sftp.stat(self._main)
            async with sftp.open(f"{path}{NEW}", "wb") as file:
                await file.write(data)
            await sftp.chmod(f"{path}{NEW}", (like.permissions or 0o644) & 0o7777)
            if like.uid is not None and like.gid is not None:
                with contextlib.suppress(asyncssh.SFTPError):  # whoever may not, owns it himself
                    await sftp.chown(f"{path}{NEW}", like.uid, like.gid)
            try:
                await self._be_same(path, old.get(name))
            except Refused:
                await sftp.remove(f"{path}{NEW}")
                raise
            self.untouched = False
            await sftp.posix_rename(f"{path}{NEW}", path)
            self.exchanges.append(Exchange(f"replace {path}", ("ok",)))
        for name in old:
            if name not in new:
                await self._be_same(self._path(name), old[name])
                self.untouched = False
                await sftp.remove(self._path(name))
                self.exchanges.append(Exchange(f"remove {self._path(name)}", ("ok",)))

    async def _led_to(self, path: str) -> str:
        """Return the file that a name leads to by links; a new one is itself."""
        sftp = self._open()
        return str(await sftp.realpath(path)) if await sftp.islink(path) else path

    async def _be_same(self, path: str, data: bytes | None) -> None:
        """Refused if a file is not what it was when it was read; None: there was none."""
        sftp = self._open()
        now = None
        with contextlib.suppress(asyncssh.SFTPNoSuchFile, Unreadable):
            async with sftp.open(path, "rb") as file:
                read = await file.read()
            assert isinstance(read, bytes)  # the file was opened as bytes
            now = plain_text(read, path)
        if now != data:
            raise Refused(f"{path} has changed since it was read; it was not written")

    async def renew(self) -> None:
        command = self.target.reach.restart
        if not command or (self.untouched and self._began):
            return
        self.effective_at = time.monotonic()
        try:
            done = await self._run(command)
        except _Hangs as problem:
            self.exchanges.append(Exchange(command, (str(problem),)))
            raise NotServed(str(problem), hangs=True) from None
        self._told(command, done)

    def _told(self, command: str, done: asyncssh.SSHCompletedProcess) -> None:
        """Take down what a command said; NotServed if it did not end well."""
        said = f"{done.stderr or ''!s}{done.stdout or ''!s}".encode()
        self.exchanges.append(Exchange(command, self.hider.shown(said) or ("ok",)))
        if done.exit_status:
            first = next(iter(self.hider.shown(said)), "no word why")
            raise NotServed(f"'{shorten(command, 40)}' ended with {done.exit_status}: {first}")

    async def look(self) -> None:
        command = self.target.reach.running
        if command:
            await asyncio.sleep(SETTLING)
            self._told(command, await self._run(command))

    async def _run(self, command: str) -> asyncssh.SSHCompletedProcess:
        if self._connection is None:
            raise Unreachable(f"{self.target.where}: the session is closed")
        patience = self.target.reach.patience
        try:
            return await self._connection.run(command, timeout=patience, errors="replace")
        except asyncssh.TimeoutError:
            said = f"'{shorten(command, 40)}' does not end within {patience} s"
            raise _Hangs(f"{self.target.where}: {said}") from None
        except (OSError, asyncssh.Error) as problem:
            raise self._lost(problem) from None

    def _open(self) -> asyncssh.SFTPClient:
        if self._sftp is None:
            raise Unreachable(f"{self.target.where}: the session is closed")
        return self._sftp

    def _lost(self, problem: Exception) -> Unreachable:
        if isinstance(problem, asyncssh.SFTPError):
            said = f"its files: {shorten(plain(problem.reason), 100)}"
        else:
            said = told(problem, self.target.reach)
        return Unreachable(f"{self.target.where}: {said}")

    async def close(self) -> None:
        connection = self._connection
        self._connection = None
        self._sftp = None
        if connection is not None:
            connection.abort()
        self._way.abort()
