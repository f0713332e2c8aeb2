"""What was heard: summaries that merge in any order, and what they prove and contradict."""

from __future__ import annotations

import json
import os
import shutil
from datetime import UTC, datetime, timedelta
from pathlib import Path
from random import Random

import pytest
from conftest import Run, tried
from hypothesis import given
from hypothesis import strategies as st

from ivrel.core import Device, read_policy
from ivrel.core.attribution.arrival import Arrival, arrived
from ivrel.core.attribution.senders import Directory, attribute
from ivrel.core.attribution.zones import zone_named
from ivrel.core.delivery import course
from ivrel.core.evidence.claims import CLAIMS, Claim, Heard, claims_of, judged
from ivrel.core.evidence.summary import MOST, STRANGER, Evidence
from ivrel.core.policy import effective
from ivrel.core.settings import SETTINGS
from ivrel.core.syslog import parse
from ivrel.core.syslog.record import Record, kept
from ivrel.live.journal import Journal

NOON = datetime(2026, 11, 23, 12, tzinfo=UTC)
POLICY = """policy: p
collectors:
  a: {{address: 198.51.100.21, format: rfc3164}}
  b: {{address: 198.51.100.22, port: 601, transport: tcp, format: rfc5424}}
  r: {{address: 198.51.100.30, forwards: a}}
rules:
  - rule: r
    require: {{{require}}}
"""
DEVICE = Device("x", "router", "s", "quern", (), "192.0.2.1")
OLD = b"<164>Nov 23 2026 12:00:00.123 UTC x su: hello"  # local4.warning
NEW = b"<165>1 2026-11-23T12:00:00.123456Z x su - - - hello"  # local4.notice


def record(
    data: bytes, sender: str | None = "192.0.2.1", at: str = "udp 514", n: int = 1
) -> Record:
    transport, _, port = at.partition(" ")
    when = NOON + timedelta(seconds=n)
    return Record(parse(data), data, "f", n, when, sender, int(port), transport)


def claim(require: str, *records: Record, collector: str = "", device: Device = DEVICE) -> Claim:
    policy = read_policy(POLICY.format(require=require), "policy.yaml")
    directory = Directory([device], policy.collectors.values())
    heard = Evidence()
    for one in records:
        heard.add(Arrival(one, attribute(one, directory), one.received, collector))
    summary = heard.of(device.name)
    name = require.partition(":")[0]
    asked = effective(policy, device)
    return next(c for c in judged(Heard(device, policy, asked, summary)) if c.setting == name)


TWO = (record(OLD), record(NEW, n=2))
RELAYED = record(OLD, sender="198.51.100.30")


@pytest.mark.parametrize(
    ("require", "records", "collector", "expected", "why", "line"),
    [
        ("export: on", TWO, "", "proved", "", 1),
        ("export: off", TWO, "", "contradicted", "it sends, although export is to be off", 1),
        ("export: on", (), "", "not seen", "nothing was heard of the device", None),
        ("facility: local4", TWO, "", "proved", "", 1),
        ("facility: local5", TWO, "", "contradicted", "local4 was heard, not local5", 1),
        ("facility: local4", (record(OLD[5:]),), "", "not seen", "no record holds the message", None),
        ("level: {from: warning, to: informational}", TWO, "", "proved", "", 2),
        ("level: {to: warning}", TWO, "", "contradicted", "notice was heard, not warning or less", 2),
        ("level: {from: debug}", TWO, "", "not seen", "nothing less urgent than notice was heard", None),
        ("level: [error, debug]", TWO, "", "not seen", "nothing less urgent than notice was heard", None),
        ("level: none", TWO, "", "contradicted", "notice was heard, not none", 2),
        ("stamp: {kind: calendar, precision: {at-least: milliseconds}, year: shown, zone: shown}", TWO, "",
         "proved", "", 1),
        ("stamp: {precision: microseconds}", TWO, "", "not seen", "precision: milliseconds was heard until 2026-11-23 12:00, which may have ended", None),
        ("stamp: {zone: hidden}", TWO, "", "contradicted", "zone: shown was heard, not hidden", 1),
        ("stamp: {year: shown}", (record(b"<164>3d04h: hello"),), "", "contradicted", "which show no year", 1),
        ("stamp: {year: hidden}", (record(b"<164>3d04h: hello"),), "", "proved", "", None),
        ("stamp: {kind: calendar}", (RELAYED,), "", "not seen", "no record holds the message", None),
        ("format: rfc3164", TWO, "", "contradicted", "rfc5424 was heard, not rfc3164", 2),
        ("format: rfc5424", TWO[1:], "", "proved", "", 2),
        ("source: identity", TWO, "", "proved", "", 1),
        ("source: 192.0.2.9", TWO, "", "contradicted", "192.0.2.1 sends, not 192.0.2.9", 1),
        ("source: {never: 192.0.2.1}", TWO, "", "contradicted", "192.0.2.1 sends, not never 192.0.2.1", 1),
        ("source: loop1", TWO, "", "not seen", "messages do not tell interfaces", None),
        ("source: identity", (record(OLD, sender=None),), "", "not seen", "the records tell no sender", None),
        ("source: identity", (RELAYED,), "", "not seen", "or it is a relay's", None),
        ("origin: name", TWO, "", "proved", "", 1),
        ("origin: name", (record(OLD.replace(b" x ", b" 192.0.2.1 ")),), "", "contradicted",
         "address was heard, not name", 1),
        ("origin: name", (record(OLD.replace(b" x ", b" z ")),), "", "contradicted", "z was heard, not name", 1),
        ("numbering: on", TWO, "", "contradicted", "off was heard, not on", 1),
        ("numbering: on", (record(OLD.replace(b"<164>", b"<164>17: ")),), "", "proved", "", 1),
        ("collectors: [a]", TWO, "a", "proved", "", 1),
        ("collectors: [a, b]", TWO, "a", "not seen", "nothing was heard at b", None),
        ("collectors: [b]", TWO, "a", "contradicted", "messages arrive at a, which is not asked for", 1),
        ("collectors: {never: a}", TWO, "a", "contradicted", "arrive at a, which is not asked for", 1),
        ("collectors: {includes: [b]}", TWO, "b", "contradicted", "arrive at b by udp 514, not tcp 601", 1),
        ("collectors: [a]", TWO, "r", "proved", "", 1),
        ("collectors: [a]", TWO, "", "not seen", "it is not known at which collector", None),
        ("memory: {level: debug}", TWO, "", "not seen", "no message shows it", None),
    ],
)  # fmt: skip
def test_messages_prove_and_contradict(
    require: str,
    records: tuple[Record, ...],
    collector: str,
    expected: str,
    why: str,
    line: int | None,
) -> None:
    found = claim(require, *records, collector=collector)
    assert found.claim == expected, found
    assert why in found.why and bool(why) == bool(found.why)
    assert (found.example and found.example.line) == line
    assert found.claim in CLAIMS and found.setting in SETTINGS


def test_an_identity_of_the_other_family_is_no_contradiction() -> None:
    six = record(OLD, sender="2001:db8::1")
    assert claim("source: identity", six).claim == "not seen"
    assert claim("source: identity", six, record(OLD)).claim == "proved"


def test_two_formats_that_are_expected_are_not_judged() -> None:
    both = "format: expected, collectors: [a, b]"
    assert claim(both, *TWO).why == "its collectors expect several formats, or any"
    assert claim("format: expected, collectors: [a]", *TWO).claim == "contradicted"


SENT = st.lists(
    st.tuples(
        st.sampled_from(["x", "y", "z"]),
        st.sampled_from([None, "192.0.2.1", "192.0.2.2", "198.51.100.30", "203.0.113.9"]),
        st.integers(0, 191),
        st.integers(0, 50),
        st.booleans(),
    ),
    max_size=30,
)


def told(evidence: Evidence) -> object:
    some = {"others": evidence.others, "senders": evidence.senders}
    summaries = [*evidence.devices.items(), *evidence.renamed.items(), *some.items()]
    return {name: (s.number, s.values, s.more) for name, s in summaries}


@tried(200)
@given(SENT, st.integers(1, 5), st.integers(0, 1000))
def test_summaries_merge_in_any_order_to_the_same(
    sent: list[tuple[str, str | None, int, int, bool]], parts: int, seed: int
) -> None:
    devices = (DEVICE, Device("y", "router", "s", "quern", (), "192.0.2.2"))
    policy = read_policy(POLICY.format(require="export: on"), "policy.yaml")
    directory = Directory(devices, policy.collectors.values())
    records = []
    for n, (host, sender, pri, second, has_stamp) in enumerate(sent):
        stamp = "Nov 23 12:00:00 " if has_stamp else ""
        data = f"<{pri}>{stamp}{host} su: {n}".encode()
        one = Record(
            parse(data), data, "f", n, NOON + timedelta(seconds=second), sender, 514, "udp"
        )
        records.append(one)
    whole = Evidence()
    pieces = [Evidence() for _ in range(parts)]
    for n, one in enumerate(records):
        found = attribute(one, directory)
        for evidence in (whole, pieces[n % parts]):
            evidence.add(Arrival(one, found, one.received, "a" if one.sender else ""))
    dice = Random(seed)
    while len(pieces) > 1:
        dice.shuffle(pieces)
        pieces[0].merge(pieces.pop())
    assert told(pieces[0]) == told(whole)
    assert whole.number == len(records)


def test_a_summary_is_of_a_fixed_size() -> None:
    said = b"<1>Nov 23 12:00:00 ghost su: x"
    records = [record(said, f"203.0.113.{n % 200}", n=n) for n in range(5 * MOST)]
    dice, outcomes = Random(1), []
    for _ in range(3):
        dice.shuffle(records)
        whole, other = Evidence(), Evidence()
        for n, one in enumerate(records):
            found = attribute(one, Directory([]))
            (whole if n % 3 else other).add(Arrival(one, found, one.received))
        whole.merge(other)
        outcomes.append(told(whole))
        kept_values = whole.others.of(STRANGER)
        assert len(kept_values) == MOST
        assert sum(t.number for t in kept_values.values()) + whole.others.more[STRANGER] == 5 * MOST
    assert outcomes[0] == outcomes[1] == outcomes[2]


def test_the_command_tells_what_is_contradicted_and_who_is_odd(
    ivrel: Run, example: Path, tmp_path: Path
) -> None:
    said = [
        (b"<181>Nov 23 2026 10:00:00.123 UTC tarsk-fw2 su: x", "192.0.2.34"),
        (b"<183>Nov 23 10:00:01 tarsk-fw2 su: x", "192.0.2.34"),
        (b"<166>Nov 23 2026 10:00:01.123 UTC holmsay-gw1 su: x", "192.0.2.11"),
        (b"<166>Nov 23 2026 10:00:01.123 UTC holmsay-gw2 su: x", "192.0.2.11"),
        (b"<166>Nov 23 10:00:01 ghost su: x", "192.0.2.250"),
    ]
    path = tmp_path / "heard.jsonl"
    path.write_bytes(
        b"".join(kept(record(data, sender, n=n)) for n, (data, sender) in enumerate(said, 1))
    )
    done = ivrel("heard", "-w", example, "--at", f"beacon-a={path}", "--format", "json", code=1)
    found = json.loads(done.stdout)
    assert found["messages"] == 5 and len(found["devices"]) == 40
    claims = {
        (d["device"], c["setting"]): (c["claim"], c["line"])
        for d in found["devices"]
        for c in d["claims"]
    }
    assert {at: c for at, c in claims.items() if c[0] == "contradicted"} == {
        ("tarsk-fw2", "level"): ("contradicted", 2),
        ("tarsk-fw2", "stamp"): ("contradicted", 2),
    }
    assert [(o["kind"], o["about"]) for o in found["oddities"]] == [
        ("another's name", "holmsay-gw1"), ("several names", "192.0.2.11"), ("stranger", "192.0.2.250"),
    ]  # fmt: skip
    done = ivrel("heard", "-w", example, path, "--site", "tarsk", code=1)
    assert "debug was heard, not from warning to informational" in done.stdout
    assert f"ivrel trace -w {example} {path} --line 2" in " ".join(done.stdout.split())
    done = ivrel("heard", "-w", example, path, "--device", "holmsay-gw1", "--format", "csv", code=0)
    assert "holmsay-gw1,facility,proved,local4 (1),local4,everywhere,," in done.stdout


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (["heard"], "no file of messages is given"),
        (["heard", "--at", "beacon-z=x"], "collector 'beacon-z' is not known"),
        (["heard", "--at", "beacon-a"], "--at: 'beacon-a' is not COLLECTOR=FILE"),
        (["heard", "gone.log"], "gone.log: no such file or directory"),
        (["heard", "gone.log", "--setting", "levels"], "did you mean 'level'?"),
        (["heard", "gone.log", "--device", "tarsk-fw9"], "no device is called 'tarsk-fw9'"),
    ],
)
def test_wrong_calls_of_it(ivrel: Run, example: Path, words: list[str], said: str) -> None:
    done = ivrel(*words, "-w", example, code=2)
    assert said in done.stderr


def later(minutes: int, ahead: int = 0, tag: str = "su", mark: str = "") -> Record:
    """Return a message that came some minutes after noon, of a clock that is ahead by minutes."""
    bore = NOON + timedelta(minutes=minutes + ahead)
    said = f"<164>{mark}{bore:%b %d %Y %H:%M:%S} x {tag}: hello".encode()
    came = NOON + timedelta(minutes=minutes, seconds=0.1)
    return Record(parse(said), said, "f", minutes, came, "192.0.2.1", 514, "udp")


def right(ahead: int = 0, mark: str = "") -> list[Record]:
    return [later(m, ahead, mark=mark) for m in range(1, 90)]


CLOCK = "clock: {zone: UTC}"


@pytest.mark.parametrize(
    ("require", "records", "expected", "why"),
    [
        (CLOCK, right(), "not seen", "messages do not tell what sets it"),
        (CLOCK, right()[:3], "not seen", "too few messages"),
        (CLOCK, right(60), "contradicted", "it is 1 h ahead, as a clock of another zone"),
        (CLOCK, right(7), "contradicted", "it is 7 min ahead"),
        (CLOCK, right(-7), "not seen", "messages do not tell what sets it"),
        (CLOCK, right(0, "*"), "contradicted", "it says that its clock is not synchronised"),
        (CLOCK, [later(0, 0, mark="*"), *right()], "not seen", "messages do not tell what sets it"),
        # Of a device in CET, local time is right; an hour more may be summer time.
        ("clock: {zone: CET}", right(60), "not seen", "messages do not tell what sets it"),
        ("clock: {zone: CET}", right(120), "not seen", "may be summer time"),
        ("clock: {zone: CET}", right(180), "contradicted", "it is 2 h ahead"),
        ("changes: on", [later(1, tag="change")], "proved", ""),
        ("changes: on", [later(1, tag="login")], "not seen", "no message tells of changes"),
        ("logins: off", [later(1, tag="login")], "contradicted", "it tells of logins, although it is not to"),
    ],
)  # fmt: skip
def test_messages_tell_of_clocks_changes_and_logins(
    require: str, records: list[Record], expected: str, why: str
) -> None:
    policy = read_policy(POLICY.format(require=require), "policy.yaml")
    need = effective(policy, DEVICE)
    zone = next(iter(need["clock"].needs["zone"].any_of)) if "clock" in need else ""
    directory = Directory([DEVICE], zone=lambda device: zone_named(zone, "the policy"))
    heard = Evidence({"x": {"change": "changes", "login": "logins"}})
    for one in records:
        heard.add(arrived(one, directory, NOON, UTC))
    (found,) = claims_of(DEVICE, policy, heard)
    assert (found.claim, why in found.why) == (expected, True), found
    assert bool(found.example) == (expected != "not seen")


def test_one_page_tells_what_is_known_of_a_device(
    ivrel: Run, example: Path, tmp_path: Path
) -> None:
    said = [
        (b"<166>Nov 23 2026 12:00:01.123 UTC holmsay-gw1 su: x", "192.0.2.11"),
        (b"<166>Nov 23 2026 12:00:02.123 UTC holmsay-gw2 su: x", "203.0.113.250"),
        (b"<166>Nov 23 12:00:03 holmsay-qw2 su: x", "203.0.113.251"),
    ]
    path = tmp_path / "heard-1.jsonl"
    path.write_bytes(
        b"".join(kept(record(data, sender, n=n)) for n, (data, sender) in enumerate(said, 1))
    )
    counts = {"begun": 1.0, "ended": 2.0, "received": 3, "dropped": 7}
    (tmp_path / "listened-1.json").write_text(json.dumps(counts))
    at = ("--at", f"beacon-a={path}")
    done = ivrel("why", "holmsay-gw2", "-w", example, *at, "--format", "json", code=1)
    lines = {
        (one["part"], one["about"], one["state"]): one["said"]
        for one in json.loads(done.stdout)["lines"]
    }
    assert "nothing, among 3 messages" in lines["messages", "heard", "bad"]
    assert "203.0.113.250 calls itself holmsay-gw2" in lines["others", "unknown address", "open"]
    assert "203.0.113.251 calls itself holmsay-qw2" in lines["others", "stranger", "open"]
    assert "heard 1 device, 1 of them at holmsay" in lines["collectors", "beacon-a", "good"]
    assert "3 messages, 7 dropped by the system" in lines["collectors", "listener", "open"]
    assert "holmsay-gw1 of the same site is heard" in lines["path", "network", "good"]
    done = ivrel("why", "holmsay-gw1", "level", "-w", example, *at)
    assert "informational and more urgent as local4 to beacon-a (198.51.100.21)" in " ".join(
        done.stdout.split()
    )
    assert "✗" not in done.stdout and "1 message, the last at 2026-11-23 12:00 UTC" in done.stdout
    assert "no device is called" in ivrel("why", "holmsay-gw9", "-w", example, code=2).stderr


def spoken(minutes: range, facility: int, n: int = 0) -> list[Record]:
    """Return messages of the device at some minutes after noon, one a minute."""
    out = []
    for minute in minutes:
        data = b"<%d>Nov 23 2026 12:00:00.123 UTC x su: hello" % (facility * 8 + 4)
        when = NOON + timedelta(minutes=minute)
        out.append(Record(parse(data), data, "f", n + minute, when, "192.0.2.1", 514, "udp"))
    return out


@pytest.mark.parametrize(
    ("records", "changed", "expected", "said"),
    [
        # local0 until noon, local4 from then on.
        ([*spoken(range(-90, 0), 16), *spoken(range(90), 20)], None, "proved", "local0 (90) until 2026-11-23 11:59"),
        ([*spoken(range(-90, 0), 20), *spoken(range(90), 16)], None, "contradicted", "local0 (90)"),
        # Both, all the time; or too few since.
        ([*spoken(range(90), 16), *spoken(range(90), 20)], None, "contradicted", "local0 (90), local4 (90)"),
        ([*spoken(range(-90, 0), 16), *spoken(range(5), 20)], None, "not seen", "local0 (90) until"),
        ([*spoken(range(-90, 30), 16), *spoken(range(-90, 90), 20)], None, "not seen", "local0 (120) until"),
        # A correction was delivered at noon: what came before says nothing of today.
        ([*spoken(range(-90, 0), 16), *spoken(range(1, 5), 20)], 0, "proved", "local4 (4)"),
        ([*spoken(range(-90, 0), 16)], 0, "not seen", ""),
        ([*spoken(range(-90, 0), 20)], 0, "not seen", ""),
        ([*spoken(range(-90, 5), 16)], 0, "contradicted", "local0 (95)"),
    ],
)  # fmt: skip
def test_a_value_that_has_stopped_contradicts_nothing_of_today(
    records: list[Record], changed: int | None, expected: str, said: str
) -> None:
    policy = read_policy(POLICY.format(require="facility: local4"), "policy.yaml")
    heard = Evidence()
    for one in records:
        heard.add(Arrival(one, attribute(one, Directory([DEVICE])), one.received))
    when = None if changed is None else NOON.timestamp() + changed
    (found,) = claims_of(DEVICE, policy, heard, when)
    assert found.claim == expected and said in found.heard, found
    assert expected != "not seen" or found.why


def test_a_message_of_the_first_second_of_all_is_judged() -> None:
    """A packet that tells no time is of 1970."""
    policy = read_policy(POLICY.format(require="level: warning"), "policy.yaml")
    heard = Evidence()
    one = Record(parse(OLD), OLD, "f", 1, datetime.fromtimestamp(0, UTC), "192.0.2.1", 514, "udp")
    heard.add(Arrival(one, attribute(one, Directory([DEVICE])), one.received))
    assert claims_of(DEVICE, policy, heard)[0].claim == "proved"


def test_messages_of_a_time_alone_and_of_before_a_delivery(
    ivrel: Run, example: Path, tmp_path: Path
) -> None:
    """The command leaves out what came before `--since`, and before a correction was delivered."""
    device = Device("holmsay-gw1", "router", "holmsay", "quern", (), "192.0.2.11")
    lines = []
    for minute in range(120):
        pri = 166 if minute >= 60 else 134  # local4, and local0 in the first hour
        when = NOON + timedelta(minutes=minute)
        data = f"<{pri}>Nov 23 2026 {when:%H:%M:%S}.123 UTC {device.name} su: x".encode()
        lines.append(kept(Record(parse(data), data, "f", 1, when, device.identity, 514, "udp")))
    path = tmp_path / "heard.jsonl"
    path.write_bytes(b"".join(lines))
    folder = tmp_path / "w"
    shutil.copytree(example, folder)
    words = (
        "heard",
        "-w",
        folder,
        path,
        "--device",
        device.name,
        "--setting",
        "facility",
        "--format",
        "json",
    )

    def claimed(*more: str, code: int = 0) -> dict[str, str]:
        found = json.loads(ivrel(*words, *more, code=code).stdout)
        row: dict[str, str] = found["devices"][0]["claims"][0]
        return row

    row = claimed()
    assert row["claim"] == "not seen" and "until 2026-11-23 12:59" in row["heard"]
    assert claimed("--until", "2026-11-23T13:00", code=1)["claim"] == "contradicted"
    row = claimed("--since", "2026-11-23T13:00")
    assert (row["claim"], row["first"]) == ("proved", "2026-11-23T13:00:00.000Z")
    journal = Journal(folder / ".ivrel")
    number = journal.begin("x", "{}", [(device.name, 1, "quern")])
    journal.note(number, device.name, course.SENT)
    journal.close()
    row = claimed()
    assert row["claim"] == "not seen" and "since its correction was delivered" in row["why"]
    os.utime(folder / "configs" / "holmsay-gw1.conf")
    assert "older than their configurations" in ivrel(*words).stderr
