"""Corrections of rsyslog's texts: made for one policy, held against the daemon and another's
patch.
"""

from __future__ import annotations

import subprocess
import tempfile
from pathlib import Path

from conftest import TODAY
from generated import device
from rsyslog_cases import MAIN, RSYSLOG, selections
from rsyslog_texts import COLLECTORS
from rsyslogd import Seen

from ivrel.core import correct
from ivrel.core.correcting import Correction
from ivrel.core.judging.asking import read_policy
from ivrel.core.policy import Policy
from ivrel.core.text.bundle import pack, parts

A, B = COLLECTORS


def policy(require: str, more: str = "") -> Policy:
    return read_policy(
        f"policy: p\ncollectors:\n  a: {{address: {A}, format: rfc5424}}\n"
        f"  b: {{address: {B}, port: 601, transport: tcp, format: rfc3164}}\n{more}"
        f"rules:\n  - rule: r\n    require: {require}\n",
        "policy.yaml",
    )


BOTH = "{collectors: {exactly: [a, b]}, level: {from: error, to: notice}, format: expected}"


def corrected(files: dict[str, str] | str, require: str = BOTH, more: str = "") -> Correction:
    data = (
        files.encode()
        if isinstance(files, str)
        else pack({n: t.encode() for n, t in files.items()})
    )
    return correct(device(RSYSLOG), RSYSLOG, data, policy(require, more), TODAY, "x1")


def files_of(data: bytes) -> dict[str, str]:
    return {part.name or MAIN: part.data.decode() for part in parts(data)}


def patched(data: bytes, change: str) -> dict[str, str]:
    """The files after a change, carried out by another's tool."""
    with tempfile.TemporaryDirectory() as name:
        for file, text in files_of(data).items():
            (Path(name) / file).parent.mkdir(parents=True, exist_ok=True)
            (Path(name) / file).write_bytes(text.encode())
        call = [
            "patch",
            "--binary",
            "-p0",
            "-s",
            "-d",
            name,
            *([MAIN] if not data.startswith(b"\x1c") else []),
        ]
        subprocess.run(call, input=change.encode(), check=True, capture_output=True)
        return {
            p.relative_to(name).as_posix(): p.read_bytes().decode()
            for p in Path(name).rglob("*")
            if p.is_file()
        }


def failing(files: dict[str, str], c: Correction, before: Seen, after: Seen) -> str:
    """What is wrong with a correction; '' if nothing is."""
    complaints = {line.partition("line")[2] for line in after.told} - {
        line.partition("line")[2] for line in before.told
    }
    if not before.starts:
        return ""  # something else that it names is not here
    if len(after.told) > len(before.told):
        return f"the daemon says {complaints} to {files_of(c.corrected)}"
    got = selections(after)
    low, high = (sum(1 << pri for pri in range(192) if pri % 8 <= most) for most in (3, 5))
    open_still = {v.setting for v in c.after.verdicts if v.verdict != "meets"}
    for end in ((A, 514, "udp"), (B, 601, "tcp")):
        bits = got[end].bits if end in got else 0
        if (low & ~bits or bits & ~high) and not open_still:
            return f"{end} gets otherwise: {files_of(c.corrected)}"
    if more := [end for end in got if end[0] not in COLLECTORS]:
        return f"{more} still get something: {files_of(c.corrected)}"
    data = (
        files[MAIN].encode() if len(files) == 1 else pack({n: t.encode() for n, t in files.items()})
    )
    # The change is a diff that others' tools read, and the back-out brings every byte back.
    same = (
        patched(data, c.change) == files_of(c.corrected)
        and patched(c.corrected, c.backout) == files
    )
    return "" if same else f"not back: {files}"
