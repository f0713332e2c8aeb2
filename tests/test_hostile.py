"""Inputs that mean harm, or are damaged: one clear line each, nothing written elsewhere, nothing
secret shown.
"""

from __future__ import annotations

import contextlib
import gzip
import importlib.util
import json
import os
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from conftest import BUILD, Run

from ivrel.core import InputError, Unreadable, read_dialect, read_fleet, read_policy
from ivrel.core.reading.secrets import masked
from ivrel.demo.workspace import write_workspace
from ivrel.sources.files import NewFolder, read_bytes, write_text

SECRET = "hunter2-5f1c9a7be2"


@pytest.fixture
def small(tmp_path: Path) -> Path:
    """A workspace of a few devices, each with a secret in a place of its own."""
    devices = {
        "gw1": ("quern", f"events\n    export off\n    sign key {SECRET}\n    odd password {SECRET} more\nopen people\n    watchword {SECRET}\n"),
        "fw1": ("hollin", f'unit "x" {{ record {{ number off; }} gates {{ gate 1 {{ action stop; key {SECRET}; }} }} }}\n'),
        "fw2": ("skarn", f"journal.active = no\nunit.owner = {SECRET}\nunit.label = fw2\n"),
        "rt1": ("ietf-syslog", json.dumps({"ietf-system:system": {"contact": SECRET, "authentication": {"user": [{"name": "u", "password": SECRET}]}, "ntp": {"enabled": False, "server": [{"name": "n", "udp": {"address": "198.51.100.5"}, "key": SECRET}]}}, "ietf-syslog:syslog": {"actions": {"remote": {"destination": [{"name": "z", "tls": {"address": "203.0.113.9", "client-identity": {"private-key": SECRET}}}]}}}})),
        "rt2": ("openconfig", f'<config><system xmlns="http://openconfig.net/yang/system"><aaa><password>{SECRET}</password></aaa><logging/><ntp><ntp-keys><ntp-key><key-id>1</key-id><config><key-value>{SECRET}</key-value></config></ntp-key></ntp-keys></ntp></system></config>'),
        "bad1": ("osier", f"<osier><sinks><sink {SECRET}</osier>"),
        "bad2": ("ietf-syslog", '{"ietf-syslog:syslog": {"a" ' + json.dumps(SECRET) + "}}"),
    }  # fmt: skip
    write_text(
        tmp_path / "policy.yaml",
        "policy: p\ncollectors:\n  a: {address: 198.51.100.21}\nrules:\n  - rule: r\n    require:\n      export: on\n"
        "      collectors: [a]\n      level: {from: error}\n      numbering: on\n      origin: name\n      filters: none\n"
        "      rules: {stop: open}\n      clock: {servers: {includes: [198.51.100.5]}}\n      trust: {verify: on}\n",
    )
    lines = [
        f"  - {{device: {name}, kind: firewall, site: s, platform: {platform}}}\n"
        for name, (platform, _) in devices.items()
    ]
    write_text(tmp_path / "fleet.yaml", "fleet: f\ndevices:\n" + "".join(lines))
    for name, (_, text) in devices.items():
        write_text(tmp_path / "configs" / f"{name}.conf", text)
    return tmp_path


@pytest.mark.deep
def test_no_secret_is_shown_by_any_command(ivrel: Run, small: Path) -> None:
    calls: list[list[str]] = [
        ["audit", "--all"],
        *(["audit", "--format", f] for f in ("json", "csv", "md", "sarif", "junit")),
    ]
    devices = [("gw1", "quern"), ("fw1", "hollin"), ("fw2", "skarn"), ("rt1", "ietf-syslog"), ("rt2", "openconfig"), ("bad1", "osier"), ("bad2", "ietf-syslog")]  # fmt: skip
    for name, platform in devices:
        config = str(small / "configs" / f"{name}.conf")
        calls += [["explain", name], ["dialect", "try", platform, config]]
    names = [name for name, _ in devices]
    calls += [["dialect", "try", platform, config, "--format", "json"], ["correct", *names]]
    calls += [["read", *names], ["read", "gw1"], ["read", *names, "--format", "json"]]
    seen = 0
    for words in [*calls, ["correct", "-o", str(small / "out")]]:
        done = ivrel(*words, "-w", small)
        assert SECRET not in done.stdout + done.stderr, words
        seen += len(done.stdout)
    assert seen > 5000 and not [
        p
        for p in (small / "out").rglob("*")
        if p.is_file() and p.name not in ("change.txt", "backout.txt") and SECRET in p.read_text()
    ]
    # The back-out brings back what goes with a collector, its key too: it is its owner's alone.
    back = small / "out" / "rt1" / "backout.txt"
    assert SECRET in back.read_text() and back.stat().st_mode & 0o077 == 0
    # Of what is not understood, nothing is told but what is known.
    assert "configs/gw1.conf:4  …" in ivrel("read", "gw1", "-w", small, code=0).stdout
    assert (
        masked("snmp community public x") == "snmp community …"
        and masked("send 198.51.100.21") == "send 198.51.100.21"
    )


def test_a_line_that_is_not_understood_is_told_once(ivrel: Run, small: Path) -> None:
    told = ivrel("audit", "gw1", "-w", small, code=1).stdout
    assert told.count("line 4 is not understood") == 1 and "ivrel dialect try quern" in told


ODD = [
    ("quern", b"\x1c/etc/x\nevents\n", "begins with the control character FS"),
    ("quern", b"events\n    export on\n\x1c../../x\n", "begins with the control character FS"),
    ("osier", b"<osier><sinks/><sinks/></osier>", ""),
    ("hollin", b'unit "x" { record { mute 1 "x { y"; } }', ""),
    ("hollin", b'unit "x" { record { number on; }', "its braces do not pair"),
    ("ietf-syslog", b'{"ietf-syslog:syslog": {"a": "\\ud800"}}', "a value that is none"),
    ("skarn", "time.peer.² = 198.51.100.5\njournal.active = yes\n".encode(), ""),
    ("rsyslog", b"*.* @198.51.100.21\n" + b"\x00" * 100, "a NUL byte"),
]


def test_odd_texts_stop_nobody(ivrel: Run, small: Path) -> None:
    devices = ["  - {device: fw2, kind: firewall, site: s, platform: skarn}"]
    for number, (name, data, _) in enumerate(ODD):
        devices.append(f"  - {{device: d{number}, kind: firewall, site: s, platform: {name}}}")
        (small / "configs" / f"d{number}.conf").write_bytes(data)
    write_text(small / "fleet.yaml", "fleet: f\ndevices:\n" + "\n".join(devices) + "\n")
    for command in ("audit", "correct"):
        called = ivrel(command, "-w", small, "--format", "json", code=1)
        done = json.loads(called.stdout)
        unread = {row["device"]: row["problem"] for row in done.get("not_readable", ())}
        rows = {row["device"]: row.get("problem", "") for row in done["devices"]} | unread
        assert rows.keys() == {"fw2", *(f"d{n}" for n in range(len(ODD)))}
        assert not rows["fw2"] and "error in Ivrel" not in called.stdout
        for number, (_, _, why) in enumerate(ODD):
            assert why in rows[f"d{number}"] and bool(why) == bool(rows[f"d{number}"])


def test_sizes_are_bounded_and_pipes_are_not_waited_for(ivrel: Run, small: Path) -> None:
    (small / "configs" / "gw1.conf").unlink()
    (small / "configs" / "gw1.conf.gz").write_bytes(gzip.compress(b"\0" * (65 << 20), 1))
    (small / "configs" / "fw2.conf").unlink()
    os.mkfifo(small / "configs" / "fw2.conf")
    done = json.loads(ivrel("audit", "gw1", "fw2", "-w", small, "--format", "json", code=1).stdout)
    assert [d["problem"].partition(": ")[2] for d in done["devices"]] == [
        "larger than 64 MiB; --largest MIB raises the limit",
        "is no regular file",
    ]
    with pytest.raises(Unreadable, match="larger than 64 MiB"):
        read_bytes(small / "configs" / "gw1.conf.gz", "x")


def test_applied_changes_stay_in_their_output(ivrel: Run, small: Path, tmp_path: Path) -> None:
    change = tmp_path / "change.txt"
    change.write_bytes(b"events\n    export on\n\x1c/../../elsewhere\n")
    config = small / "configs" / "gw1.conf"
    done = ivrel(
        "dialect", "apply", "quern", config, change, "-o", tmp_path / "o" / "new.conf", code=2
    )
    assert "control character FS" in done.stderr and not (tmp_path / "o").exists()
    folder = tmp_path / "gw"
    write_text(folder / "rsyslog.conf", "*.* @198.51.100.21\n")
    change.write_text("--- /dev/null\n+++ b/../../elsewhere.conf\n@@ -0,0 +1 @@\n+x\n")
    done = ivrel("dialect", "apply", "rsyslog", folder, change, "-o", tmp_path / "o", code=2)
    assert done.stderr.count("\n") == 1 and not list(tmp_path.parent.glob("elsewhere*"))
    change.write_text("events\n    whistle loud\n")
    done = ivrel("dialect", "apply", "quern", config, change, code=0)
    assert "does not know 'whistle loud'" in done.stderr and "whistle loud" in done.stdout


def test_control_characters_reach_no_terminal(ivrel: Run, small: Path) -> None:
    write_text(
        small / "configs" / "fw2.conf",
        "unit.label = a\x1b[31mb\njournal.tag = name\njournal.mute.1 = \x1b]0;x\x07\n",
    )
    for end in ([], ["--format", "csv"], ["--format", "md"], ["--format", "json"]):
        done = ivrel("audit", "fw2", "-w", small, *end, code=1)
        assert "\x1b" not in done.stdout and "\x07" not in done.stdout
    with pytest.raises(InputError, match="control character"):
        read_policy(
            'policy: "p\\e[31m"\ncollectors: {a: {address: 192.0.2.1}}\nrules: [{rule: r, require: {export: on}}]\n',
            "p",
        )
    with pytest.raises(InputError, match="control character"):
        read_fleet("device,kind,site,platform\nd,router,s\x1b,quern\n", "fleet.csv")


def test_streams_of_any_kind_are_written_to(small: Path) -> None:
    program = Path(sys.executable).parent / "ivrel"
    env = {**os.environ, "PYTHONIOENCODING": "ascii"}
    done = subprocess.run([program, "audit", "-w", small], env=env, capture_output=True)
    assert done.returncode == 1 and b"Traceback" not in done.stderr and b"\\xb7" in done.stdout
    closed = subprocess.run(f"'{program}' audit -w '{small}' >&-", shell=True, capture_output=True)
    assert closed.returncode == 1 and closed.stderr == b""


def test_a_folder_is_replaced_as_a_whole_by_one_call_at_a_time(
    ivrel: Run, small: Path, tmp_path: Path
) -> None:
    out = tmp_path / "out"
    assert (
        ivrel("correct", "-w", small, "-o", out, code=1) and (out / "fw2" / "change.txt").exists()
    )
    (out / "notes.txt").write_text("mine")
    (small / "configs" / "fw2.conf").write_text("\x00nothing of it")
    with NewFolder(out, lambda path: True):
        done = ivrel("correct", "-w", small, "-o", out, "--replace", code=2)
        assert (
            "another call is writing into it" in done.stderr
            and (out / "fw2" / "change.txt").exists()
        )
    write_text(out / "corrections.json", "{}")
    write_text(out / "notes.txt", "mine")
    write_text(out / "fw2" / "change.txt", "old")
    ivrel("correct", "-w", small, "-o", out, "--replace", code=1)
    # What was proved for a device that cannot be read any more is gone; what somebody else put
    # there is not.
    assert (
        not (out / "fw2").exists()
        and (out / "notes.txt").read_text() == "mine"
        and (out / "gw1").exists()
    )
    assert not list(tmp_path.glob(".out*"))
    write_text(
        small / "fleet.yaml",
        "fleet: f\ndevices:\n  - {device: corrections.json, kind: router, site: s, platform: quern}\n",
    )
    assert (
        "give it another name" in ivrel("correct", "-w", small, "-o", tmp_path / "n", code=2).stderr
    )
    with pytest.raises(InputError, match="longer than 200 signs"):
        read_fleet(
            f"fleet: f\ndevices:\n  - {{device: {'x' * 300}, kind: router, site: s, platform: quern}}\n",
            "fleet.yaml",
        )


@pytest.mark.deep
def test_a_killed_call_leaves_the_old_folder(small: Path, tmp_path: Path) -> None:
    write_workspace(tmp_path / "w")
    out, program = tmp_path / "out", Path(sys.executable).parent / "ivrel"
    call = [str(program), "correct", "-w", str(tmp_path / "w"), "-o", str(out), "--replace"]
    subprocess.run(call, capture_output=True)
    before = sorted(
        (str(p.relative_to(out)), p.read_bytes()) for p in out.rglob("*") if p.is_file()
    )
    for n in range(6):
        running = subprocess.Popen(call, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        time.sleep(0.3 + 0.25 * n)
        running.kill()
        running.wait()
        assert (
            sorted((str(p.relative_to(out)), p.read_bytes()) for p in out.rglob("*") if p.is_file())
            == before
        )


@pytest.mark.skipif(not Path("/proc/self/cmdline").exists(), reason="processes are not listed here")
def test_the_workers_of_a_killed_call_end(tmp_path: Path) -> None:
    write_workspace(tmp_path / "w")
    program = Path(sys.executable).parent / "ivrel"
    call = [str(program), "correct", "-w", str(tmp_path / "w"), "-o", str(tmp_path / "out")]
    running = subprocess.Popen(call, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    workers = len(os.sched_getaffinity(0))
    assert waited_for(lambda: len(called_with(str(tmp_path))) >= min(workers, 2)), "no workers"
    running.kill()
    running.wait()
    assert waited_for(lambda: not called_with(str(tmp_path)))


def waited_for(what: Callable[[], bool], seconds: float = 10) -> bool:
    until = time.monotonic() + seconds
    while not what():
        if time.monotonic() > until:
            return False
        time.sleep(0.02)
    return True


def called_with(word: str) -> list[Path]:
    """Return the processes that stand and were called with a word."""
    out = []
    for line in Path("/proc").glob("[0-9]*/cmdline"):
        with contextlib.suppress(OSError):
            if word in line.read_text(errors="replace"):
                out.append(line)
    return out


@pytest.mark.parametrize(
    ("old", "new", "why"),
    [
        ("  stamp-kind:", "  stamp-kimd:", "type or slot 'stamp-kimd' is not known; did you mean 'stamp-kind'?"),
        ("{none: off, uptime: uptime,", "{none: off, upteim: uptime,", "value 'upteim' is not known; did you mean 'uptime'?"),
        ("dialect: quern", "dialect: tansy", "the dialect is called 'tansy' and its file 'quern.yaml'"),
        ("destination.address} {destination.transport", "destination.host} {destination.transport", "did you mean 'destination.address'?"),
        ("destination.level: notice", "destination.port: 99999", "default of destination.port: '99999' is not a port"),
        ("most: 4", "most: four", "'four' is not a whole number"),
        ("[{stamp.year=shown:year}]", "[{stamp.year=shown:}]", "'{stamp.year=shown:}' is not a slot"),
        ("[{stamp.year=shown:year}]", "[{stamp.year=shown:y,stamp.zone=shown}]", "is not a slot; expected {name}, or {name=value:word}"),
        ("debug-stamp precision: milliseconds", "debug-stamp presicion: milliseconds", "did you mean 'debug-stamp precision'?"),
        ("channels", "channels", ""),
    ],
)  # fmt: skip
def test_mistakes_of_a_dialect_are_told_where_they_stand(
    ivrel: Run, tmp_path: Path, old: str, new: str, why: str
) -> None:
    from ivrel.sources.dialects import SHIPPED

    text = (SHIPPED / "quern.yaml").read_text()
    if not why:
        text, old, new, why = (
            (SHIPPED / "hollin.yaml").read_text(),
            "{keeper: [system",
            "{kepeer: [system",
            "channel 'kepeer' is not known",
        )
    assert old in text
    name = "hollin" if "keeper" in old else "quern"
    write_text(tmp_path / "dialects" / f"{name}.yaml", text.replace(old, new, 1))
    done = ivrel("dialect", "check", name, "-w", tmp_path)
    assert done.returncode in (1, 2) and why in done.stdout + done.stderr
    wanted = next(
        n
        for n, line in enumerate(text.replace(old, new, 1).splitlines(), 1)
        if new.splitlines()[0] in line
    )
    told = next(line for line in (done.stdout + done.stderr).splitlines() if why in line)
    assert name == "hollin" or int(told.removeprefix("ivrel: ").split(":")[1]) in (
        wanted,
        wanted - 1,
    )
    with pytest.raises(InputError, match="expected a list, not nothing"):
        read_dialect("dialect: x\nabout: x\nshape: blocks\nchange: {remove: y}\nspelling: {switch: {on: yes, off}}\nstatements: [{says: 'a {export}'}]\n", "x")  # fmt: skip


def test_what_a_call_cannot_mean_is_refused(ivrel: Run, small: Path) -> None:
    done = ivrel("audit", "-w", small, "--by", "site", "--format", "json", code=2)
    assert (
        done.stderr
        == "ivrel: --by counts in a table, and --format is json; leave one of them out\n"
    )
    both = json.loads(
        ivrel(
            "audit",
            "-w",
            small,
            "--setting",
            "export,level",
            "--site",
            "s",
            "--format",
            "json",
            code=1,
        ).stdout
    )
    assert {v["setting"] for d in both["devices"] for v in d["verdicts"]} == {"export", "level"}
    assert "can be repeated" in ivrel("audit", "--help", code=0).stdout
    assert (
        read_fleet(
            "fleet: f\ndevices:\n  - {device: d, kind: modem, site: s, platform: quern}\n", "f.yaml"
        )
        .devices[0]
        .kind
        == "modem"
    )


@pytest.mark.deep
def test_every_reader_knows_its_own_errors() -> None:
    spec = importlib.util.spec_from_file_location(
        "fuzz", Path(__file__).parent.parent / "bench" / "fuzz.py"
    )
    assert spec and spec.loader
    fuzz: Any = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(fuzz)
    cases = fuzz.run(100 if BUILD else 400, seed=190, most=60)
    assert [wrong for _, wrong in cases if wrong] == []
