"""Listening: the built program takes what is sent to it on loopback, and keeps all of it."""

from __future__ import annotations

import contextlib
import errno
import gzip
import json
import os
import random
import re
import resource
import shutil
import signal
import socket
import ssl
import subprocess
import sys
import time
import warnings
from collections.abc import Iterator
from datetime import UTC, datetime
from logging import WARNING, LogRecord
from logging.handlers import SysLogHandler
from pathlib import Path
from typing import Any

import pytest
from conftest import BRIEF, Run
from rsyslogd import PROGRAM as RSYSLOGD

from ivrel.core import InputError
from ivrel.sources.listening.keeping import Keeper, RotationLimits

IVREL = str(Path(sys.executable).parent / "ivrel")
MUST = bool(os.environ.get("IVREL_SKIP_NOTHING"))
LOCAL = "127.0.0.1"


class Listener:
    """`ivrel listen` on loopback, and the ports that it has."""

    def __init__(self, *words: str, **options: Any) -> None:
        self.process: subprocess.Popen[str] = subprocess.Popen(
            [IVREL, "listen", *words],
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            text=True,
            **options,
        )
        assert self.process.stderr is not None
        self.told = self.process.stderr.readline()
        found = re.findall(r"(udp|tcp|tls) (\d+)", self.told)
        self.ports = {way: int(port) for way, port in found}

    def ended(self, code: int = 0) -> str:
        """Wait for the end; return what was told."""
        out, err = self.process.communicate(timeout=60)
        assert self.process.returncode == code and "Traceback" not in err, (out, err)
        return out + err

    def stopped(self, code: int = 0) -> str:
        """End it as Ctrl-C does."""
        self.process.send_signal(signal.SIGINT)
        return self.ended(code)


def records(folder: Path) -> list[dict[str, Any]]:
    out = []
    for path in sorted(folder.glob("heard-*")):
        data = gzip.decompress(path.read_bytes()) if path.suffix == ".gz" else path.read_bytes()
        out += [json.loads(line) for line in data.splitlines()]
    return out


@contextlib.contextmanager
def sending(port: int, source: str = LOCAL) -> Iterator[socket.socket]:
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as out:
        out.bind((source, 0))
        out.connect((LOCAL, port))
        yield out


@pytest.fixture(scope="module")
def certificate(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A certificate for localhost, with its key in the same folder."""
    program = shutil.which("openssl")
    if program is None and not MUST:
        pytest.skip("no openssl to make a certificate with")
    folder = tmp_path_factory.mktemp("tls")
    for name in ("one", "two"):
        call = [str(program), "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-days", "30"]
        call += ["-keyout", str(folder / f"{name}.key"), "-out", str(folder / f"{name}.pem")]
        call += ["-subj", "/CN=localhost", "-addext", "subjectAltName=DNS:localhost"]
        subprocess.run(call, check=True, capture_output=True)
    return folder / "one.pem"


def every_way(certificate: Path) -> list[str]:
    """The arguments that listen on UDP, TCP and TLS at once."""
    key = str(certificate.with_suffix(".key"))
    ports = ["--udp", "0", "--tcp", "0", "--tls", "0"]
    return [*ports, "--certificate", str(certificate), "--key", key]


def test_every_way_is_taken_and_kept(tmp_path: Path, certificate: Path) -> None:
    words = every_way(certificate)
    listener = Listener(*words, "--on", LOCAL, "-o", str(tmp_path / "out"), "--count", "6")
    with sending(listener.ports["udp"], "127.0.0.2") as out:
        out.send(b"<34>Oct 11 22:14:15 a su: udp")
        out.send(b"<34>Oct 11 22:14:15 a su: \xff bytes")
    with socket.create_connection((LOCAL, listener.ports["tcp"])) as out:
        out.sendall(b"11 <34>counted<34>li")
        time.sleep(0.1)
        out.sendall(b"ne\n<34>without an end")
    context = ssl.create_default_context(cafile=str(certificate))
    with (
        socket.create_connection((LOCAL, listener.ports["tls"])) as plain,
        context.wrap_socket(plain, server_hostname="localhost") as out,
    ):
        out.sendall(b"7 <34>tls")
    told = listener.ended()
    assert "6 messages of 2 senders, 0 dropped by the system" in told
    found = sorted(
        (r["transport"], r["framing"], r.get("text", "base64"), r["sender"])
        for r in records(tmp_path / "out")
    )
    assert found == [
        ("tcp", "line feed", "<34>line", LOCAL),
        ("tcp", "line feed", "<34>without an end", LOCAL),
        ("tcp", "octet counting", "<34>counted", LOCAL),
        ("tls", "octet counting", "<34>tls", LOCAL),
        ("udp", "datagram", "<34>Oct 11 22:14:15 a su: udp", "127.0.0.2"),
        ("udp", "datagram", "base64", "127.0.0.2"),
    ]
    ports = {(r["transport"], r["port"]) for r in records(tmp_path / "out")}
    assert ports == set(listener.ports.items())


def test_tls_below_1_2_and_strangers_are_refused(tmp_path: Path, certificate: Path) -> None:
    words = [
        "--tls",
        "0",
        "--certificate",
        str(certificate),
        "--key",
        str(certificate.with_suffix(".key")),
    ]
    listener = Listener(*words, "--clients", str(certificate), "--on", LOCAL, "-o", str(tmp_path))
    port = listener.ports["tls"]
    trusting = ssl.create_default_context(cafile=str(certificate))
    for refused in (trusting, ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)):
        if refused is not trusting:
            refused.check_hostname, refused.verify_mode = False, ssl.CERT_NONE
            with warnings.catch_warnings(action="ignore"):
                refused.maximum_version = ssl.TLSVersion.TLSv1_1
        with (
            contextlib.suppress(OSError),
            socket.create_connection((LOCAL, port)) as plain,
            refused.wrap_socket(plain, server_hostname="localhost") as out,
        ):
            out.sendall(b"7 <34>bad")
            out.recv(1)
    trusting.load_cert_chain(certificate, certificate.with_suffix(".key"))
    with (
        socket.create_connection((LOCAL, port)) as plain,
        trusting.wrap_socket(plain, server_hostname="localhost") as out,
    ):
        out.sendall(b"8 <34>good")
    time.sleep(0.3)
    assert "2 connections failed" in listener.stopped()
    assert [r["text"] for r in records(tmp_path)] == ["<34>good"]


def test_a_flood_and_a_line_without_end_are_bounded(tmp_path: Path) -> None:
    listener = Listener("--udp", "0", "--tcp", "0", "--on", LOCAL, "-o", str(tmp_path / "out"))
    endless = socket.create_connection((LOCAL, listener.ports["tcp"]))
    piece = b"x" * 65536
    for _ in range(200):  # 13 MB in one line
        endless.sendall(piece)
    senders = [socket.create_connection((LOCAL, listener.ports["tcp"])) for _ in range(200)]
    for n, one in enumerate(senders):
        one.sendall(b"<34>Oct 11 22:14:15 a su: %d\n" % n * 10)
    with sending(listener.ports["udp"]) as out:
        for n in range(2000):
            out.send(b"<34>Oct 11 22:14:15 a su: %d" % n)
    pages = Path(f"/proc/{listener.process.pid}/statm").read_text().split()[1]
    for one in (endless, *senders):
        one.close()
    time.sleep(0.5)
    told = listener.stopped()
    kept = records(tmp_path / "out")
    received, dropped = (
        int(n.replace(",", "")) for n in re.findall(r"([\d,]+) (?:messages|dropped)", told)[:2]
    )
    assert received == len(kept) and received + dropped == 2000 + 2000 + 1
    assert "1 message too long, and cut" in told and max(len(r["text"]) for r in kept) == 65536
    assert int(pages) * os.sysconf("SC_PAGE_SIZE") < 150 * 1024 * 1024


@pytest.mark.skipif(sys.platform != "linux", reason="only Linux tells what it dropped")
def test_what_the_system_dropped_at_the_end_is_counted(tmp_path: Path) -> None:
    """No datagram comes behind the last one that was dropped, to tell of it."""
    listener = Listener("--udp", "0", "--on", LOCAL, "-o", str(tmp_path / "out"))
    listener.process.send_signal(signal.SIGSTOP)
    with sending(listener.ports["udp"]) as out:
        for n in range(30_000):
            out.send(b"<34>Oct 11 22:14:15 a su: %d %s" % (n, b"x" * 400))
    listener.process.send_signal(signal.SIGCONT)
    told = listener.stopped()
    received, dropped = (
        int(n.replace(",", "")) for n in re.findall(r"([\d,]+) (?:messages|dropped)", told)[:2]
    )
    assert (
        dropped > 0 and received + dropped == 30_000 and received == len(records(tmp_path / "out"))
    )


@pytest.mark.deep
def test_killing_it_loses_at_most_the_last_second(tmp_path: Path) -> None:
    dice = random.Random(4)
    for n in range(1 if BRIEF else 4):
        folder = tmp_path / str(n)
        listener = Listener("--udp", "0", "--on", LOCAL, "-o", str(folder))
        end = time.monotonic() + 0.3 + dice.random() * 1.2
        sent: list[float] = []
        with sending(listener.ports["udp"]) as out:
            while time.monotonic() < end:
                out.send(b"<34>Oct 11 22:14:15 a su: %d" % len(sent))
                sent.append(time.monotonic())
                time.sleep(0.002)
        listener.process.kill()
        killed = time.monotonic()
        listener.process.communicate()
        said = {int(r["text"].rpartition(" ")[2]) for r in records(folder)}
        assert all(n in said for n, at in enumerate(sent) if at < killed - 1.0)
        assert said == set(range(len(said)))


def test_a_full_disk_does_not_end_it(tmp_path: Path) -> None:
    """What cannot be kept is counted and reported; what was written is readable."""

    def little() -> None:
        resource.setrlimit(resource.RLIMIT_FSIZE, (5000, 5000))

    listener = Listener("--udp", "0", "--on", LOCAL, "-o", str(tmp_path / "out"), preexec_fn=little)
    with sending(listener.ports["udp"]) as out:
        for n in range(100):
            out.send(b"<34>Oct 11 22:14:15 a su: %d" % n)
        time.sleep(0.8)
        out.send(b"<34>Oct 11 22:14:15 a su: 100")
    time.sleep(0.5)
    told = listener.stopped(1)
    assert re.search(r"out/heard-\S+\.jsonl: cannot be written: file too large", told), told
    said = [r["text"] for r in records(tmp_path / "out")]
    assert said and said == [f"<34>Oct 11 22:14:15 a su: {n}" for n in range(len(said))]
    assert "101 messages of 1 sender" in told
    assert f"{101 - len(said)} messages not kept" in told


def test_it_keeps_messages_again_when_there_is_room(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    room, write = 0, os.write

    def full(file: int, data: bytes) -> int:
        if not room:
            raise OSError(errno.ENOSPC, "no space left on device")
        return write(file, data[:room])

    keeper = Keeper(tmp_path, RotationLimits(), lambda: datetime.now(UTC), time.monotonic)
    monkeypatch.setattr(os, "write", full)
    for room, unkept in ((0, 1), (5, 1), (0, 2)):
        keeper.add(b"one line\n")
        keeper.flush()
        assert (keeper.unkept, bool(keeper.failing)) == (unkept, not room)
    room = 100
    keeper.add(b"another\n")
    keeper.close()
    assert not keeper.failing and keeper.unkept == 2
    (packed,) = tmp_path.iterdir()
    assert gzip.decompress(packed.read_bytes()) == b"one line\nanother\n"


def test_a_peer_with_very_many_connections_takes_no_room_from_others(tmp_path: Path) -> None:
    def few_files() -> None:
        resource.setrlimit(resource.RLIMIT_NOFILE, (256, 256))

    words = ("--tcp", "0", "--on", LOCAL, "-o", str(tmp_path / "out"), "--rotate-every", "1")
    listener = Listener(*words, preexec_fn=few_files)
    to = (LOCAL, listener.ports["tcp"])
    quiet = socket.create_connection(to, source_address=("127.0.0.2", 0))
    quiet.sendall(b"<34>Oct 11 22:14:15 a su: first\n")
    time.sleep(1.2)  # idle for long enough to make room for others
    flood = [socket.create_connection(to) for _ in range(400)]
    time.sleep(2.5)
    flood += [socket.create_connection(to) for _ in range(50)]
    time.sleep(0.5)
    quiet.sendall(b"<34>Oct 11 22:14:15 a su: last\n")
    until = time.monotonic() + 30
    while len(records(tmp_path / "out")) < 2 and time.monotonic() < until:
        time.sleep(0.2)
    told = listener.stopped()
    for one in (quiet, *flood):
        one.close()
    assert [r["text"][-5:].strip() for r in records(tmp_path / "out")] == ["first", "last"]
    # Each that is too many was reported when it came, and none is of another peer.
    gone = re.findall(r"(?:ended|refused) (\d+|a) connections? of (\S+):", told)
    assert {peer for _, peer in gone} == {LOCAL}, told
    number = sum(1 if number == "a" else int(number) for number, _ in gone)
    assert number == 451 - (256 - 64)


def test_a_sender_that_closes_at_once_loses_nothing(tmp_path: Path, certificate: Path) -> None:
    """Over TLS 1.3, tickets that nobody reads would reset the connection."""
    listener = Listener(*every_way(certificate), "--on", LOCAL, "-o", str(tmp_path / "out"))
    context = ssl.create_default_context(cafile=str(certificate))
    for n in range(5):
        with (
            socket.create_connection((LOCAL, listener.ports["tls"])) as plain,
            context.wrap_socket(plain, server_hostname="localhost") as out,
        ):
            out.sendall(b"".join(b"%d <34>%05d" % (9, n * 1000 + m) for m in range(1000)))
    time.sleep(1)
    listener.stopped()
    assert sorted(int(r["text"][4:]) for r in records(tmp_path / "out")) == list(range(5000))


def test_the_handler_of_python_is_heard_while_it_is_connected(tmp_path: Path) -> None:
    """It ends a message with a zero byte, and a message may hold line feeds."""
    listener = Listener("--tcp", "0", "--on", LOCAL, "-o", str(tmp_path / "out"), "--count", "3")
    handler = SysLogHandler((LOCAL, listener.ports["tcp"]), socktype=socket.SOCK_STREAM)
    try:
        for text in ("one", "two\nlines", "three"):
            handler.emit(LogRecord("x", WARNING, "", 0, text, None, None))
        listener.ended()
    finally:
        handler.close()
    said = [(r["text"], r["framing"]) for r in records(tmp_path / "out")]
    assert said == [(f"<12>{t}", "zero byte") for t in ("one", "two\nlines", "three")]


def test_recordings_rotate_and_keep_within_the_limit(tmp_path: Path) -> None:
    clock = 0.0
    keeper = Keeper(
        tmp_path,
        RotationLimits(size=400, seconds=60, disk=700),
        lambda: datetime(2026, 11, 23, tzinfo=UTC),
        lambda: clock,
    )
    for n in range(60):
        keeper.add(b"%059d\n" % n)
        keeper.flush()
    clock = 61.0
    keeper.add(b"late\n")
    keeper.flush()
    keeper.add(b"last\n")
    keeper.close()
    left = sorted(tmp_path.iterdir())
    assert all(path.suffix == ".gz" for path in left) and keeper.deleted > 0
    assert sum(path.stat().st_size for path in left) <= 700
    lines = [line for path in left for line in gzip.decompress(path.read_bytes()).split()]
    assert lines[-2:] == [b"late", b"last"] and lines[-3] == b"%059d" % 59
    with pytest.raises(InputError, match="cannot be written"):
        Keeper(tmp_path / left[0].name, RotationLimits(), lambda: datetime.now(UTC), lambda: 0.0)


def test_each_message_is_shown_as_it_comes(example: Path) -> None:
    listener = Listener("--udp", "0", "--on", LOCAL, "--follow", "--count", "2", "-w", str(example))
    assert "nothing is kept" in listener.told
    with sending(listener.ports["udp"]) as out:
        out.send(b"<165>Oct 11 22:14:15 tarsk-fw2 su: hello\x1b[2J\nthere")
        out.send(b"hello")
    told = listener.ended()
    assert re.search(r"Z  tarsk-fw2  local4\.notice  su: hello·\[2J·there\n", told), told
    assert re.search(rf"Z  {re.escape(LOCAL)}  -  hello\n", told)


@pytest.mark.parametrize(
    ("words", "said"),
    [
        ([], "there is no port to listen on"),
        (["--udp", "x"], "'x' is not a port"),
        (["--udp", "70000"], "'70000' is not a port"),
        (["--udp", "0", "--on", "here"], "--on: 'here' is not an IP address"),
        (["--udp", "0", "--on", "192.0.2.1"], "cannot listen on 192.0.2.1 udp 0: cannot assign"),
        (["--udp", "0", "--for", "soon"], "'soon' is not a duration"),
        (["--udp", "0", "--for", "0s"], "'0s' is not a duration"),
        (["--tls", "0"], "--tls and --certificate belong together"),
        (["--tls", "0", "--certificate", "gone.pem"], "gone.pem: no such file"),
        (["--udp", "0", "--count", "0"], "'0' is not a number"),
        (["--udp", "0", "--site", "tarsk"], "give --expect with them"),
        (["--udp", "0", "--expect"], "there is no fleet here to expect devices of"),
        (["--udp", "0", "--expect", "--follow"], "leave one of them out"),
        (["--udp", "0", "-o", "file"], "cannot be written"),
    ],
)
def test_wrong_calls_get_one_clear_line(
    ivrel: Run, tmp_path: Path, words: list[str], said: str
) -> None:
    (tmp_path / "file").write_text("x")
    done = ivrel("listen", *words, cwd=tmp_path, code=2)
    assert said in done.stderr and done.stderr.count("\n") == 1, done.stderr


def test_a_port_in_use_and_a_key_of_another_are_told(ivrel: Run, certificate: Path) -> None:
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as taken:
        taken.bind((LOCAL, 0))
        port = taken.getsockname()[1]
        done = ivrel("listen", "--udp", str(port), "--on", LOCAL, code=2)
        assert f"cannot listen on {LOCAL} udp {port}: address already in use" in done.stderr
    other = certificate.with_name("two.key")
    words = ("--tls", "0", "--certificate", certificate, "--key", other, "--on", LOCAL)
    assert "they do not belong together" in ivrel("listen", *words, code=2).stderr


def test_what_is_expected_is_waited_for(tmp_path: Path) -> None:
    (tmp_path / "fleet.yaml").write_text(
        "fleet: f\ndevices:\n"
        "  - {device: one, kind: server, site: s, platform: rsyslog, identity: 127.0.0.2}\n"
        "  - {device: two, kind: server, site: t, platform: rsyslog, identity: 127.0.0.3}\n"
    )
    (tmp_path / "policy.yaml").write_text(
        f"policy: p\ncollectors: {{c: {{address: {LOCAL}}}}}\n"
        "rules:\n  - {rule: all, require: {facility: local4, stamp: {zone: shown}}}\n"
    )
    call = ("--udp", "0", "--on", LOCAL, "-w", str(tmp_path), "--expect", "--for")
    right, wrong = b"<164>Nov 23 10:00:00 +00:00 x su: y", b"<165>Nov 23 10:00:00 x su: y"
    listener = Listener(*call, "20s")
    for source, data in (("127.0.0.2", wrong), ("127.0.0.3", right), ("127.0.0.2", right)):
        with sending(listener.ports["udp"], source) as out:
            out.send(data)
        time.sleep(0.1)
    told = listener.ended(0)
    assert "2 of 2 devices heard as the policy asks" in told
    listener = Listener(*call, "1.5s", "--device", "one")
    with sending(listener.ports["udp"], "127.0.0.2") as out:
        out.send(wrong)
    told = listener.ended(1)
    assert re.search(r"one  contradicted  stamp: zone: hidden was heard, not shown\n", told), told
    listener = Listener(*call, "1.2s", "--site", "t")
    assert re.search(r"two  waiting       nothing yet\n0 of 1 device heard", listener.ended(1))
    listener = Listener(*call, "20s", "--quiet-before", "10s")
    with sending(listener.ports["udp"], "127.0.0.3") as out:
        out.send(right)
    assert "two spoke before; nothing was to be heard yet" in listener.ended(1)


@pytest.mark.skipif(not MUST and not shutil.which("logger"), reason="no logger of util-linux")
def test_another_sender_is_understood_in_all_its_forms(tmp_path: Path) -> None:
    forms = [
        ["-d", "--rfc3164"],
        ["-T", "--rfc3164", "--octet-count"],
        ["-d", "--rfc5424"],
        ["-T", "--rfc5424", "--octet-count", "--msgid", "ID47"],
        ["-T", "--rfc5424=notq,notime,nohost"],
        ["-d", "--sd-id", "x@32473", "--sd-param", 'a="b c"', "--rfc5424=notq"],
    ]
    listener = Listener(
        "--udp", "0", "--tcp", "0", "--on", LOCAL, "-o", str(tmp_path), "--count", str(len(forms))
    )
    for n, form in enumerate(forms):
        port = listener.ports["tcp" if "-T" in form else "udp"]
        call = [
            "logger",
            "-n",
            LOCAL,
            "-P",
            str(port),
            "-p",
            "local4.notice",
            "-t",
            "tag",
            f"--id={n + 100}",
        ]
        subprocess.run([*call, *form, f"hello {n}"], check=True, timeout=20)
    listener.ended()
    done = subprocess.run(
        [IVREL, "messages", *map(str, tmp_path.glob("heard-*")), "--format", "jsonl"],
        capture_output=True,
        text=True,
    )
    rows = {r["text"]: r for r in map(json.loads, done.stdout.splitlines())}
    host = socket.gethostname()
    for n, form in enumerate(forms):
        row = rows[f"hello {n}"]
        assert (row["facility"], row["severity"], row["app"], row["process"]) == (
            "local4",
            "notice",
            "tag",
            str(n + 100),
        )
        assert (
            row["host"] == ("" if "nohost" in " ".join(form) else host)
            or row["host"] == host.partition(".")[0]
        )
        assert row["departures"] == [], row


@pytest.mark.skipif(not MUST and not RSYSLOGD, reason="no rsyslogd (apt-get install rsyslog)")
@pytest.mark.deep
def test_what_a_daemon_sends_is_heard_and_judged(
    ivrel: Run, tmp_path: Path, certificate: Path
) -> None:
    words = every_way(certificate)
    listener = Listener(
        *words, "--on", LOCAL, "-o", str(tmp_path / "out"), "--count", "8", "--for", "30s"
    )
    ports = listener.ports
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as free:
        free.bind((LOCAL, 0))
        entrance = free.getsockname()[1]
    (tmp_path / "rsyslog.conf").write_text(f"""
module(load="imudp")
template(name="new" type="string" string="<%pri%>1 %timegenerated:::date-rfc3339% right app - - - %msg%")
template(name="old" type="string" string="<%pri%>%timereported:::date-rfc3164% wrong %syslogtag%%msg%")
template(name="file" type="string" string="%timegenerated:::date-rfc3339% %hostname% %syslogtag%%msg%\\n")
input(type="imudp" address="{LOCAL}" port="{entrance}")
action(type="omfwd" target="{LOCAL}" port="{ports["udp"]}" protocol="udp" address="127.0.0.2" template="new")
if $syslogseverity <= 7 then
  action(type="omfwd" target="{LOCAL}" port="{ports["udp"]}" protocol="udp" address="127.0.0.3" template="old")
action(type="omfwd" target="{LOCAL}" port="{ports["tcp"]}" protocol="tcp" TCP_Framing="octet-counted"
  template="RSYSLOG_SyslogProtocol23Format")
global(DefaultNetstreamDriverCAFile="{certificate}")
action(type="omfwd" target="{LOCAL}" port="{ports["tls"]}" protocol="tcp" StreamDriver="gtls" StreamDriverMode="1"
  StreamDriverAuthMode="x509/name" StreamDriverPermittedPeers="localhost" template="RSYSLOG_ForwardFormat")
action(type="omfile" file="{tmp_path}/traditional.log" template="RSYSLOG_TraditionalFileFormat")
action(type="omfile" file="{tmp_path}/precise.log" template="RSYSLOG_FileFormat")
action(type="omfile" file="{tmp_path}/own.log" template="file")
""")
    daemon = subprocess.Popen(
        [RSYSLOGD, "-n", "-f", str(tmp_path / "rsyslog.conf"), "-i", str(tmp_path / "pid")],
        stderr=subprocess.PIPE,
    )
    try:
        time.sleep(1.0)
        with sending(entrance) as out:
            out.send(b"<164>Nov 23 10:00:00 host su: a warning")
            out.send(b"<167>Nov 23 10:00:01 host su: something to debug")
        told = listener.ended()
    finally:
        daemon.terminate()
        daemon.communicate(timeout=20)
    assert "8 messages" in told, told
    ways = sorted((r["transport"], r["framing"], r["sender"]) for r in records(tmp_path / "out"))
    assert ways == [
        *[("tcp", "octet counting", LOCAL)] * 2, *[("tls", "line feed", LOCAL)] * 2,
        *[("udp", "datagram", "127.0.0.2")] * 2, *[("udp", "datagram", "127.0.0.3")] * 2,
    ]  # fmt: skip
    (tmp_path / "fleet.yaml").write_text(
        "fleet: f\ndevices:\n"
        "  - {device: right, kind: server, site: s, platform: rsyslog, identity: 127.0.0.2}\n"
        "  - {device: wrong, kind: server, site: s, platform: rsyslog, identity: 127.0.0.3}\n"
    )
    (tmp_path / "policy.yaml").write_text(
        f"policy: p\ncollectors: {{c: {{address: {LOCAL}, port: {ports['udp']}, format: rfc5424}}}}\n"
        "rules:\n  - {rule: all, require: {export: on, collectors: [c], format: expected, facility: local4,\n"
        "     level: {from: warning}, source: identity, origin: name, stamp: {precision: microseconds, zone: shown}}}\n"
    )
    recordings = [f"--at=c={path}" for path in (tmp_path / "out").glob("heard-*")]
    done = ivrel("heard", "-w", tmp_path, *recordings, "--format", "json", code=1)
    claims = {
        (d["device"], c["setting"]): c["claim"]
        for d in json.loads(done.stdout)["devices"]
        for c in d["claims"]
    }
    right = {name: claim for (device, name), claim in claims.items() if device == "right"}
    assert set(right.values()) == {"proved"}, done.stdout[:6000]
    wrong = {
        name
        for (device, name), claim in claims.items()
        if device == "wrong" and claim == "contradicted"
    }
    assert wrong == {"format", "stamp"}, claims
    for name in ("traditional", "precise", "own"):
        done = ivrel("messages", tmp_path / f"{name}.log", "--format", "jsonl", code=0)
        rows = [json.loads(line) for line in done.stdout.splitlines()]
        assert [(r["host"], r["app"], r["text"]) for r in rows] == [
            ("host", "su", "a warning"), ("host", "su", "something to debug"),
        ], rows  # fmt: skip
