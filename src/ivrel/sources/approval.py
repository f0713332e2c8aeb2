"""Approval: a folder of corrections that a second person has signed with an SSH key.

`ivrel correct -o` writes the fingerprint of a folder: of each file its SHA-256 and its name, a line
each, as `sha256sum -c` reads them. Who approves it signs that with what OpenSSH brings:

    ssh-keygen -Y sign -n ivrel-corrections -f ~/.ssh/id_ed25519 corrections/fingerprint
"""

from __future__ import annotations

import subprocess
from hashlib import sha256
from pathlib import Path

from ivrel.core.vocabulary.errors import InputError, Mistake
from ivrel.core.vocabulary.wording import plain, shorten
from ivrel.sources.files import reason, write_text

FINGERPRINT = "fingerprint"
SIGNATURE = "fingerprint.sig"
NAMESPACE = "ivrel-corrections"  # what the signature is for (`ssh-keygen -n`)
SIGNERS = "allowed-signers"  # in a workspace: who may approve, as OpenSSH has it
_SECONDS = 20


def fingerprint_of(folder: Path) -> str:
    """Return the fingerprint of a folder: a line for each file that lies in it.

    InputError if something in it cannot be read, or is a link.
    """
    lines = []
    try:
        for path in sorted(folder.rglob("*")):
            name = path.relative_to(folder).as_posix()
            if path.is_symlink():
                raise InputError([Mistake(str(path), "is a link; expected files")])
            if path.is_file() and name not in (FINGERPRINT, SIGNATURE):
                lines.append(f"{sha256(path.read_bytes()).hexdigest()}  {name}\n")
    except OSError as problem:
        raise InputError([Mistake(str(folder), f"cannot be read: {reason(problem)}")]) from None
    return "".join(lines)


def write_fingerprint(folder: Path) -> None:
    """Write the fingerprint of a folder into it."""
    write_text(folder / FINGERPRINT, fingerprint_of(folder))


def approved_by(folder: Path, signature: Path, signers: Path) -> str:
    """Return who has signed a folder of corrections.

    `signers`: the file of those who may (ssh-keygen(1), ALLOWED SIGNERS). InputError if the folder
    is not the one that was signed, or if nobody who may has signed it.
    """
    for path in (signature, signers):
        if not path.is_file():
            raise InputError([Mistake(str(path), "no such file")])
    listed = folder / FINGERPRINT
    if not listed.is_file():
        raise InputError([Mistake(str(listed), "no such file; expected what was signed")])
    said = listed.read_text(errors="replace")
    now = fingerprint_of(folder)
    if said != now:
        raise InputError([Mistake(str(folder), f"is not what was signed: {_first(said, now)}")])
    found = _ssh_keygen(["find-principals", "-s", str(signature), "-f", str(signers)], said)
    names = found.splitlines()
    if not names:
        raise InputError([Mistake(str(signature), f"nobody of {signers} has signed it")])
    who = names[0]
    words = ["verify", "-f", str(signers), "-I", who, "-n", NAMESPACE, "-s", str(signature)]
    if not _ssh_keygen(words, said):
        raise InputError([Mistake(str(signature), f"is no signature of {listed} by {who}")])
    return plain(who)


def _first(said: str, now: str) -> str:
    """Return the first file that is not as it was signed."""
    old = _listed(said)
    new = _listed(now)
    name = next((n for n in sorted({**old, **new}) if old.get(n) != new.get(n)), FINGERPRINT)
    how = "has gone" if name not in new else "has come" if name not in old else "is another"
    return f"{shorten(plain(name))} {how}"


def _listed(text: str) -> dict[str, str]:
    """Return the hashes of a fingerprint by the names of their files."""
    pairs = (line.partition("  ") for line in text.splitlines())
    return {name: hashed for hashed, _, name in pairs}


def _ssh_keygen(words: list[str], given: str) -> str:
    """Return the output of OpenSSH's ssh-keygen about a signature; '' if it is not one."""
    try:
        done = subprocess.run(
            ["ssh-keygen", "-Y", *words],
            input=given.encode(),
            capture_output=True,
            timeout=_SECONDS,
            check=False,
        )
    except FileNotFoundError:
        said = "approvals are checked by OpenSSH's ssh-keygen, which is not there"
        raise InputError(said) from None
    except (OSError, subprocess.TimeoutExpired) as problem:
        raise InputError(f"ssh-keygen: {problem}") from None
    return "" if done.returncode else done.stdout.decode("utf-8", "replace").strip() or "ok"
