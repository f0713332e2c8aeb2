"""Messages of files: read in every format, found to be a device's, chosen, counted, traced."""

from __future__ import annotations

import gzip
import json
import lzma
from datetime import UTC, datetime
from pathlib import Path

import pytest
import zstandard
from conftest import Run, tried
from hypothesis import given
from hypothesis import strategies as st

from ivrel.cli.message_arguments import RECORDS
from ivrel.core import Device
from ivrel.core.attribution.filtering import Wanted, kind_of
from ivrel.core.attribution.senders import GRADES, Attribution, Directory, attribute
from ivrel.core.policy import Collector
from ivrel.core.syslog import parse
from ivrel.core.syslog.framing import LONGEST
from ivrel.core.syslog.record import Record, kept
from ivrel.sources.messages import FORMATS, Messages
from ivrel.sources.messages.formats import template

NOW = datetime(2026, 11, 23, 12, tzinfo=UTC)
LOG = b"""<189>Nov 23 10:00:00 tarsk-fw2 su: session from 192.0.2.99 opened
<34>1 2026-11-23T10:00:05.123Z TARSK-GW1.example net 12 LINK [origin ip="192.0.2.31"] port 3 down
Nov 23 10:00:03 brannay-fw1 kernel: link down

<13>3d04h: hello there
"""


def record(data: bytes, sender: str | None = None) -> Record:
    return Record(parse(data), data, "f", 1, sender=sender)


DEVICES = (
    Device("a", "router", "s", "quern", (), "192.0.2.1"),
    Device("b", "router", "s", "quern", (), "192.0.2.2"),
    Device("twin", "router", "s", "quern", (), "192.0.2.2"),
)
RELAY = Collector("r", "192.0.2.200", forwards=("c",))


@pytest.mark.parametrize(
    ("data", "sender", "expected"),
    [
        (b"<1>Nov 23 10:00:00 a x: y", None, ("a", "", "", ["host"])),
        (b"<1>Nov 23 10:00:00 A.example x: y", None, ("a", "", "", ["host"])),
        (b"<1>Nov 23 10:00:00 192.0.2.1 x: y", None, ("a", "", "", ["host"])),
        (b"<1>Nov 23 10:00:00 a: y", None, ("a", "", "", ["tag"])),
        (b"<1>Nov 23 10:00:00 z x: y", "192.0.2.1", ("a", "", "", ["identity"])),
        (b"<1>Nov 23 10:00:00 z x: y", "203.0.113.1", ("a", "", "", ["interface"])),
        (b"<1>Nov 23 10:00:00 b x: y", "192.0.2.1", ("a", "", "b", ["identity", "host"])),
        (b"<1>Nov 23 10:00:00 a x: y", "192.0.2.200", ("a", "r", "", ["host"])),
        (b"<1>Nov 23 10:00:00 z x: y", "192.0.2.200", ("", "r", "", [])),
        (b"<1>Nov 23 10:00:00 z x: y", "198.51.100.9", ("", "", "", [])),
        # Of two devices with one address, only the message can tell which it is.
        (b"<1>Nov 23 10:00:00 twin x: y", "192.0.2.2", ("twin", "", "", ["identity", "identity", "host"])),
        (b"<1>Nov 23 10:00:00 z x: y", "192.0.2.2", ("", "", "", ["identity", "identity"])),
        (b'<1>1 - b x - - [origin ip="192.0.2.1"]', None, ("a", "", "b", ["origin", "host"])),
    ],
)  # fmt: skip
def test_messages_are_attributed(
    data: bytes, sender: str | None, expected: tuple[str, str, str, list[str]]
) -> None:
    asked = []

    def interfaces(device: Device) -> list[str]:
        asked.append(device.name)
        return ["203.0.113.1"] if device.name == "a" else []

    found = attribute(record(data, sender), Directory(DEVICES, [RELAY], interfaces))
    device, relay, conflict, ways = expected
    assert (found.device, found.relay, found.conflict) == (device, relay, conflict)
    assert [c.by for c in found.candidates] == ways
    taken = [c for c in found.candidates if not c.why_not]
    assert {c.device for c in taken} == ({device} if device else set())
    # Configurations are read only where no identity says whose an address is.
    assert bool(asked) == (sender in ("203.0.113.1", "198.51.100.9"))


@pytest.mark.parametrize(
    ("wanted", "taken"),
    [
        (Wanted(), True),
        (Wanted(severity=5), True),
        (Wanted(severity=4), False),
        (Wanted(facilities=frozenset({23})), True),
        (Wanted(facilities=frozenset({22})), False),
        (Wanted(own=("192.0.2.9",)), False),
        (Wanted(own=("192.0.2.99", "92.0.2.9")), True),
        (Wanted(devices={"a"}), True),
        (Wanted(devices={"b"}), False),
    ],
)
def test_messages_are_chosen(wanted: Wanted, taken: bool) -> None:
    one = record(b"<189>Nov 23 10:00:00 a su: from 192.0.2.9 192.0.2.990")
    assert wanted.takes(one, Attribution("a")) == taken
    unsaid = record(b"Nov 23 10:00:00 a su: hello")
    assert wanted.takes(unsaid, Attribution("a")) == (
        wanted in (Wanted(), Wanted(devices={"a"})) or bool(wanted.own)
    )


@pytest.mark.parametrize(
    ("one", "other", "alike"),
    [
        ("port 3 down 'x y'", "port 12 down 'z'", True),
        ("from 192.0.2.1 to 2001:db8::1", "from 203.0.113.77 to ::1", True),
        ("code 0x1f took 1.5 s", "code 0xab took 17 s", True),
        ("port up", "port down", False),
        ("at 10:00 sharp", "at noon sharp", False),
    ],
)
def test_like_counts_with_like(one: str, other: str, alike: bool) -> None:
    kinds = {kind_of(record(f"<1>Nov 23 10:00:00 a su: {text}".encode())) for text in (one, other)}
    assert (len(kinds) == 1) == alike, kinds


@tried(100)
@given(
    st.lists(st.binary(min_size=1, max_size=60), min_size=1, max_size=6),
    st.datetimes(datetime(2000, 1, 1), datetime(2099, 1, 1), timezones=st.just(UTC)),
)
def test_what_a_recording_keeps_is_read(datas: list[bytes], received: datetime) -> None:
    before = [
        Record(parse(d), d, "f", n, received, "2001:db8::1", 514, "udp", "datagram")
        for n, d in enumerate(datas, 1)
    ]
    lines = [kept(one) for one in before]
    assert all(line.count(b"\n") == 1 and line.endswith(b"\n") for line in lines)
    after = [FORMATS["recording"](line, "f", n, NOW) for n, line in enumerate(lines, 1)]
    assert after == before


@pytest.mark.parametrize(
    "packed", [bytes, gzip.compress, lzma.compress, zstandard.ZstdCompressor().compress]
)
def test_files_are_read_compressed_or_not(packed: object, tmp_path: Path) -> None:
    path = tmp_path / "log"
    path.write_bytes(packed(LOG))  # type: ignore[operator]
    messages = Messages([str(path)], NOW)
    assert [r.line for r in messages] == [1, 2, 3, 5] and not messages.problems
    path.write_bytes(packed(LOG)[:-20])  # type: ignore[operator]
    messages = Messages([str(path), str(tmp_path / "gone")], NOW)
    assert len(list(messages)) <= 4
    assert len(messages.problems) == (1 if packed is bytes else 2)
    assert messages.problems[-1].endswith("gone: no such file or directory")


def test_properties_of_a_collector_are_read(tmp_path: Path) -> None:
    said = {
        "timegenerated": "2026-11-23T10:00:01.5+01:00", "timereported": "Nov 23 09:00:00",
        "fromhost-ip": "192.0.2.1", "hostname": "a", "syslogtag": "su[12]:", "msg": " hello",
        "syslogfacility-text": "local4", "syslogseverity-text": "warn",
    }  # fmt: skip
    raw = {"rawmsg": "<189>Nov 23 10:00:00 a su: hello", "timegenerated": said["timegenerated"]}
    path = tmp_path / "x.json"
    path.write_text(f"{json.dumps(said)}\n{json.dumps(raw)}\n[1]\n")
    messages = Messages([str(path)], NOW)
    one, other = messages
    assert (one.sender, one.message.pri, one.message.host, one.message.app, one.message.process) == (
        *("192.0.2.1", 164, "a", "su"), "12",
    )  # fmt: skip
    assert one.received == other.received == datetime(2026, 11, 23, 9, 0, 1, 500000, tzinfo=UTC)
    assert one.message.stamp.hour == 9 and one.message.text == "hello"
    assert other.message.pri == 189 and other.data == raw["rawmsg"].encode()
    assert messages.problems == [f"{path}:3: not a JSON object"]


def test_the_longest_message_of_a_recording_is_read(tmp_path: Path) -> None:
    for data in (b"<34>" + b"\x1b" * (LONGEST - 4), b"<34>" + b"\xff" * (LONGEST - 4)):
        (tmp_path / "x.jsonl").write_bytes(kept(record(data)))
        messages = Messages([str(tmp_path / "x.jsonl")], NOW)
        assert [r.data for r in messages] == [data] and messages.problems == []


def test_every_format_can_be_named() -> None:
    assert set(RECORDS) == set(FORMATS)


def test_a_line_format_of_the_users_own() -> None:
    read = template("{received} [{sender}] {any} {message}")
    one = read(b"2026-11-23T10:00:00Z [192.0.2.1] x <13>Nov 23 10:00:00 a su: y", "f", 1, NOW)
    assert (one.sender, one.message.pri) == ("192.0.2.1", 13)
    assert one.received == datetime(2026, 11, 23, 10, tzinfo=UTC)
    with pytest.raises(ValueError, match="does not fit"):
        read(b"hello", "f", 1, NOW)


def test_messages_are_listed_counted_and_traced(ivrel: Run, example: Path, tmp_path: Path) -> None:
    path = tmp_path / "c.log"
    path.write_bytes(LOG)
    done = ivrel("messages", path, "-w", example, "--format", "jsonl", code=0)
    rows = [json.loads(line) for line in done.stdout.splitlines()]
    assert [(r["line"], r["device"]) for r in rows] == [
        (1, "tarsk-fw2"), (3, "brannay-fw1"), (5, ""), (2, "tarsk-gw1"),
    ]  # fmt: skip
    done = ivrel("messages", path, "-w", example, "--site", "tarsk", "--severity", "notice", code=0)
    assert "2 of 4 messages" in done.stdout and "next  ivrel trace" in done.stdout
    done = ivrel("messages", path, "-w", example, "--by", "severity", "--format", "csv", code=0)
    assert done.stdout.splitlines()[1].startswith("notice,2,1,2026-11-23T10:00:00.000Z,")
    done = ivrel("trace", path, "-w", example, "--last", "--device", "tarsk-gw1", code=0)
    assert "HOSTNAME    TARSK-GW1.example" in done.stdout and "origin" in done.stdout
    # The comparisons are those that the message alone allows; strangers are compared with nothing.
    done = ivrel("trace", path, "-w", example, "--line", "1", "--format", "json", code=0)
    traced = json.loads(done.stdout)
    claims = {c["setting"]: c["claim"] for c in traced["claims"]}
    heard = ivrel("heard", path, "-w", example, "--device", "tarsk-fw2", "--format", "json")
    (device,) = json.loads(heard.stdout)["devices"]
    assert traced["counted"] and traced["device"] == "tarsk-fw2" and device["messages"] == 1
    assert claims == {c["setting"]: c["claim"] for c in device["claims"] if c["setting"] in claims}
    assert {"facility", "stamp", "level", "source", "format"} & claims.keys()
    done = ivrel("trace", path, "-w", example, "--line", "5", code=0)
    assert "it is counted among strangers" in done.stdout
    done = ivrel("trace", path, "--line", "5", code=0)
    assert "uptime, 273,600 seconds" in done.stdout and "RFC 3164 section 4.1.2" in done.stdout


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (["messages", "gone.log"], "gone.log: no such file or directory"),
        (["messages", "c.log", "--severity", "loud"], "--severity: 'loud' is not known"),
        (["messages", "c.log", "--facility", "local9"], "--facility: 'local9' is not known"),
        (["messages", "c.log", "--pattern", "("], "--pattern: not a regular expression"),
        (["messages", "c.log", "--own-address", "x"], "--own-address: 'x' is not an IP address"),
        (["messages", "c.log", "--site", "x"], "there is no fleet here"),
        (["messages", "c.log", "--since", "noon"], "'noon' is not a time"),
        (["messages", "c.log", "--template", "{when} {message}"], "field 'when' is not known"),
        (["messages", "c.log", "--template", "{sender}"], "expected {message}"),
        (["messages", "c.log", "--zone", "Mars/Olympus"], "is not a zone"),
        (["messages", "."], ".: is a directory"),
        (["messages", "c.pcap"], "c.pcap: damaged behind packet 1"),
        (["messages", "c.json", "--as", "json"], "c.json:1: not JSON"),
        (["trace", "c.log", "--line", "4"], "line 4 holds no message"),
        (["trace", "c.log", "--line", "0"], "'0' is not the number of a line"),
        (["trace", "gone.log", "--last"], "gone.log: no such file or directory"),
    ],
)
def test_wrong_calls_get_one_clear_line(
    ivrel: Run, tmp_path: Path, words: list[str], said: str
) -> None:
    (tmp_path / "c.log").write_bytes(LOG)
    (tmp_path / "c.pcap").write_bytes(b"\xd4\xc3\xb2\xa1" + bytes(40))
    (tmp_path / "c.json").write_bytes(b"hello\n")
    done = ivrel(*words, cwd=tmp_path, code=2)
    assert said in done.stderr and "Traceback" not in done.stderr


@pytest.mark.parametrize(
    ("data", "sender", "grade", "called"),
    [
        (b"<1>Nov 23 10:00:00 a x: y", "192.0.2.1", "sure", ""),
        (b"<1>Nov 23 10:00:00 a x: y", None, "sure", ""),
        (b"<1>Nov 23 10:00:00 a x: y", "192.0.2.200", "sure", ""),
        (b"<1>Nov 23 10:00:00 a x: y", "203.0.113.1", "sure", ""),
        # A name that nobody has, from an address that somebody has; a word of a text is none.
        (b"<1>Nov 23 10:00:00 z x: y", "192.0.2.1", "sure", "z"),
        (b"<1>Nov 23 10:00:00 link is up", "192.0.2.1", "sure", ""),
        (b"<1>Nov 23 10:00:00 x: y", "192.0.2.1", "sure", ""),
        (b"<1>Nov 23 10:00:00 b x: y", "192.0.2.1", "disputed", ""),
        (b"<1>Nov 23 10:00:00 a x: y", "198.51.100.9", "unknown address", ""),
        (b"<1>Nov 23 10:00:00 z x: y", "198.51.100.9", "", ""),
        (b"<1>Nov 23 10:00:00 z x: y", "192.0.2.200", "", ""),
        # Of two that share an address, the name tells.
        (b"<1>Nov 23 10:00:00 twin x: y", "192.0.2.2", "sure", ""),
        (b"<1>Nov 23 10:00:00 z x: y", "192.0.2.2", "", ""),
    ],
)
def test_only_what_is_sure_may_prove_anything(
    data: bytes, sender: str | None, grade: str, called: str
) -> None:
    directory = Directory(DEVICES, [RELAY], lambda d: ["203.0.113.1"] if d.name == "a" else [])
    found = attribute(record(data, sender), directory)
    assert (found.grade, found.called, found.is_sure) == (grade, called, grade == "sure")
    assert grade in GRADES
