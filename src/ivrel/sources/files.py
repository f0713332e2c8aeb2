"""Reading and writing files: one clear line when it fails, nothing half-written."""

from __future__ import annotations

import os
import sys
from pathlib import Path

from ivrel.core.bundle import pack, parts
from ivrel.core.mistakes import InputError, Mistake, Unreadable
from ivrel.sources.packed import MOST, unpacked

_BOM = b"\xef\xbb\xbf"
FILES = 2000  # more files than any configuration of one device has


def read_bytes(path: Path | str, shown: str) -> bytes:
    """A configuration's text without its byte-order mark; Unreadable tells why it could not be had."""
    try:
        with open(path, "rb", buffering=0) as file:  # noqa: PTH123 (a fleet has many, and each is read once)
            if os.fstat(file.fileno()).st_size > MOST:
                raise Unreadable(f"{shown}: larger than {MOST // 1024 // 1024} MiB")
            data = file.readall()
    except OSError as problem:
        raise Unreadable(f"{shown}: {reason(problem)}") from None
    return _plain(data, shown)


def read_stdin(shown: str) -> bytes:
    """A configuration from standard input."""
    return _plain(sys.stdin.buffer.read(MOST + 1), shown)


def _plain(data: bytes, shown: str) -> bytes:
    """A text without compression and byte-order mark."""
    data = unpacked(data, shown)
    if len(data) > MOST:
        raise Unreadable(f"{shown}: larger than {MOST // 1024 // 1024} MiB")
    if data[:2] in (b"\xff\xfe", b"\xfe\xff"):
        raise Unreadable(f"{shown}: the text is UTF-16; expected UTF-8")
    return data.removeprefix(_BOM)


def read_configuration(path: Path | str, shown: str) -> bytes:
    """A configuration: one file, or all files of a folder as a bundle; Unreadable tells why it cannot be had."""
    try:
        return read_bytes(path, shown)
    except Unreadable:
        path = Path(path)
        if not path.is_dir():
            raise
    found = sorted(p for p in path.rglob("*") if p.is_file() and p.resolve().is_relative_to(path.resolve()))
    if not found or len(found) > FILES:
        said = f"more than {FILES} files" if found else "no files in it"
        raise Unreadable(f"{shown}: {said}; expected the files of one configuration")
    names = {p.relative_to(path).as_posix(): p for p in found}
    return pack({name: read_bytes(p, f"{shown}/{name}") for name, p in names.items()})


def write_configuration(path: Path, data: bytes, before: bytes) -> None:
    """Writes a configuration: a file, or of a bundle the files of a folder.

    Of what was there `before`, the files that are gone are removed; nothing else in the folder is touched.
    """
    files = {part.name: part.data for part in parts(data)}
    if "" in files:
        write_bytes(path, data)
        return
    for name, text in files.items():
        write_bytes(path / name, text)
    for part in parts(before):
        if part.name not in files:
            (path / part.name).unlink(missing_ok=True)


def read_text(path: Path, shown: str) -> str:
    """A text file of the user's own; InputError tells why it could not be had."""
    try:
        return read_bytes(path, shown).decode("utf-8")
    except Unreadable as problem:
        raise InputError([Mistake("", str(problem))]) from None
    except UnicodeDecodeError as problem:
        raise InputError([Mistake(shown, f"not UTF-8 at byte {problem.start}")]) from None


def write_bytes(path: Path, data: bytes) -> None:
    """Writes a file as a whole or not at all."""
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        import tempfile  # only what writes needs it, and it loads much

        handle, name = tempfile.mkstemp(dir=path.parent, prefix=f".{path.name}.")
    except OSError as problem:
        raise InputError([Mistake(str(path), f"cannot be written: {reason(problem)}")]) from None
    try:
        with os.fdopen(handle, "wb") as file:
            file.write(data)
        mask = os.umask(0)
        os.umask(mask)
        Path(name).chmod(0o666 & ~mask)
        Path(name).replace(path)
    except OSError as problem:
        Path(name).unlink(missing_ok=True)
        raise InputError([Mistake(str(path), f"cannot be written: {reason(problem)}")]) from None


def write_text(path: Path, text: str) -> None:
    """Writes a UTF-8 text as a whole or not at all."""
    write_bytes(path, text.encode())


def claim_folder(folder: Path, replace: bool) -> None:
    """Makes sure that a folder can be written to; one that holds something needs `replace`."""
    try:
        if folder.exists() and not folder.is_dir():
            raise InputError([Mistake(str(folder), "is no folder")])
        if folder.is_dir() and any(folder.iterdir()) and not replace:
            said = "already holds something; give --replace to write into it all the same"
            raise InputError([Mistake(str(folder), said)])
        folder.mkdir(parents=True, exist_ok=True)
        if not os.access(folder, os.W_OK | os.X_OK):
            raise InputError([Mistake(str(folder), "cannot be written: permission denied")])
    except OSError as problem:
        raise InputError([Mistake(str(folder), f"cannot be written: {reason(problem)}")]) from None


def reason(problem: OSError) -> str:
    """What the system says, in lower case."""
    said = problem.strerror or str(problem)
    return said[:1].lower() + said[1:]
