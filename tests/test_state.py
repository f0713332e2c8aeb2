"""What devices show of themselves, beside their configurations and what collectors got."""

from __future__ import annotations

import json
import os
import re
import shutil
import signal
import socket
import subprocess
import threading
import time
from collections.abc import Sequence
from datetime import UTC, datetime
from pathlib import Path
from random import Random

import pytest
from conftest import Run, tried
from fleets import call, standins, write_fleet
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace
from rsyslogd import PROGRAM as RSYSLOGD
from sshd import SSHD, free_port, running_sshd
from test_listen import Listener
from test_real_devices import workspace as one_device

from ivrel.core.attribution.arrival import Arrival
from ivrel.core.attribution.senders import Directory, attribute
from ivrel.core.dialects.load import read_dialect
from ivrel.core.evidence.between import SLACK, CountsBetween
from ivrel.core.evidence.page import BAD, GOOD, OPEN
from ivrel.core.evidence.witnesses import COUNTERS, Comparison, Displayed, MessagesGot, compared
from ivrel.core.fleet import Device
from ivrel.core.judging.asking import read_policy
from ivrel.core.reading import read_records
from ivrel.core.reading.display import read_display
from ivrel.core.settings import Scope
from ivrel.core.shapes.printed import Printed
from ivrel.core.shapes.rsyslog.counters import (
    counting_of,
    display_of,
    last_record,
)
from ivrel.core.syslog.parse import parse
from ivrel.core.syslog.record import Record
from ivrel.core.vocabulary.errors import InputError, Refused
from ivrel.demo.day import write_day
from ivrel.demo.displays import ODD, write_displays
from ivrel.sources.dialects import SHIPPED, Dialects

STRICT = bool(os.environ.get("IVREL_SKIP_NOTHING"))
NOON = datetime(2026, 11, 23, 12, tzinfo=UTC)
DEVICE = Device("x", "router", "s", "quern", (), "192.0.2.1")
POLICY = read_policy(
    "policy: p\n"
    "collectors:\n"
    "  a: {address: 198.51.100.21}\n"
    "  r: {address: 198.51.100.30, forwards: a}\n"
    "rules: [{rule: r, require: {export: on}}]\n",
    "policy.yaml",
)
TEXT = "events\n    export on\n    facility local4\n    send {} udp 514 through informational\n"
QUERN = Dialects()["quern"]


def scope(to: str = "198.51.100.21") -> Scope:
    return Scope(DEVICE, read_records(QUERN, TEXT.format(to).encode()), POLICY.collectors)


def displayed(at: float, text: str) -> Displayed:
    assert QUERN.display is not None
    return Displayed(at, "state/x", read_display(QUERN.display, text.encode()))


def counter(at: float, sent: int, to: str = "198.51.100.21") -> Displayed:
    text = (
        f"export is on\nto {to} udp 514: reached\n  through informational: {sent} sent, 0 dropped\n"
    )
    return displayed(at, text)


def numbers(found: tuple[Comparison, ...]) -> Comparison:
    return next(c for c in found if c.setting == COUNTERS and "sent" in c.device)


DIRECTORY = Directory([DEVICE], POLICY.collectors.values())


def came(counts: CountsBetween, at: float, collector: str = "a", host: str = "x") -> None:
    data = f"<166>Nov 23 2026 12:00:00 {host} su: hello".encode()
    when = datetime.fromtimestamp(at, UTC)
    sender = "192.0.2.1" if host != "y" else "203.0.113.9"
    record = Record(parse(data), data, "f", 1, when, sender, 514, "udp")
    counts.add(Arrival(record, attribute(record, DIRECTORY), when, collector))


@tried(150)
@given(seed=st.integers(0, 10**6))
def test_a_loss_between_both_ends_is_told_with_its_number_and_none_is_made_up(seed: int) -> None:
    """Of days with a known truth: messages that are counted, delayed and lost; counters that begin
    again; records in any order and in two parts.
    """
    dice = Random(seed)
    begun = NOON.timestamp()
    moments = [begun]
    for _ in range(dice.randrange(1, 5)):
        moments.append(moments[-1] + dice.uniform(3 * SLACK, 4000))
    share = dice.choice([0.0, 0.0, 0.1, 0.5, 1.0])
    restart = dice.choice([None, None, dice.uniform(begun, moments[-1])])
    sent = sorted(dice.uniform(begun - 100, moments[-1] + 100) for _ in range(dice.randrange(80)))
    lost = [at for at in sent if dice.random() < share]
    halves = CountsBetween({"x": moments}), CountsBetween({"x": moments})
    for at in (*[s for s in sent if s not in lost], begun - 200, moments[-1] + 200):
        came(dice.choice(halves), at + dice.uniform(0, SLACK * 0.9))
    for other in range(-200, int(moments[-1] - begun) + 200, 100):
        came(dice.choice(halves), begun + other, host="y")
    halves[0].merge(halves[1])
    base = dice.randrange(1000)
    displays = []
    for at in moments:
        since = restart if restart is not None and at > restart else begun - 100
        more = 0 if since == restart else base
        displays.append(counter(at, more + sum(1 for s in sent if since < s <= at)))
    found = numbers(compared(scope(), displays, MessagesGot({}, halves[0])))
    again = [
        i for i in range(1, len(moments)) if restart and moments[i - 1] < restart <= moments[i]
    ]
    if again:  # whether the counter was seen to begin again or not, no loss is made up
        assert found.lost <= len(lost)
        return
    truth = sum(1 for s in lost if moments[0] < s <= moments[-1])
    assert found.lost <= truth and (truth == 0 or found.state == BAD or found.lost == 0)
    edges = sum(1 for s in sent if any(abs(s - m) <= 2 * SLACK for m in moments))
    assert found.lost >= truth - edges
    assert found.state == (BAD if found.lost else GOOD)


def test_counters_are_held_against_what_surely_came() -> None:
    moments = [NOON.timestamp() + n * 100 for n in range(3)]

    def judged(values: list[int], *arrivals: tuple[float, str, str], to: str = "198.51.100.21") -> Comparison:  # fmt: skip
        counts = CountsBetween({"x": moments})
        for edge in (-60, 260):  # the records reach from here to there
            for collector in ("a", "other"):
                came(counts, moments[0] + edge, collector, "y")
        for at, collector, host in arrivals:
            came(counts, moments[0] + at, collector, host)
        shown = [counter(at, n, to) for at, n in zip(moments, values, strict=True)]
        return numbers(compared(scope(to), shown, MessagesGot({}, counts)))

    two = ((50.0, "a", "x"), (150.0, "a", "x"))
    assert judged([7, 8, 9], *two).state == GOOD
    stuck = judged([7, 7, 7], *two)
    assert stuck.state == BAD and "stands still" in stuck.said and "2 came" in stuck.said
    assert (judged([7, 8, 12], *two).lost, judged([7, 8, 12]).lost) == (3, 5)
    # One that came to another collector did not come to this one; one whose name is another's may
    # be the device's.
    assert judged([7, 8, 9], (50.0, "other", "x"), (150.0, "a", "x")).lost == 1
    assert judged([7, 8, 9], (50.0, "a", "y"), (150.0, "a", "x")).lost == 1
    # What came near to a moment may have been counted on either side of it.
    assert judged([7, 8, 8], (50.0, "a", "x"), (199.0, "a", "x")).state == GOOD
    # More than it counts may be another's, or counted from the start again.
    assert judged([7, 8, 8], *two).state == OPEN
    assert "no records cover" in numbers(compared(scope(), [counter(m, 1) for m in moments], MessagesGot({}, CountsBetween({"x": moments})))).said  # fmt: skip
    # After a restart, only what follows it is held against anything.
    assert judged([900, 1, 2], *two).said.startswith("1 message sent from 2026-11-23 12:01:40")
    # A relay passes on what it gets.
    assert judged([7, 8, 9], *two, to="198.51.100.30").state == GOOD
    assert judged([7, 8, 12], *two, to="198.51.100.30").lost == 3


def test_what_is_not_sure_is_no_loss() -> None:
    begun = NOON.timestamp()
    moments = [begun, begun + 3600]

    def judged(
        *arrivals: tuple[float, str],
        form: bytes = b"<166>",
        to: str = "udp 514",
        timeless: Sequence[Arrival] = (),
        **more: str,
    ) -> Comparison:
        counts = CountsBetween({"x": moments})
        for one in timeless:
            counts.add(one)
        for at, file in arrivals:
            data = form + b"Nov 23 2026 12:00:00 x su: hello"
            when = datetime.fromtimestamp(begun + at, UTC)
            record = Record(parse(data), data, file, 1, when, "192.0.2.1", 514, "udp")
            counts.add(Arrival(record, attribute(record, DIRECTORY), when, "a"))
        own = replace(DEVICE, **more)
        text = TEXT.format("198.51.100.21").replace("udp 514", to)
        scope = Scope(own, read_records(QUERN, text.encode()), POLICY.collectors)
        shown = [displayed(at, f"to 198.51.100.21 {to}: reached\n  through informational: {n} sent, 0 dropped\n") for at, n in zip(moments, (0, 90), strict=True)]  # fmt: skip
        return numbers(compared(scope, shown, MessagesGot({}, counts)))

    steady = [(float(at), "heard-1-000.jsonl") for at in range(-60, 3700, 60)]
    assert (judged(*steady).state, judged(*steady).lost) == (BAD, 29)
    rotated = [
        (at, "heard-1-000.jsonl" if at < 1000 else "heard-1-001.jsonl.gz") for at, _ in steady
    ]
    assert judged(*rotated).lost == 29
    for some, said in (
        ([(at, "heard-1-000.jsonl" if at < 1000 else "heard-2-000.jsonl") for at, _ in steady], "several recordings"),
        ([one for one in steady if not 1000 < one[0] < 3200], "nothing came from anybody"),
        (steady[10:], "no records cover"),
    ):  # fmt: skip
        found = judged(*some)
        assert said in found.said and found.state != BAD and not found.lost
    # A message without a time may be one of those that are missing.
    timeless = Arrival(Record(parse(b"<166>x"), b"<166>x", "f", 1), attribute(Record(parse(b"<166>x"), b"<166>x", "f", 1, None, "192.0.2.1"), DIRECTORY), None, "a")  # fmt: skip
    assert judged(*steady, timeless=[timeless] * 29).state == GOOD
    # A file of a collector's may be one of several; a stream may be late; a relay counts others'.
    assert "only a part" in judged(*steady, form=b"").said
    assert judged(*steady, to="tcp 514").state == OPEN
    assert "for others" in judged(*steady, identity="198.51.100.30").said


@pytest.mark.parametrize(
    ("text", "shown", "state"),
    [
        ("send beacon.example udp 514 through informational", "to 198.51.100.21 udp 514: reached", OPEN),
        ("send a.example udp 514 through informational", "to 198.51.100.21 udp 514: reached", GOOD),
        ("send 198.51.100.99 udp 514 through informational\n    send 198.51.100.99 bad", "to 198.51.100.98 udp 514: reached", OPEN),
        ("send 198.51.100.99 udp 514 through informational", "to 198.51.100.98 udp 514: reached", BAD),
    ],
)  # fmt: skip
def test_two_names_of_one_destination_are_no_difference(text: str, shown: str, state: str) -> None:
    policy = "policy: p\ncollectors: {a: {address: 198.51.100.21, names: a.example}}\nrules: [{rule: r, require: {export: on}}]\n"  # fmt: skip
    collectors = read_policy(policy, "p").collectors
    whole = f"events\n    export on\n    {text}\n".encode()
    one = Scope(DEVICE, read_records(QUERN, whole), collectors)
    found = [c for c in compared(one, [displayed(0.0, shown + "\n")]) if c.setting == "collectors"]
    assert {c.state for c in found if "reached" not in c.said and c.device != "up"} == {state}


@pytest.mark.parametrize(
    ("old", "new", "setting", "state", "said"),
    [
        ("", "", "collectors", GOOD, ""),
        ("informational", "warning", "level", BAD, "its configuration says through informational, and the device through warning"),
        ("198.51.100.21", "198.51.100.99", "collectors", BAD, "it sends to 198.51.100.99 udp 514, and its configuration does not name it"),
        ("is on", "is off", "export", BAD, "off on the device, on in its configuration"),
        ("reached", "lost", "collectors", BAD, "a is down"),
        ("4 sent", "many sent", "display", OPEN, "not understood: line 3"),
        ("0 dropped", "6 dropped", "counters", OPEN, "it dropped 6 messages since it counts"),
        ("to 198.51.100.21 udp 514: reached\n  through informational: 4 sent, 0 dropped\n", "", "collectors", BAD, "its configuration sends to 198.51.100.21 udp 514, and its display does not show it"),
    ],
)  # fmt: skip
def test_the_display_is_held_against_the_configuration(
    old: str, new: str, setting: str, state: str, said: str
) -> None:
    text = "export is on\nto 198.51.100.21 udp 514: reached\n  through informational: 4 sent, 0 dropped\n"
    one = displayed(NOON.timestamp(), text.replace(old, new) if old else text)
    found = [c for c in compared(scope(), [one]) if c.setting == setting]
    assert any(c.state == state and said in c.said for c in found), found
    assert not old or any(c.where.startswith("state/x") for c in found)
    wrong = {c.setting for c in compared(scope(), [one]) if c.state == BAD}
    assert wrong <= {setting, "collectors"} and (state != GOOD or not wrong)
    # A display that is older than the configuration proves nothing of it.
    later = compared(scope(), [one], changed=NOON.timestamp() + 3600)
    assert all(c.state != BAD for c in later if c.setting != "counters")


def test_the_demo_shows_what_three_witnesses_say(ivrel: Run, example: Path, tmp_path: Path) -> None:  # fmt: skip
    folder = shutil.copytree(example, tmp_path / "w")
    write_day(folder / "heard")
    write_displays(folder)
    at = [f"--at={name}={folder / 'heard' / name}.jsonl" for name in ("beacon-a", "beacon-b")]
    found = json.loads(ivrel("heard", "-w", folder, *at, "--format", "json", code=1).stdout)
    bad = {d["device"]: [s for s in d["shown"] if s["state"] == "bad"] for d in found["devices"]}
    assert {name for name, some in bad.items() if some} == set(ODD)
    lost = {d["device"]: sum(s["lost"] for s in d["shown"]) for d in found["devices"]}
    assert {name for name, number in lost.items() if number} == {
        "tarsk-sw1",
        "tarsk-fw2",
    }  # whose messages are lost
    said = " ".join(s["said"] for d in found["devices"] for s in d["shown"] if s["lost"])
    assert sum(lost.values()) == sum(map(int, re.findall(r"(\d+) lost between", said)))
    # What is missing of a stream may come later.
    assert said.count("unless they came later") == 2
    said = ivrel("explain", "-w", folder, "brannay-sw1", "level", *at, code=1).stdout
    assert "its configuration says through notice, and the device through debug" in " ".join(said.split())  # fmt: skip


def test_a_display_that_may_mean_either_destination_compares_neither() -> None:
    text = (SHIPPED / "quern.yaml").read_text()
    text = text.replace(
        "state:\n  show", "state:\n  rows: {destination: {key: [address]}}\n  show", 1
    )
    text = re.sub(r"\{destination.transport\} \{destination.port\}: (\{any\}|\{destination.state\})", r"is \1", text)  # fmt: skip
    dialect = read_dialect(text, "quern.yaml")
    two = b"events\n    export on\n    send 198.51.100.21 udp 514 through error\n    send 198.51.100.21 tcp 601 through debug\n"  # fmt: skip
    assert dialect.display is not None
    shown = read_display(dialect.display, b"to 198.51.100.21 is reached\n  through debug: 1 sent, 0 dropped\n")  # fmt: skip
    one = Scope(DEVICE, read_records(dialect, two), POLICY.collectors)
    found = compared(one, [Displayed(0.0, "state/x", shown)])
    assert not any(c.setting == "level" for c in found)
    alone = Scope(DEVICE, read_records(dialect, two.replace(b"    send 198.51.100.21 tcp 601 through debug\n", b"")), POLICY.collectors)  # fmt: skip
    found = compared(alone, [Displayed(0.0, "state/x", shown)])
    assert [c.state for c in found if c.setting == "level"] == [BAD]


WORDS = st.sampled_from("sent waiting up 5 198.51.100.21 2001:db8::1 udp 12:05:01 0.5".split())
SIGNS = st.sampled_from([" ", ", ", "; ", " | ", " (", ") ", " = "])


@tried(100)
@given(words=st.lists(WORDS, min_size=1, max_size=6), signs=st.lists(SIGNS, min_size=6, max_size=6))
def test_signs_between_words_count_as_blanks(words: list[str], signs: list[str]) -> None:
    shape = Printed()
    line = "".join(word + sign for word, sign in zip(words, signs, strict=False))
    assert shape.split(f"{line.rstrip()}:") == words == shape.split(shape.join(words))
    assert shape.split("to 198.51.100.21:514/udp, [2001:db8::1]:601: 1,204 sent") == [
        "to", "198.51.100.21", "514", "udp", "2001:db8::1", "601", "1204", "sent"
    ]  # fmt: skip


@pytest.mark.parametrize(
    ("old", "new", "expected"),
    [
        ("state:\n  show", "state:\n  colour: red\n  show", "colour"),
        ('"export is {export}"', '"export is {colour}"', "'colour' is not known"),
        ('"export is {export}"', '"link {interface.name}"', "rows of 'interface'"),
        ("to {destination.address} {destination.transport} {destination.port}: {destination.state}", "to {destination.address}: {destination.state}", "does not show destination.transport"),
        ('"facility {facility}"', '"facility {destination.sent}"', "under 'state'"),
        ("{rest destination.error}", "{rest destination.sent}", "'rest' is for a text"),
    ],
)  # fmt: skip
def test_mistakes_in_a_display_are_told_with_their_line(old: str, new: str, expected: str) -> None:
    text = (SHIPPED / "quern.yaml").read_text()
    assert old in text
    with pytest.raises(InputError, match=re.escape(expected)) as found:
        read_dialect(text.replace(old, new, 1), "quern.yaml")
    assert all(m.line for m in found.value.mistakes)


ONE_OF_EACH = "holmsay-gw1 tarsk-fw2 brannay-fw2 kelby-fw2 tarsk-sw2 kelby-gw2 tarsk-gw2"


def test_stand_ins_show_what_they_do_and_their_faults(tmp_path: Path) -> None:
    folder = tmp_path / "w"
    write_fleet(folder, 7, only=ONE_OF_EACH)
    heard = tmp_path / "heard"
    listener = Listener("--on", "127.51.100.21", "--udp", "5514", "-o", str(heard))
    faults = ("--fault", "holmsay-gw1=stuck", "--fault", "tarsk-fw2=down")
    with standins(folder, "--every", "2", *faults):
        call("gather", "-w", folder, "--state")
        time.sleep(2 * SLACK + 4)
        said = call("gather", "-w", folder, "--state", "--format", "json").stdout
        time.sleep(1)
    listener.process.send_signal(signal.SIGINT)
    listener.ended()
    rows = json.loads(said)["rows"]
    assert len(rows) == 7
    assert all(re.fullmatch(rf"state/{r['device']}/\d{{8}}T\d{{6}}Z\.txt", r["display"]) for r in rows)  # fmt: skip
    at = ["--at", f"beacon-a={next(heard.glob('heard-*'))}"]
    why = call("why", "-w", folder, "holmsay-gw1", *at, code=None).stdout
    assert "its counter stands still" in " ".join(why.split())
    why = call("why", "-w", folder, "tarsk-fw2", *at, code=1).stdout
    assert re.search(r"✗ +collectors beacon-a +beacon-a is down", why)
    assert re.search(r"it dropped \d+ message", " ".join(why.split()))
    for name in ONE_OF_EACH.split()[2:]:
        why = call("why", "-w", folder, name, code=None).stdout
        part = why.partition("present state")[2].partition("what was heard")[0]
        assert "as configured" in part and "✗" not in part and "not understood" not in part, why
    shown = json.loads(call("explain", "-w", folder, "tarsk-fw2", "collectors", *at, "--format", "json", code=None).stdout)  # fmt: skip
    assert any(one["said"] == "beacon-a is down" for one in shown["verdicts"][0]["shown"])
    found = call("heard", "-w", folder, *at, "--format", "json", code=1).stdout
    bad = {d["device"] for d in json.loads(found)["devices"] if any(s["state"] == "bad" for s in d["shown"])}  # fmt: skip
    assert bad >= {"holmsay-gw1", "tarsk-fw2"}


COUNTED = """module(load="imuxsock" SysSock.Use="off")
input(type="imuxsock" Socket="{folder}/log")
module(load="impstats" interval="1" log.file="{folder}/stats" log.syslog="off"{form})
global(workDirectory="{folder}")
*.* @127.0.0.1:{udp}
action(type="omfwd" target="127.0.0.1" port="{down}" protocol="tcp" queue.type="LinkedList"
       queue.filename="fwd" action.resumeRetryCount="-1")
$ActionName old
*.err @@127.0.0.1:{tcp}
if $programname == "none" then action(type="omfile" file="{folder}/none")
"""


@pytest.mark.skipif(not (RSYSLOGD and SSHD) and not STRICT, reason="needs rsyslogd and sshd")
@pytest.mark.parametrize("form", ["", ' format="json"', ' format="cee"'])
def test_a_real_rsyslogd_shows_what_it_counts(tmp_path: Path, form: str) -> None:
    """Held against what the receivers got: a loss is told where one swallows messages."""
    folder = tmp_path / "device"
    folder.mkdir()
    receiver = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    receiver.bind(("127.0.0.1", 0))
    server = socket.create_server(("127.0.0.1", 0))
    threading.Thread(target=lambda: server.accept()[0].recv(1), daemon=True).start()
    ports = {"udp": receiver.getsockname()[1], "tcp": server.getsockname()[1], "down": free_port()}
    main = folder / "rsyslog.conf"
    main.write_text(COUNTED.format(folder=folder, form=form, **ports))
    with (folder / "out").open("w") as out:
        daemon = subprocess.Popen(
            [RSYSLOGD, "-n", "-f", str(main), "-i", str(folder / "pid")], stdout=out, stderr=out
        )
    try:
        with running_sshd(tmp_path / "ssh") as sshd:
            way = f"via: ssh, {sshd.way}, files: '{main}', restart: 'true'"
            w = one_device(tmp_path / "w", "rsyslog", way, ports["udp"])
            while not (folder / "log").exists():
                time.sleep(0.05)
            with socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM) as log:
                log.connect(str(folder / "log"))
                for n in range(7):
                    log.send(f"<{11 if n < 3 else 14}>t: {n}".encode())
            time.sleep(3.5)
            call("gather", "-w", w, "--state")
    finally:
        daemon.terminate()
        daemon.wait(20)
    receiver.settimeout(0.2)
    got = 0
    with pytest.raises(TimeoutError):
        while receiver.recv(4096):
            got += 1
    (file,) = (w / "state" / "orrin-gw9").iterdir()
    display = Dialects()["rsyslog"].display
    assert display is not None
    shown = read_display(display, file.read_bytes())
    assert not shown.doubtful
    rows = {key[1]: {slot.partition(".")[2]: said.value for slot, said in row.items()} for key, row in shown.records.rows("destination").items()}  # fmt: skip
    assert rows[ports["udp"]]["sent"] == got and got >= 7
    assert rows[ports["tcp"]]["sent"] == 3
    assert rows[ports["down"]]["state"] == "down" and int(str(rows[ports["down"]]["waiting"])) >= 6
    assert "sent" not in rows[ports["down"]]
    # A daemon that runs another configuration than its files have is not understood.
    text = main.read_bytes()
    record, behind = last_record((folder / "stats").read_bytes())
    assert behind <= 2
    fewer = counting_of(text.replace(b"*.* @127", b"#*.* @127"))
    assert read_display(display, display_of(fewer, record, {})).doubtful
    more = (
        record
        + b"Tue Dec  1 22:15:53 2026: action-9-builtin:omfile: origin=core.action processed=1 \n"
    )
    assert read_display(display, display_of(counting_of(text), more, {})).doubtful
    other = text.replace(b"if $programname", b"*.* :omusrmsg:*\n#")
    assert read_display(display, display_of(counting_of(other), record, {})).doubtful
    with pytest.raises(Refused, match="impstats"):
        counting_of(text.replace(b"impstats", b"imklog"))


def test_a_record_that_is_being_written_is_left_out() -> None:
    lines = [
        "action-0-builtin:omfwd: origin=core.action processed={} ",
        "main Q: origin=core.queue size=0 ",
    ]
    stamp = "Tue Dec  1 22:15:{:02} 2026: "
    whole = [stamp.format(at) + line.format(at) for at in (10, 40) for line in lines]
    new = stamp.format(70 - 30) + lines[0].format(70)
    record, behind = last_record("\n".join([*whole[:2], new]).encode())
    assert (record.count(b"\n"), behind) == (2, 30.0) and b"processed=10" in record
    assert last_record("\n".join(whole).encode())[0].count(b"processed=40") == 1
    for bad in ("", "nonsense\n", whole[0]):
        with pytest.raises(Refused, match="record"):
            last_record(bad.encode())


def test_a_display_that_cannot_be_had_is_told_and_holds_up_nothing(tmp_path: Path, ivrel: Run) -> None:  # fmt: skip
    folder = tmp_path / "w"
    write_fleet(folder, 2, only="holmsay-gw1 mv-petrel-lx1")
    with standins(folder):
        done = ivrel("gather", "-w", folder, "--state", code=1)
    said = " ".join(done.stdout.split())
    assert "no display: its configuration does not count what it sends" in said
    assert "1 display of their state kept in state/ 1 without" in said
    (kept,) = (folder / "state" / "holmsay-gw1").iterdir()
    kept.write_bytes(b"\xff\x00 to \x1b[31mnobody\nexport is maybe\n")
    assert "not understood: line 2" in " ".join(ivrel("why", "-w", folder, "holmsay-gw1", code=None).stdout.split())  # fmt: skip
    os.utime(folder / "configs" / "holmsay-gw1.conf", (time.time() + 7200,) * 2)
    done = ivrel("why", "-w", folder, "holmsay-gw1", code=None)
    assert "before its configuration was written: ivrel gather --state" in " ".join(done.stdout.split())  # fmt: skip
