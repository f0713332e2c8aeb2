"""What lets one in: host keys that are trusted, keys and passwords of whoever calls.

Passwords come from the environment or a program, or are asked for once; they are kept in memory
alone.
"""

from __future__ import annotations

import getpass
import os
import subprocess
import sys
from collections.abc import Iterable, Iterator, Mapping, Sequence
from pathlib import Path

import asyncssh

from ivrel.core.reach import ASK, Reach, Reached, filled
from ivrel.core.vocabulary.errors import InputError, Mistake, Unreachable
from ivrel.core.vocabulary.wording import shorten
from ivrel.live.between import SharedConnections
from ivrel.sources.files import Locked, read_text, reason, write_text

KEYS = "host-keys"  # in .ivrel/, in the form that OpenSSH has for known hosts


class Access:
    """The keys and passwords of one run, and the connections that its devices share (`between`).

    `folder`: where what was learnt lies.
    """

    def __init__(self, folder: Path) -> None:
        self.file = folder / KEYS
        self.between = SharedConnections()
        self._known: dict[str, asyncssh.SSHKnownHosts | None] = {}
        self._passwords: dict[str, str] = {}
        self._keys: dict[str, asyncssh.SSHKey] = {}

    @property
    def secrets(self) -> Iterable[str]:
        """What must not be shown anywhere, whatever becomes known later."""
        return _Secrets(self._passwords)

    def password(self, reach: Reach, device: Reached | None = None) -> str | None:
        """Return the password of a way; None if it has none. InputError if it is not to be had.

        `device`: the one that it is for, where a program is asked for it.
        """
        if reach.password_from and device is not None:
            return self._printed(filled(reach.password_from, device, reach), reach.patience)
        return self._said(reach.password, f"password of {user(reach)}")

    def second_password(self, reach: Reach, device: Reached | None = None) -> str | None:
        """Return the password that allows one to change things, as `password` does the other."""
        if reach.second_password_from and device is not None:
            return self._printed(filled(reach.second_password_from, device, reach), reach.patience)
        return self._said(reach.second_password, f"second password of {user(reach)}")

    def _said(self, variable: str, what: str) -> str | None:
        """Return the value of an environment variable, or the answer to a prompt."""
        if not variable:
            return None
        name = f"{ASK} {what}" if variable == ASK else variable
        if name not in self._passwords:
            if variable != ASK:
                said = os.environ.get(variable)
                if not said:
                    expected = f"expected it in the variable {variable} of the environment"
                    raise InputError(f"the {what} is not there; {expected}")
                self._passwords[name] = said
            elif not sys.stdin.isatty():
                raise InputError(f"no terminal on which to ask for the {what}")
            else:
                self._passwords[name] = getpass.getpass(f"{what}: ", sys.stderr)
        return self._passwords[name]

    def _printed(self, words: Sequence[str], patience: int) -> str:
        """Return the first line that a program prints; its other output is shown nowhere."""
        name = "\0".join(words)
        if name not in self._passwords:
            try:
                done = subprocess.run(
                    words, stdin=subprocess.DEVNULL, capture_output=True, timeout=patience,
                    check=False,
                )  # fmt: skip
            except subprocess.TimeoutExpired:
                raise Unreachable(f"{words[0]} gives no password within {patience} s") from None
            except (OSError, ValueError) as problem:
                said = reason(problem) if isinstance(problem, OSError) else str(problem)
                raise Unreachable(f"{words[0]}, which gives the password: {said}") from None
            lines = done.stdout.decode("utf-8", "replace").splitlines()
            if done.returncode or not lines or not lines[0]:
                how = f"ended with {done.returncode}" if done.returncode else "printed nothing"
                raise Unreachable(f"{words[0]}, which gives the password, {how}")
            self._passwords[name] = lines[0]
        return self._passwords[name]

    def key(self, reach: Reach) -> asyncssh.SSHKey | None:
        """Return the private key of a way; None if it names none."""
        if not reach.key:
            return None
        if reach.key not in self._keys:
            path = Path(reach.key).expanduser()
            try:
                self._keys[reach.key] = asyncssh.read_private_key(str(path))
            except (OSError, ValueError, asyncssh.KeyImportError) as problem:
                said = f"no private key: {shorten(str(problem))}"
                raise InputError([Mistake(reach.key, said)]) from None
        return self._keys[reach.key]

    def host_keys(self, reach: Reach) -> list[asyncssh.SSHKey]:
        """Return the keys that are trusted of a host; Unreachable if none is known."""
        files = [str(self.file), reach.host_keys or str(Path("~/.ssh/known_hosts").expanduser())]
        keys: list[asyncssh.SSHKey] = []
        for file in files:
            known = self._read(file)
            if known is not None:
                found = known.match(reach.address, reach.address, _port(reach))
                keys += [one for one in found[0] if one not in found[2]]
        if not keys:
            raise Unreachable(
                "its host key is not recorded; 'ivrel gather --learn-keys' shows and records it"
            )
        return keys

    def _read(self, file: str) -> asyncssh.SSHKnownHosts | None:
        if file not in self._known:
            path = Path(file).expanduser()
            try:
                text = read_text(path, file) if path.exists() else ""
                self._known[file] = asyncssh.import_known_hosts(text) if text else None
            except ValueError as problem:
                raise InputError([Mistake(file, f"no host keys: {problem}")]) from None
        return self._known[file]

    def learn(self, learnt: Iterable[tuple[Reach, asyncssh.SSHKey]]) -> None:
        """Record the keys of hosts, in the place of those that were recorded of them."""
        rows = {_named(reach): _public(key) for reach, key in learnt}
        with Locked(self.file):
            old = self.file.read_text().splitlines() if self.file.exists() else []
            kept = [line for line in old if line.partition(" ")[0] not in rows]
            kept += [f"{name} {key}" for name, key in rows.items()]
            write_text(self.file, "".join(f"{line}\n" for line in sorted(kept)))
        self._known.pop(str(self.file), None)


class _Secrets:
    """The passwords that are known by the time one goes through them."""

    def __init__(self, known: Mapping[str, str]) -> None:
        self._known = known

    def __iter__(self) -> Iterator[str]:
        return iter(tuple(self._known.values()))


def user(reach: Reach) -> str:
    """Return as whom one logs in."""
    return reach.user or getpass.getuser()


def fingerprint(key: asyncssh.SSHKey) -> str:
    """Return the fingerprint of a key, as SSH tools show it."""
    return key.get_fingerprint()


def _public(key: asyncssh.SSHKey) -> str:
    return " ".join(key.export_public_key().decode().split()[:2])


def _port(reach: Reach) -> int | None:
    return None if reach.port == 22 else reach.port


def _named(reach: Reach) -> str:
    return reach.address if reach.port == 22 else f"[{reach.address}]:{reach.port}"
