"""Captures: messages in packets of every link layer, in fragments, in streams in any order."""

from __future__ import annotations

import contextlib
import io
import json
import os
import shutil
import signal
import socket
import struct
import subprocess
import time
from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path
from random import Random

import dpkt
import pytest
from conftest import Run, tried
from hypothesis import given
from hypothesis import strategies as st
from test_listen import LOCAL, MUST, Listener, records, sending

from ivrel.core.syslog.record import Record
from ivrel.sources.messages import Messages

NOW = datetime(2026, 11, 23, 12, tzinfo=UTC)
A, B = bytes([192, 0, 2, 1]), bytes([198, 51, 100, 21])
A6, B6 = (socket.inet_pton(socket.AF_INET6, a) for a in ("2001:db8::1", "2001:db8::21"))


def udp(data: bytes, port: int = 514) -> dpkt.udp.UDP:
    return dpkt.udp.UDP(sport=40000, dport=port, ulen=8 + len(data), data=data)


def ip4(payload: object, protocol: int = 17, **more: int) -> bytes:
    packet = dpkt.ip.IP(src=A, dst=B, p=protocol, ttl=64, data=payload, **more)
    packet.len = len(bytes(packet))
    return bytes(packet)


def ip6(payload: object, protocol: int = 17) -> bytes:
    data = bytes(payload)  # type: ignore[call-overload]
    return bytes(dpkt.ip6.IP6(src=A6, dst=B6, nxt=protocol, hlim=64, plen=len(data), data=data))


def ethernet(packet: bytes, vlans: int = 0) -> bytes:
    kind = b"\x86\xdd" if packet[0] >> 4 == 6 else b"\x08\x00"
    return bytes(12) + b"\x81\x00\x00\x07" * vlans + kind + packet


def read(
    tmp_path: Path, packets: list[bytes], link: int = 1, cut: int = 0, ng: bool = False
) -> tuple[list[Record], list[str]]:
    out = io.BytesIO()
    writer = (dpkt.pcapng.Writer if ng else dpkt.pcap.Writer)(out, linktype=link)
    for n, packet in enumerate(packets):
        writer.writepkt(packet, ts=1764000000.25 + n)
    data = out.getvalue()
    path = tmp_path / "x.pcap"
    path.write_bytes(data[: len(data) - cut])
    messages = Messages([str(path)], NOW)
    return list(messages), messages.problems


HELLO = b"<34>Oct 11 22:14:15 a su: hello"


@pytest.mark.parametrize("ng", [False, True])
@pytest.mark.parametrize(
    ("link", "wrap"),
    [
        (1, ethernet),
        (1, lambda packet: ethernet(packet, 1)),
        (1, lambda packet: ethernet(packet, 2)),
        (101, bytes),
        (113, lambda packet: bytes(14) + (b"\x86\xdd" if packet[0] >> 4 == 6 else b"\x08\x00") + packet),
        (113, lambda packet: bytes(14) + b"\x81\x00\x00\x07" + (b"\x86\xdd" if packet[0] >> 4 == 6 else b"\x08\x00") + packet),
        (276, lambda packet: b"\x88\xa8" + bytes(18) + b"\0\7\x81\x00\0\7" + (b"\x86\xdd" if packet[0] >> 4 == 6 else b"\x08\x00") + packet),
        (276, lambda packet: (b"\x86\xdd" if packet[0] >> 4 == 6 else b"\x08\x00") + bytes(18) + packet),
        (0, lambda packet: (b"\x18" if packet[0] >> 4 == 6 else b"\x02") + bytes(3) + packet),
    ],
)  # fmt: skip
def test_every_link_layer_is_read(
    tmp_path: Path, link: int, wrap: Callable[[bytes], bytes], ng: bool
) -> None:
    packets = [wrap(ip4(udp(HELLO))), wrap(ip6(udp(HELLO))), wrap(ip4(udp(b"no message", 53)))]
    found, problems = read(tmp_path, packets, link, ng=ng)
    assert [(r.sender, r.to, r.port, r.transport, r.data, r.line) for r in found] == [
        ("192.0.2.1", "198.51.100.21", 514, "udp", HELLO, 1),
        ("2001:db8::1", "2001:db8::21", 514, "udp", HELLO, 2),
    ]
    assert (
        found[0].received is not None and abs(found[0].received.timestamp() - 1764000000.25) < 1e-3
    )
    assert problems == []


def block(kind: int, body: bytes, order: str = "<") -> bytes:
    body += bytes(-len(body) % 4)
    size = struct.pack(f"{order}I", 12 + len(body))
    return struct.pack(f"{order}I", kind) + size + body + size


@pytest.mark.parametrize("order", ["<", ">"])
def test_each_interface_has_a_link_layer_and_a_clock_of_its_own(tmp_path: Path, order: str) -> None:
    def interface(link: int, options: bytes = b"") -> bytes:
        return block(1, struct.pack(f"{order}HHI", link, 0, 0) + options, order)

    def packet(number: int, ticks: int, data: bytes) -> bytes:
        times = struct.pack(
            f"{order}IIIII", number, ticks >> 32, ticks & 0xFFFFFFFF, len(data), len(data)
        )
        return block(6, times + data, order)

    nanos = struct.pack(f"{order}HHB3x", 9, 1, 9)
    halves = struct.pack(f"{order}HHB3xHHq", 9, 1, 0x81, 14, 8, 1000)
    section = block(0x0A0D0D0A, struct.pack(f"{order}IHHq", 0x1A2B3C4D, 1, 0, -1), order)
    data = section + interface(1) + interface(101, nanos) + interface(113, halves) + interface(147)
    data += packet(1, 1764000000 * 10**9 + 5, ip4(udp(HELLO))) + block(5, b"skipped!", order)
    data += packet(0, 1764000001 * 10**6, ethernet(ip4(udp(HELLO)))) + packet(3, 0, b"?")
    data += packet(2, 2 * 1764000001 + 1, bytes(14) + b"\x08\x00" + ip4(udp(HELLO)))
    # Another section begins anew.
    data += section + interface(101) + packet(0, 1764000009 * 10**6, ip4(udp(HELLO)))
    path = tmp_path / "x.pcapng"
    path.write_bytes(data)
    messages = Messages([str(path)], NOW)
    times = [r.received.timestamp() for r in messages if r.received is not None]
    assert [round(t, 3) for t in times] == [1764000000, 1764000001, 1764001001.5, 1764000009]
    assert messages.problems == [
        f"{path}: the link layer of 1 packet, type 147, is not known; expected Ethernet, Linux "
        "cooked, raw IP or loopback"
    ]
    for cut in range(1, len(data), 7):
        path.write_bytes(data[:-cut])
        assert len(list(Messages([str(path)], NOW))) <= 4
    path.write_bytes(section + packet(0, 1, b""))
    messages = Messages([str(path)], NOW)
    assert not list(messages) and "interface 0, which is not described" in messages.problems[0]


def test_fragments_are_put_together_in_any_order(tmp_path: Path) -> None:
    whole = bytes(udp(b"<34>" + b"x" * 100))
    pieces = [(at, whole[at : at + 40]) for at in range(0, len(whole), 40)]
    four = [ip4(piece, id=7, mf=int(at + 40 < len(whole)), offset=at // 8) for at, piece in pieces]
    six = [
        ip6(
            bytes([17, 0])
            + (at // 8 << 3 | (at + 40 < len(whole))).to_bytes(2, "big")
            + bytes(4)
            + piece,
            44,
        )
        for at, piece in pieces
    ]
    for packets in (
        four,
        four[::-1],
        six,
        six[::-1],
        [four[1], six[0], four[0], *six[1:], four[2]],
    ):
        found, problems = read(tmp_path, packets, 101)
        assert [r.data for r in found] == [b"<34>" + b"x" * 100] * (2 if len(packets) > 3 else 1), (
            packets
        )
        assert problems == []


CAPTURES = Path(__file__).parent / "captures"


def test_fragments_and_ports_that_are_used_again_as_tcpdump_took_them() -> None:
    """Taken over an interface with an MTU of 1500 (`captures/record.py`)."""
    messages = Messages([str(CAPTURES / "fragments.pcap"), str(CAPTURES / "ports.pcap")], NOW)
    found = [(r.sender, len(r.data), r.message.text[:3]) for r in messages]
    long = [(sender, 3033, f"{n} x") for sender in ("192.0.2.1", "2001:db8::1") for n in range(3)]
    assert found == [*long, *(("192.0.2.1", 34, f"{n} {m}") for n in range(4) for m in range(5))]
    assert messages.problems == []


def part(seq: int, data: bytes, flags: int = 16) -> bytes:
    return ip4(dpkt.tcp.TCP(sport=4000, dport=601, seq=seq, flags=flags, data=data), 6)


@pytest.mark.parametrize(
    ("packets", "expected", "said"),
    [
        # A segment that never comes, before the end of the stream and of the capture.
        ([part(0, b"", 2), part(1, b"<1>a\n"), part(11, b"<1>c\n"), part(16, b"", 1)], [b"<1>a", b"<1>c"], "1 streams have gaps"),
        ([part(0, b"", 2), part(1, b"<1>a\n"), part(11, b"<1>c\n")], [b"<1>a", b"<1>c"], "1 streams have gaps"),
        ([part(0, b"", 2), part(1, b"<1>a\n"), part(9, b"", 1)], [b"<1>a"], "1 streams have gaps"),
        # Nothing is made of the halves of two messages.
        ([part(0, b"", 2), part(1, b"<1>aaa"), part(20, b"bbb\n<1>c\n")], [b"<1>c"], "1 streams have gaps"),
        ([part(0, b"", 2), part(1, b"4 <1>a9 <1>"), part(20, b"4 <b7 <1>cccc")], [b"<1>a", b"<1>cccc"], "1 streams have gaps"),
        # The capture begins within a message.
        ([part(7, b"end of one\n<1>a\n"), part(23, b"", 1)], [b"<1>a"], None),
        # The capture holds the beginning of each packet.
        ([part(0, b"", 2), part(1, b"<1>" + b"x" * 90 + b"\n")[:100]], [], "1 packets are damaged, or cut by the capture"),
        ([ip4(bytes(udp(b"<1>" + b"x" * 77))[:40], id=7, mf=1)], [], "1 fragmented packets are not whole"),
    ],
)  # fmt: skip
def test_what_is_missing_is_counted_and_nothing_is_made_of_the_rest(
    tmp_path: Path, packets: list[bytes], expected: list[bytes], said: str | None
) -> None:
    found, problems = read(tmp_path, packets, 101)
    assert [r.data for r in found] == expected
    assert (said is None) == (not problems) and (said is None or said in problems[0]), problems


def segments(data: bytes, sizes: list[int], begin: int) -> list[bytes]:
    out, at, n = [ip4(dpkt.tcp.TCP(sport=4000, dport=601, seq=begin, flags=2), 6)], 0, 0
    while at < len(data):
        size = sizes[n % len(sizes)]
        part = dpkt.tcp.TCP(
            sport=4000,
            dport=601,
            seq=(begin + 1 + at) & 0xFFFFFFFF,
            flags=16,
            data=data[at : at + size],
        )
        out.append(ip4(part, 6))
        at, n = at + size, n + 1
    return out


@tried(60)
@given(
    st.lists(st.binary(min_size=1, max_size=40), min_size=1, max_size=6),
    st.lists(st.integers(1, 30), min_size=1, max_size=8),
    st.sampled_from([0, 17, 0xFFFFFFF0]),
    st.integers(0, 10_000),
)
def test_streams_are_put_together_in_any_order(
    tmp_path_factory: pytest.TempPathFactory,
    said: list[bytes],
    sizes: list[int],
    begin: int,
    seed: int,
) -> None:
    stream = b"".join(b"%d <1>%s" % (len(one) + 3, one) for one in said)
    syn, *parts = segments(stream, sizes, begin)
    mixed = [*parts, *parts[::3]]  # some come twice
    Random(seed).shuffle(mixed)
    # What is held out of order is bounded; a capture of a whole stream holds no more.
    found, problems = read(tmp_path_factory.mktemp("c"), [syn, *mixed], 101)
    if len(parts) <= 40:
        assert [r.data for r in found] == [b"<1>" + one for one in said] and problems == []


@pytest.mark.parametrize(
    ("packets", "link", "cut", "expected"),
    [
        ([bytes(60)], 105, 0, "the link layer of 1 packet, type 105, is not known"),
        ([ethernet(ip4(udp(HELLO)))] * 3, 1, 9, "damaged behind packet 2: it ends too early"),
        ([ethernet(ip4(udp(HELLO)))], 1, 80, "damaged behind packet 0"),
        ([ethernet(ip4(udp(HELLO)))[:50]], 1, 0, "1 packets are damaged, or cut by the capture"),
        ([ip4(dpkt.tcp.TCP(sport=1, dport=6514, seq=1, flags=16, data=b"\x16\x03\x01abc"), 6)], 101, 0, "1 streams are encrypted"),
    ],
)  # fmt: skip
def test_what_cannot_be_read_of_a_capture_is_told(
    tmp_path: Path, packets: list[bytes], link: int, cut: int, expected: str
) -> None:
    _, problems = read(tmp_path, packets, link, cut)
    assert len(problems) == 1 and expected in problems[0], problems


@pytest.mark.skipif(
    not MUST and not (shutil.which("tcpdump") and os.geteuid() == 0),
    reason="no tcpdump, or no right to capture",
)
def test_a_capture_of_the_same_traffic_gives_the_same_verdicts(ivrel: Run, tmp_path: Path) -> None:
    listener = Listener(
        "--udp",
        "0",
        "--tcp",
        "0",
        "--on",
        LOCAL,
        "-o",
        str(tmp_path / "out"),
        "--count",
        "30",
        "--for",
        "20s",
    )
    udp_port, tcp_port = listener.ports["udp"], listener.ports["tcp"]
    prefix = [] if os.geteuid() == 0 else ["sudo", "-n"]
    path = tmp_path / "lo.pcap"
    call = [
        *prefix,
        *("tcpdump", "--immediate-mode", "-s", "2048", "-i", "lo", "-U", "-w", str(path)),
        f"port {udp_port} or port {tcp_port} or port 9",
    ]
    tcpdump = subprocess.Popen(call, stderr=subprocess.PIPE, text=True)
    # It says that it listens a little before it does: what it catches first shows that.
    end = time.monotonic() + 20
    while time.monotonic() < end and not (path.exists() and path.stat().st_size > 24):
        with contextlib.suppress(OSError), sending(9) as out:
            out.send(b"no message")
        time.sleep(0.1)
    for n in range(10):
        with sending(udp_port, "127.0.0.2") as out:
            out.send(b"<164>1 2026-11-23T10:00:00.123456Z right app - - - %d" % n)
        with sending(udp_port, "127.0.0.3") as out:
            out.send(b"<167>Nov 23 10:00:00 wrong app: %d" % n)
    with socket.create_connection((LOCAL, tcp_port), source_address=("127.0.0.2", 0)) as stream:
        for n in range(10):
            stream.sendall(b"<164>1 2026-11-23T10:00:00.123456Z right app - - - %d\n" % n)
            time.sleep(0.01)
    listener.ended()
    end = time.monotonic() + 10
    while time.monotonic() < end and len(list(Messages([str(path)], NOW))) < 30:
        time.sleep(0.2)
    tcpdump.send_signal(signal.SIGINT)
    _, told = tcpdump.communicate(timeout=20)
    assert path.stat().st_size > 3000, told
    (tmp_path / "fleet.yaml").write_text(
        "fleet: f\ndevices:\n"
        "  - {device: right, kind: server, site: s, platform: rsyslog, identity: 127.0.0.2}\n"
        "  - {device: wrong, kind: server, site: s, platform: rsyslog, identity: 127.0.0.3}\n"
    )
    (tmp_path / "policy.yaml").write_text(
        f"policy: p\ncollectors: {{c: {{address: {LOCAL}, port: {udp_port}}}}}\n"
        "rules:\n  - {rule: all, require: {export: on, format: rfc5424, facility: local4, level: warning,\n"
        "     source: identity, origin: name, stamp: {precision: microseconds, zone: shown}}}\n"
    )
    outcomes = []
    for files in (list((tmp_path / "out").glob("heard-*")), [path]):
        done = ivrel("heard", "-w", tmp_path, *files, "--format", "json", code=1)
        found = json.loads(done.stdout)
        claims = {
            (d["device"], c["setting"]): (c["claim"], c["heard"])
            for d in found["devices"]
            for c in d["claims"]
        }
        outcomes.append((found["messages"], claims))
    assert outcomes[0] == outcomes[1] and outcomes[0][0] == 30 == len(records(tmp_path / "out"))
    assert {name for (device, name), c in outcomes[0][1].items() if c[0] == "contradicted"} == {
        "format",
        "level",
        "stamp",
    }
