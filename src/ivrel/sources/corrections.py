"""Folders of corrections: a folder a device, with what is to be sent and how it is taken back.

What is not proved has another name, so that nobody sends it by mistake.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Any

import msgspec

from ivrel.core.correcting import Written
from ivrel.core.vocabulary.errors import InputError, Mistake, Unreadable
from ivrel.sources.approval import FINGERPRINT, SIGNATURE
from ivrel.sources.files import read_bytes

CHANGE = "change.txt"
BACKOUT = "backout.txt"
UNPROVED = "unproved-"
SUMMARY = "corrections.json"
SHEETS = ("change-sheet.md", "change-sheet.html")
BESIDE = (SUMMARY, *SHEETS, FINGERPRINT, SIGNATURE)  # what lies beside the folders of devices


def is_own(path: Path) -> bool:
    """Whether something in a folder of corrections is what an earlier call wrote there."""
    if not path.is_dir():
        return path.name in BESIDE
    every = {mark + name for name in (CHANGE, BACKOUT) for mark in ("", UNPROVED)}
    return all(inner.name in every for inner in path.iterdir())


def read_corrections(folder: Path) -> dict[str, Written | str]:
    """Return the changes of a folder by device, in the order of the names; of one that cannot be
    read, why.

    InputError if it is no folder of corrections.
    """
    if not folder.is_dir():
        raise InputError([Mistake(str(folder), "no such folder; expected one of corrections")])
    told = _summary(folder / SUMMARY)
    out = {p.name: _written(p, told.get(p.name, {})) for p in _folders(folder)}
    if not out:
        said = f"no corrections in it; expected DEVICE/{CHANGE}"
        raise InputError([Mistake(str(folder), said)])
    return out


def read_waves(folder: Path) -> list[list[str]]:
    """Return the waves that a folder of corrections was written with; nothing if it has none."""
    path = folder / SUMMARY
    if not path.exists():
        return []
    try:
        whole = msgspec.json.decode(read_bytes(path, str(path)))
        return [[str(name) for name in wave["devices"]] for wave in whole.get("waves") or ()]
    except Unreadable as problem:
        raise InputError([Mistake("", str(problem))]) from None
    except (msgspec.DecodeError, KeyError, TypeError, AttributeError):
        said = "not what `ivrel correct -o` writes; expected its summary, or no such file"
        raise InputError([Mistake(str(path), said)]) from None


def read_change(path: Path) -> Written:
    """Return a change that lies in a file of its own; InputError if it cannot be read."""
    try:
        return Written(_text(path))
    except Unreadable as problem:
        raise InputError([Mistake("", str(problem))]) from None


def _folders(folder: Path) -> Iterator[Path]:
    for path in sorted(folder.iterdir()):
        names = (path / CHANGE, path / f"{UNPROVED}{CHANGE}")
        if path.name.isprintable() and any(name.is_file() for name in names):
            yield path


def _written(folder: Path, told: Mapping[str, Any]) -> Written | str:
    proved = (folder / CHANGE).is_file()
    mark = "" if proved else UNPROVED
    backout = folder / f"{mark}{BACKOUT}"
    try:
        change = _text(folder / f"{mark}{CHANGE}")
        back = _text(backout) if backout.is_file() else None
    except Unreadable as problem:
        return str(problem)
    was = (told.get("change", change), told.get("backout", back))
    return Written(
        change,
        back,
        _print(told, "fingerprint"),
        _print(told, "statements"),
        was != (change, back if back is not None else was[1]),
    )


def _print(told: Mapping[str, Any], key: str) -> str:
    return str(told.get(key, "")).removeprefix("sha256:")


def _text(path: Path) -> str:
    try:
        return read_bytes(path, str(path)).decode("utf-8")
    except UnicodeDecodeError as problem:
        raise Unreadable(f"{path}: not UTF-8 at byte {problem.start}") from None


def _summary(path: Path) -> Mapping[str, Mapping[str, Any]]:
    """Return the summary that was written with the folder, by device; nothing if it is gone."""
    if not path.exists():
        return {}
    try:
        whole = msgspec.json.decode(read_bytes(path, str(path)))
        return {str(one["device"]): one for one in whole["devices"]}
    except Unreadable as problem:
        raise InputError([Mistake("", str(problem))]) from None
    except (msgspec.DecodeError, KeyError, TypeError):
        said = "not what `ivrel correct -o` writes; expected its summary, or no such file"
        raise InputError([Mistake(str(path), said)]) from None
