"""Corrections written into the files of a workspace, and taken back.

What the files were is kept in `.ivrel/in-place`, a folder a run, and written there before the first
file is replaced: whatever happens on the way, all of it can be taken back.
"""

from __future__ import annotations

import shutil
import stat
from collections.abc import Sequence
from hashlib import sha256
from pathlib import Path
from typing import Self

import msgspec
from msgspec import Struct

from ivrel.core.vocabulary.errors import InputError, Mistake, Unreadable
from ivrel.sources.files import Locked, raw_bytes, reason, write_bytes
from ivrel.sources.originals import Original

KEPT = Path(".ivrel") / "in-place"
_LIST = "files.json"


class _Kept(Struct, frozen=True):
    """A file that was replaced: where its bytes are kept (None if it was not there), and the
    fingerprints of what it was and what was written (None if it went).
    """

    file: str
    kept: str | None
    before: str | None
    after: str | None


class Replacing:
    """Replaces files of a workspace, all of them at the end.

    As a context: what was written on the way goes, if it is left before the files are replaced.
    """

    def __init__(self, root: Path) -> None:
        self._root = root
        self._locked = Locked(root / KEPT)
        self._listed: list[_Kept] = []

    def __enter__(self) -> Self:
        self._locked.__enter__()
        self._run = self._root / KEPT / f"{_next(_runs(self._root)):04}"
        return self

    def add(self, one: Original) -> None:
        """Keep what a file is, and what it will be."""
        number = len(self._listed)
        after = one.after
        for data, name in ((one.data, f"{number}"), (after, f"{number}.new")):
            if data is not None:
                # Configurations hold secrets: what is kept of them is for their owner alone.
                write_bytes(self._run / name, data, 0o600)
        kept = None if one.data is None else str(number)
        self._listed.append(_Kept(one.file, kept, _print(one.data), _print(after)))

    def replace_all(self) -> None:
        """Replace the files; InputError if one cannot be: `undo` then restores those that were."""
        if not self._listed:
            return
        changed = [one.file for one in self._listed if _now(self._root, one.file) != one.before]
        if changed:
            said = "was changed meanwhile; nothing was written"
            raise InputError([Mistake(file, said) for file in changed])
        # From here on, whatever happens can be taken back.
        write_bytes(self._run / _LIST, msgspec.json.format(msgspec.json.encode(self._listed)))
        for number, one in enumerate(self._listed):
            new = self._run / f"{number}.new"
            _put(self._root / one.file, None if one.after is None else raw_bytes(new, str(new)))
            new.unlink(missing_ok=True)

    def __exit__(self, *_: object) -> None:
        if not (self._run / _LIST).exists():
            shutil.rmtree(self._run, ignore_errors=True)
        self._locked.__exit__()


def undo(root: Path) -> list[str]:
    """Take the last run back and return the files that were restored.

    InputError if there is none, or if a file was changed since: then nothing is restored.
    """
    with Locked(root / KEPT):
        runs = _runs(root)
        if not runs:
            said = "nothing to take back; `ivrel correct --in-place` has written nothing here"
            raise InputError([Mistake(str(root / KEPT), said)])
        run = runs[-1]
        try:
            listed = msgspec.json.decode((run / _LIST).read_bytes(), type=list[_Kept])
        except (OSError, msgspec.DecodeError, msgspec.ValidationError):
            said = f"damaged; what the files were lies beside it in {run}"
            raise InputError([Mistake(str(run / _LIST), said)]) from None
        now = {one.file: _now(root, one.file) for one in listed}
        changed = [one.file for one in listed if now[one.file] not in (one.before, one.after)]
        if changed:
            said = "was changed since corrections were written into it; nothing was taken back"
            raise InputError([Mistake(file, said) for file in changed])
        back = [one for one in listed if now[one.file] != one.before]
        for one in back:
            data = None if one.kept is None else raw_bytes(run / one.kept, str(run / one.kept))
            _put(root / one.file, data)
        shutil.rmtree(run)
        return [one.file for one in back]


def _runs(root: Path) -> list[Path]:
    """Return the runs that can be taken back, the last one last; clear away what is none."""
    found = sorted(p for p in (root / KEPT).glob("[0-9]*") if p.is_dir())
    for path in found:
        if not (path / _LIST).exists():
            shutil.rmtree(path, ignore_errors=True)
    return [path for path in found if path.exists()]


def _next(runs: Sequence[Path]) -> int:
    """Return the number of the next run."""
    return int(runs[-1].name) + 1 if runs else 1


def _put(path: Path, data: bytes | None) -> None:
    """Write a file with the rights that it has, through a link if it is one; None removes it."""
    if data is not None:
        path = path.resolve()
        write_bytes(path, data, stat.S_IMODE(path.stat().st_mode) if path.exists() else None)
        return
    try:
        path.unlink(missing_ok=True)
    except OSError as problem:
        raise InputError([Mistake(str(path), f"cannot be removed: {reason(problem)}")]) from None


def _now(root: Path, file: str) -> str | None:
    try:
        return _print(raw_bytes(root / file, file))
    except Unreadable:
        return None


def _print(data: bytes | None) -> str | None:
    return None if data is None else sha256(data).hexdigest()
