"""The journal: what deliveries did, step by step, written down before it is done and after.

It outlives the program that is killed. A device that one delivery holds is taken by no other. The
configurations that a delivery may have to go back to lie beside it, for their owner's eyes alone,
until it is done; in the journal itself are changes, which are about export settings, and
fingerprints.
"""

from __future__ import annotations

import contextlib
import getpass
import os
import socket
import sqlite3
from collections.abc import Iterable, Iterator, Mapping, Sequence
from datetime import UTC, datetime
from hashlib import sha256
from pathlib import Path
from urllib.parse import quote as urlquote

import msgspec
from msgspec import Struct

from ivrel.core.delivery.course import CHANGING, HELD, IN_DOUBT, IN_FLIGHT, RELEASED, WAITING
from ivrel.core.delivery.dialog import Exchange
from ivrel.core.delivery.record import DeliveryStep
from ivrel.core.vocabulary.errors import InputError, Mistake
from ivrel.live.tables import FILE, HOLDING, is_busy, opened
from ivrel.sources.files import private_folder, reason, write_bytes

TEXTS = "delivery-texts"

Verdicts = tuple[tuple[str, str], ...]  # settings and what was found of each


class DeviceEntry(Struct, frozen=True):
    """The state of one device of a delivery; `before` and `proved` are fingerprints."""

    device: str
    wave: int
    platform: str
    state: str
    why: str = ""
    change: str = ""
    before: str = ""
    proved: str = ""
    verdicts: Verdicts = ()
    became: Verdicts = ()


class Delivery(Struct, frozen=True):
    """One delivery: when it began and ended ('' if it did not), by whom and with what."""

    number: int
    begun: str
    ended: str
    who: str
    host: str
    process: str
    folder: str
    options: str


class Journal:
    """The journal of a workspace.

    `folder`: where what Ivrel keeps for itself lies. `patience`: how long to wait, in seconds,
    while another process writes.
    """

    def __init__(self, folder: Path, patience: float = 30) -> None:
        self._path = folder / FILE
        self._texts = folder / TEXTS
        self._patience = patience
        try:
            private_folder(folder)
            self._base = opened(self._path, patience)
        except (OSError, sqlite3.Error) as problem:
            said = reason(problem) if isinstance(problem, OSError) else self._words(problem)
            raise InputError([Mistake(str(self._path), f"no journal: {said}")]) from None

    def _words(self, problem: sqlite3.Error) -> str:
        held = f"another delivery has been writing it for {self._patience:g} s; is it stopped?"
        return held if is_busy(problem) else str(problem)

    def _do(self, statement: str, values: Sequence[object] = ()) -> sqlite3.Cursor:
        """Carry out a statement; InputError tells why the file does not take it."""
        try:
            return self._base.execute(statement, values)
        except sqlite3.IntegrityError:
            raise
        except sqlite3.Error as problem:
            raise InputError([Mistake(str(self._path), self._words(problem))]) from None

    def close(self) -> None:
        """Close the file."""
        self._base.close()

    def begin(
        self,
        folder: str,
        options: str,
        devices: Iterable[tuple[str, int, str]],
        *,
        dry: bool = False,
        approved: str = "",
    ) -> int:
        """Begin a delivery to devices (name, wave, platform), and return its number.

        `approved`: who has signed what is delivered.
        `dry`: nothing is sent; it is none of those that are gone on with or looked up as the last.
        """
        who = getpass.getuser() + (f", approved by {approved}" if approved else "")
        with self._base:
            self._do("BEGIN IMMEDIATE")
            made = self._do(
                "INSERT INTO delivery (begun, who, host, process, folder, options, dry) "
                "VALUES (?, ?, ?, ?, ?, ?, ?)",
                (_now(), who, socket.gethostname(), _process(), folder, options, dry),
            )
            number = int(made.lastrowid or 0)
            self._base.executemany(
                "INSERT INTO device (delivery, name, wave, platform, state) VALUES (?, ?, ?, ?, ?)",
                [(number, name, wave, platform, WAITING) for name, wave, platform in devices],
            )
        return number

    def withdraw(self, number: int) -> None:
        """Remove a delivery again if nothing of it was begun; any other stays."""
        held = any(e.state in HELD for e in self.entries(number))
        begun = self._do("SELECT 1 FROM step WHERE delivery = ?", (number,)).fetchone()
        if not held and not begun:
            for table, field in (("device", "delivery"), ("delivery", "id")):
                self._do(f"DELETE FROM {table} WHERE {field} = ?", (number,))

    def take_over(self, number: int) -> None:
        """Note that this process goes on with a delivery; InputError if another one does."""
        with self._base:
            self._do("BEGIN IMMEDIATE")
            one = self.delivery(number)
            if one is not None and is_alive(one):
                said = f"delivery {number} is running (process {one.process.partition(' ')[0]})"
                raise InputError(f"{said}; two at a time would get in each other's way")
            self._do(
                "UPDATE delivery SET process = ?, ended = NULL WHERE id = ?", (_process(), number)
            )

    def hold(self, number: int, name: str) -> str:
        """Take a device for a delivery; return why it cannot be taken, '' if it was."""
        try:
            self._set(number, name, state=IN_FLIGHT)
        except sqlite3.IntegrityError:
            row = self._do(
                f"SELECT delivery FROM device WHERE name = ? AND state IN ({HOLDING})", (name,)
            ).fetchone()
            holder = self.delivery(row[0]) if row else None
            if holder is not None and is_alive(holder):
                return f"delivery {holder.number} is working on it"
            other = f"delivery {row[0]}" if row else "another delivery"
            return f"{other} did not finish it; run 'ivrel deliver --resume' first"
        return ""

    def prepared(
        self, number: int, name: str, change: str, texts: tuple[bytes, bytes], verdicts: Verdicts
    ) -> None:
        """Keep what may have to be gone back to, and what the proof says: both texts of it."""
        prints = [self._kept(text) for text in texts]
        said = msgspec.json.encode(verdicts).decode()
        self._set(number, name, change=change, before=prints[0], proved=prints[1], verdicts=said)

    def note(self, number: int, name: str, step: str, said: Sequence[Exchange] = ()) -> None:
        """Write a step down."""
        self._do(
            "INSERT INTO step (delivery, name, at, step, said) VALUES (?, ?, ?, ?, ?)",
            (number, name, _now(), step, msgspec.json.encode(list(said)).decode()),
        )

    def settle(
        self, number: int, name: str, state: str, why: str = "", became: Verdicts = ()
    ) -> None:
        """Write down the state of a device."""
        self._set(number, name, state=state, why=why, became=msgspec.json.encode(became).decode())
        if state not in HELD:
            self._forget(self.entry(number, name))

    def release(self, name: str, why: str) -> int:
        """Note that somebody looked at a device in doubt, and return the delivery that it was of.

        InputError if none left it in doubt, or if that one still goes on.
        """
        row = self._do(
            "SELECT delivery FROM device WHERE name = ? AND state = ?", (name, IN_DOUBT)
        ).fetchone()
        one = self.delivery(row[0]) if row else None
        if one is None:
            raise InputError(f"no delivery left '{name}' in doubt; expected a device that is")
        if is_alive(one):
            raise InputError(f"delivery {one.number} is busy with '{name}'")
        self.settle(one.number, name, RELEASED, f"{getpass.getuser()}: {why}")
        return one.number

    def end(self, number: int) -> None:
        """Note that a delivery is over."""
        self._do("UPDATE delivery SET ended = ? WHERE id = ?", (_now(), number))

    def delivery(self, number: int) -> Delivery | None:
        """Return a delivery; None if there is none of that number."""
        row = self._do(
            "SELECT id, begun, coalesce(ended, ''), who, host, process, folder, options "
            "FROM delivery WHERE id = ?",
            (number,),
        ).fetchone()
        return Delivery(*row) if row else None

    def last(self, *, unfinished: bool = False) -> Delivery | None:
        """Return the latest delivery; `unfinished`: the latest that was cut off, or that left a
        device in doubt, or, of the very last one, a device that waits for its turn.
        """
        left = "EXISTS (SELECT 1 FROM device WHERE delivery = d.id AND state"
        is_last = "id = (SELECT max(id) FROM delivery WHERE dry = 0)"
        where = (
            f"AND (ended IS NULL OR {left} IN ({HOLDING})) "
            f"OR ({is_last} AND {left} = '{WAITING}')))"
            if unfinished
            else ""
        )
        row = self._do(
            f"SELECT id FROM delivery d WHERE dry = 0 {where} ORDER BY id DESC LIMIT 1"
        ).fetchone()
        return self.delivery(row[0]) if row else None

    def entries(self, number: int) -> list[DeviceEntry]:
        """Return the devices of a delivery, wave by wave."""
        return list(self._entries("delivery = ?", number))

    def entry(self, number: int, name: str) -> DeviceEntry:
        """Return one device of a delivery."""
        return next(self._entries("delivery = ? AND name = ?", number, name))

    def _entries(self, where: str, *values: object) -> Iterator[DeviceEntry]:
        rows = self._do(
            "SELECT name, wave, platform, state, why, change, before, proved, verdicts, became "
            f"FROM device WHERE {where} ORDER BY wave, rowid",
            values,
        )
        for *plain, verdicts, became in rows.fetchall():
            both = (msgspec.json.decode(said, type=Verdicts) for said in (verdicts, became))
            yield DeviceEntry(*plain, *both)

    def steps(self, number: int, name: str) -> list[DeliveryStep]:
        """Return the steps of a device, in order."""
        rows = self._do(
            "SELECT at, step, said FROM step WHERE delivery = ? AND name = ? ORDER BY id",
            (number, name),
        )
        return [
            DeliveryStep(at, step, msgspec.json.decode(said, type=tuple[Exchange, ...]))
            for at, step, said in rows
        ]

    def text(self, fingerprint: str) -> bytes:
        """Return a configuration that was kept; InputError if it is gone."""
        path = self._texts / fingerprint
        if not path.exists():
            raise InputError([Mistake(str(path), "what was kept for the way back is gone")])
        return path.read_bytes()

    def _kept(self, text: bytes) -> str:
        name = sha256(text).hexdigest()
        self._texts.mkdir(mode=0o700, exist_ok=True)
        if not (self._texts / name).exists():
            write_bytes(self._texts / name, text, 0o600)
        return name

    def _forget(self, entry: DeviceEntry) -> None:
        """Delete the texts of a device that nothing needs any more."""
        for name in filter(None, (entry.before, entry.proved)):
            needed = self._do(
                f"SELECT 1 FROM device WHERE state IN ({HOLDING}) AND (before = ? OR proved = ?)",
                (name, name),
            ).fetchone()
            if not needed:
                (self._texts / name).unlink(missing_ok=True)

    def _set(self, number: int, device: str, **values: str) -> None:
        fields = ", ".join(f"{name} = ?" for name in values)
        self._do(
            f"UPDATE device SET {fields} WHERE delivery = ? AND name = ?",
            (*values.values(), number, device),
        )


def last_changes(folder: Path) -> Mapping[str, datetime]:
    """Return when a delivery changed each device last; nothing if nothing was ever delivered.

    Nothing is written, not even where the folder could be. `folder`: where what Ivrel keeps for
    itself lies.
    """
    path = folder / FILE
    if not path.exists():
        return {}
    where = f"file:{urlquote(str(path.absolute()))}"
    # Where nothing can be written, the file is read as it is.
    for mode in ("mode=ro", "immutable=1"):
        try:
            with contextlib.closing(sqlite3.connect(f"{where}?{mode}", uri=True)) as base:
                rows = base.execute(_CHANGES, CHANGING).fetchall()
            return {name: datetime.fromisoformat(at) for name, at in rows}
        except sqlite3.Error as error:
            problem = error
    raise InputError([Mistake(str(path), f"no journal: {problem}")])


_CHANGES = (
    "SELECT s.name, MAX(s.at) FROM step s JOIN delivery d ON d.id = s.delivery "
    f"WHERE d.dry = 0 AND s.step IN ({', '.join('?' * len(CHANGING))}) GROUP BY s.name"
)


def is_alive(one: Delivery) -> bool:
    """Whether the process of a delivery runs on this machine; one on another is taken to run."""
    if one.ended:
        return False
    if one.host != socket.gethostname():
        return True
    pid, _, begun = one.process.partition(" ")
    return _begun(int(pid)) == begun and int(pid) != os.getpid()


def _process() -> str:
    return f"{os.getpid()} {_begun(os.getpid())}"


def _begun(pid: int) -> str:
    """Return when a process began, in the system's own words; '' if there is no such process.

    Numbers of processes are used again, and a number alone would mean another one.
    """
    try:
        stat = Path(f"/proc/{pid}/stat").read_text(errors="replace")
    except OSError:
        try:
            os.kill(pid, 0)
        except OSError:
            return ""
        return "running"
    return stat.rpartition(")")[2].split()[19]


def _now() -> str:
    return datetime.now(UTC).isoformat(timespec="milliseconds")
