"""The tables of the journal, and how its file is opened by one process of several."""

from __future__ import annotations

import sqlite3
import time
from pathlib import Path

from ivrel.core.delivery.course import HELD
from ivrel.core.vocabulary.errors import InputError, Mistake
from ivrel.sources.files import OWN

FILE = "deliveries.sqlite"
VERSION = 1  # of the tables
HOLDING = ", ".join(f"'{state}'" for state in HELD)  # the states in which a device is held
_TABLES = f"""
BEGIN IMMEDIATE;
CREATE TABLE IF NOT EXISTS delivery (
  id INTEGER PRIMARY KEY, begun TEXT NOT NULL, ended TEXT, who TEXT NOT NULL, host TEXT NOT NULL,
  process TEXT NOT NULL, folder TEXT NOT NULL, options TEXT NOT NULL, dry INTEGER NOT NULL);
CREATE TABLE IF NOT EXISTS device (
  delivery INTEGER NOT NULL REFERENCES delivery, name TEXT NOT NULL, wave INTEGER NOT NULL,
  platform TEXT NOT NULL, state TEXT NOT NULL, why TEXT NOT NULL DEFAULT '',
  change TEXT NOT NULL DEFAULT '', before TEXT NOT NULL DEFAULT '', proved TEXT NOT NULL DEFAULT '',
  verdicts TEXT NOT NULL DEFAULT '[]', became TEXT NOT NULL DEFAULT '[]',
  PRIMARY KEY (delivery, name));
CREATE UNIQUE INDEX IF NOT EXISTS held ON device (name) WHERE state IN ({HOLDING});
CREATE TABLE IF NOT EXISTS step (
  id INTEGER PRIMARY KEY, delivery INTEGER NOT NULL, name TEXT NOT NULL, at TEXT NOT NULL,
  step TEXT NOT NULL, said TEXT NOT NULL DEFAULT '[]');
CREATE INDEX IF NOT EXISTS steps ON step (delivery, name);
PRAGMA user_version = {VERSION};
COMMIT;
"""


def opened(path: Path, patience: float) -> sqlite3.Connection:
    """Open a journal, and make the tables if there are none; an existing one is not written.

    `patience`: how long to wait, in seconds, while another process writes. InputError if it is of
    another version.
    """
    path.touch(mode=OWN)
    base = sqlite3.connect(path, timeout=patience, isolation_level=None)
    end = time.monotonic() + patience
    while True:
        try:
            version = base.execute("PRAGMA user_version").fetchone()[0]
            if version == 0:
                base.execute("PRAGMA journal_mode=WAL")
                base.executescript(_TABLES)
            break
        except sqlite3.OperationalError as problem:
            # Of two that make a new journal at the same time, SQLite lets neither wait.
            if not is_busy(problem) or time.monotonic() > end:
                raise
            time.sleep(0.02)
    if version not in (0, VERSION):
        said = f"a journal of version {version}; this program writes {VERSION}"
        raise InputError([Mistake(str(path), said)])
    # What was written is there after a loss of power, too.
    base.execute("PRAGMA synchronous=FULL")
    return base


def is_busy(problem: sqlite3.Error) -> bool:
    """Whether another process holds the file."""
    return getattr(problem, "sqlite_errorname", "").startswith("SQLITE_BUSY")
