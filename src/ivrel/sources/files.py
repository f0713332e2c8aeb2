"""Reading and writing files: one clear line when it fails, nothing half-written."""

from __future__ import annotations

import contextlib
import os
import re
import shutil
import stat
import sys
from collections.abc import Callable, Iterable, Iterator
from pathlib import Path

from ivrel.core.text.bundle import is_inside, is_marked, pack, parts
from ivrel.core.vocabulary.errors import InputError, Mistake, Unreadable
from ivrel.core.vocabulary.wording import plain, shorten
from ivrel.sources.packed import LIMITS, MIB, SizeLimits, unpacked

BOM = b"\xef\xbb\xbf"
UTF_16 = (b"\xff\xfe", b"\xfe\xff")
_AT_ONCE = 1 << 16  # bytes that are read or written at once, or more
FILES = 2000  # more files than any configuration of one device has


def read_bytes(path: Path | str, shown: str, limits: SizeLimits = LIMITS) -> bytes:
    """Return a configuration's text without its byte-order mark.

    Unreadable tells why it could not be had.
    """
    return plain_text(raw_bytes(path, shown, limits), shown, limits)


def raw_bytes(path: Path | str, shown: str, limits: SizeLimits = LIMITS) -> bytes:
    """Return the bytes of a file as they are; Unreadable tells why they could not be had."""
    try:
        # A pipe would be waited for: the file is opened without, and only then known to be a
        # regular one.
        handle = os.open(
            path, os.O_RDONLY | getattr(os, "O_NONBLOCK", 0) | getattr(os, "O_BINARY", 0)
        )
        # A fleet has many files, and each is read once: no more calls than it takes.
        try:
            about = os.fstat(handle)
            if stat.S_ISDIR(about.st_mode):
                raise Unreadable(f"{shown}: is a directory")
            if not stat.S_ISREG(about.st_mode):
                raise Unreadable(f"{shown}: is no regular file")
            if about.st_size > limits.largest:
                raise _too_large(shown, limits)
            return _all_of(handle, about.st_size)
        finally:
            os.close(handle)
    except (OSError, ValueError) as problem:
        raise Unreadable(f"{shown}: {reason(problem)}") from None


def _all_of(handle: int, size: int) -> bytes:
    """Return all that a file holds, which may grow meanwhile; `size`: what it has at first."""
    data = b""
    while piece := os.read(handle, max(size, _AT_ONCE) + 1):
        data += piece
        if len(data) == size:
            break
    return data


def _too_large(shown: str, limits: SizeLimits) -> Unreadable:
    said = f"larger than {limits.largest // MIB} MiB; --largest MIB raises the limit"
    return Unreadable(f"{shown}: {said}")


def read_stdin(shown: str, limits: SizeLimits = LIMITS) -> bytes:
    """Return a configuration from standard input."""
    return plain_text(sys.stdin.buffer.read(limits.largest + 1), shown, limits)


def plain_text(data: bytes, shown: str, limits: SizeLimits = LIMITS) -> bytes:
    """Return the text of a file's bytes, without compression and byte-order mark."""
    data = unpacked(data, shown, limits)
    if len(data) > limits.largest:
        raise _too_large(shown, limits)
    if is_marked(data):
        raise Unreadable(f"{shown}: a line begins with the control character FS; expected text")
    if data[:2] in UTF_16:
        try:
            data = data.decode("utf-16").encode()
        except UnicodeError:
            raise Unreadable(
                f"{shown}: the text begins as UTF-16 and goes on as something else"
            ) from None
        # The text is UTF-8 from here on, and must not say otherwise of itself.
        data = re.sub(rb"""^(<\?xml[^>]*?)\s+encoding=(["'])[^"']*\2""", rb"\1", data)
    data = data.removeprefix(BOM)
    # A document may be in one line.
    if data.lstrip()[:1] not in (b"{", b"[", b"<"):
        _check_lines(data, shown, limits.longest_line)
    return data


def _check_lines(data: bytes, shown: str, most: int) -> None:
    """Raise Unreadable if a line is longer than any of a configuration."""
    at = 0
    while at + most < len(data):
        end = data.rfind(b"\n", at, at + most + 1)
        if end < 0:
            line = data.count(b"\n", 0, at) + 1
            said = f"line {line} is longer than {most // MIB} MiB; --longest-line MIB raises that"
            raise Unreadable(f"{shown}: {said}")
        at = end + 1


def read_configuration(path: Path | str, shown: str, limits: SizeLimits = LIMITS) -> bytes:
    """Return a configuration: one file, or all files of a folder as a bundle.

    Unreadable tells why it cannot be had.
    """
    try:
        return read_bytes(path, shown, limits)
    except Unreadable:
        path = Path(path)
        if not path.is_dir():
            raise
    found = sorted(
        p for p in path.rglob("*") if p.is_file() and p.resolve().is_relative_to(path.resolve())
    )
    if not found or len(found) > FILES:
        said = f"more than {FILES} files" if found else "no files in it"
        raise Unreadable(f"{shown}: {said}; expected the files of one configuration")
    names = {p.relative_to(path).as_posix(): p for p in found}
    for name in names:
        if not name.isprintable():
            raise Unreadable(f"{shown}: holds a file whose name is no text: {plain(name)}")
    return pack({name: read_bytes(p, f"{shown}/{name}", limits) for name, p in names.items()})


def write_configuration(path: Path, data: bytes, before: bytes) -> None:
    """Write a configuration: a file, or of a bundle the files of a folder.

    Of what was there `before`, the files that are gone are removed; nothing else in the folder is
    touched.
    """
    files = {part.name: part.data for part in parts(data)}
    if "" in files:
        write_bytes(path, data)
        return
    for name in files:
        if not is_inside(name):
            raise InputError([Mistake(str(path), f"'{shorten(name)}' would lie outside of it")])
    for name, text in files.items():
        write_bytes(path / name, text)
    for part in parts(before):
        if part.name not in files and is_inside(part.name):
            (path / part.name).unlink(missing_ok=True)


def read_text(path: Path, shown: str) -> str:
    """Return a text file of the user's own; InputError tells why it could not be had."""
    try:
        return read_bytes(path, shown).decode("utf-8")
    except Unreadable as problem:
        raise InputError([Mistake("", str(problem))]) from None
    except UnicodeDecodeError as problem:
        raise InputError([Mistake(shown, f"not UTF-8 at byte {problem.start}")]) from None


OWN = 0o600  # rights of what is for its owner's eyes alone: configurations hold secrets


def private_folder(path: Path) -> None:
    """Make a folder that nobody but its owner may look into; one that is there becomes such."""
    path.mkdir(mode=0o700, parents=True, exist_ok=True)
    with contextlib.suppress(OSError):  # it may be somebody else's, who let one in
        path.chmod(0o700)


def write_bytes(path: Path, data: bytes, mode: int | None = None) -> None:
    """Write a file as a whole or not at all; `mode`: its rights, those of any new file if None."""
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        import tempfile  # only what writes needs it, and it loads much

        handle, name = tempfile.mkstemp(dir=path.parent, prefix=f".{path.name}.")
    except OSError as problem:
        raise _unwritten(path, problem) from None
    try:
        with os.fdopen(handle, "wb") as file:
            file.write(data)
        Path(name).chmod(_usual_mode() if mode is None else mode)
        Path(name).replace(path)
    except OSError as problem:
        Path(name).unlink(missing_ok=True)
        raise _unwritten(path, problem) from None


def _usual_mode() -> int:
    """Return the rights of a new file; temporary ones are for their owner alone."""
    mask = os.umask(0)  # the mask can only be read by setting it
    os.umask(mask)
    return 0o666 & ~mask


def write_text(path: Path, text: str) -> None:
    """Write a UTF-8 text as a whole or not at all."""
    write_bytes(path, text.encode())


def write_pieces(path: Path, pieces: Iterable[str]) -> None:
    """Write a UTF-8 text that comes piece by piece; if it cannot be written, nothing stays."""
    try:
        # A fleet has many folders with several small files: each takes no more calls than it must.
        handle = _opened(path)
        try:
            for data in _large(pieces):
                while data := data[os.write(handle, data) :]:
                    pass
        finally:
            os.close(handle)
    except OSError as problem:
        with contextlib.suppress(OSError):  # where it was never opened, another may lie there
            path.unlink()
        raise _unwritten(path, problem) from None


def _opened(path: Path) -> int:
    """Return the handle of a file that is written again; its folder is made if it is not there."""
    flags = os.O_WRONLY | os.O_CREAT | os.O_TRUNC | getattr(os, "O_BINARY", 0)
    try:
        return os.open(path, flags, 0o666)
    except FileNotFoundError:
        path.parent.mkdir(parents=True, exist_ok=True)
        return os.open(path, flags, 0o666)


def _large(pieces: Iterable[str]) -> Iterator[bytes]:
    """Yield pieces of a text as bytes, so many together that few writes are made."""
    waiting = list[bytes]()
    size = 0
    for piece in pieces:
        waiting.append(piece.encode())
        size += len(waiting[-1])
        if size >= _AT_ONCE:
            yield b"".join(waiting)
            waiting = []
            size = 0
    yield b"".join(waiting)


class Locked:
    """Keeps two calls from writing into one folder at once: the second is refused."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder.absolute()
        self._lock = self._folder.with_name(f".{self._folder.name}.lock")
        self._handle = -1

    def __enter__(self) -> None:
        try:
            self._folder.parent.mkdir(parents=True, exist_ok=True)
            self._handle = os.open(self._lock, os.O_RDWR | os.O_CREAT, 0o666)
            _take_lock(self._handle, self._folder)
        except OSError as problem:
            raise _unwritten(self._folder, problem) from None

    def __exit__(self, *_: object) -> None:
        self._lock.unlink(missing_ok=True)
        os.close(self._handle)


class NewFolder:
    """A folder that is written again beside the one that it replaces, and takes its place when it
    is whole.

    As a context it gives the folder to write into. Other names in the old one than those of `own`
    are kept. Two calls do not write at once.
    """

    def __init__(self, folder: Path, own: Callable[[Path], bool]) -> None:
        self._folder = folder.absolute()
        self._own = own
        self._locked = Locked(folder)
        self._new = self._folder.with_name(f".{self._folder.name}.new")

    def __enter__(self) -> Path:
        self._locked.__enter__()
        try:
            shutil.rmtree(self._new, ignore_errors=True)  # what a call that was killed left
            self._new.mkdir()
        except OSError as problem:
            self._locked.__exit__()
            raise _unwritten(self._folder, problem) from None
        return self._new

    def __exit__(self, kind: object, problem: object, trace: object) -> None:
        try:
            if kind is None:
                self._swap()
        except OSError as failed:
            raise _unwritten(self._folder, failed) from None
        finally:
            shutil.rmtree(self._new, ignore_errors=True)
            self._locked.__exit__()

    def _swap(self) -> None:
        old = self._folder.with_name(f".{self._folder.name}.old")
        shutil.rmtree(old, ignore_errors=True)
        if self._folder.exists():
            for entry in self._folder.iterdir():
                if not self._own(entry) and not (self._new / entry.name).exists():
                    entry.rename(self._new / entry.name)
            self._folder.rename(old)
        self._new.rename(self._folder)
        shutil.rmtree(old, ignore_errors=True)


def _unwritten(path: Path, problem: OSError) -> InputError:
    return InputError([Mistake(str(path), f"cannot be written: {reason(problem)}")])


def _take_lock(handle: int, folder: Path) -> None:
    try:
        import fcntl
    except ImportError:  # not on every system; there, nothing keeps two calls apart
        return
    try:
        fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError:
        os.close(handle)
        raise InputError(
            [Mistake(str(folder), "another call is writing into it; try again when it is done")]
        ) from None


def claim_folder(folder: Path, replace: bool) -> None:
    """Make sure that a folder can be written to; one that holds something needs `replace`."""
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


def reason(problem: OSError | ValueError) -> str:
    """Return the system's error message, in lower case."""
    said = getattr(problem, "strerror", None) or str(problem)
    return said[:1].lower() + said[1:]
