"""What a device kept itself, held against what reached a collector."""

from __future__ import annotations

import json
from datetime import UTC, datetime, timedelta
from pathlib import Path
from random import Random

import pytest
from conftest import Run, tried
from hypothesis import given
from hypothesis import strategies as st

from ivrel.core.evidence.own import STATES, Arrived, held_against
from ivrel.core.syslog import parse
from ivrel.core.syslog.record import Record
from ivrel.demo.day import write_day

BEGIN = datetime(2026, 11, 23, tzinfo=UTC)
KINDS = ("link: port {} up", "env: fan {} slow", "login: session {} opened")


def message(data: str, line: int, when: datetime | None = None) -> Record:
    return Record(parse(data.encode()), data.encode(), "f", line, when)


@tried(200)
@given(st.integers(0, 10**6), st.integers(1, 120), st.sampled_from([0, 3600, -40, 5]))
def test_each_message_is_found_again_or_not(seed: int, number: int, clock: int) -> None:
    """`clock`: how far the device's is ahead, in seconds."""
    dice, moments = Random(seed), list[float]()
    at = 100.0
    for _ in range(number):
        # Now and then, the same is said twice within a second.
        at += dice.choice((0.2, 7.0, 400.0))
        moments.append(at)
    kept, expected = [], []
    arrived: list[Arrived] = []
    seen: dict[bytes, int] = {}
    for n, seconds in enumerate(moments, 1):
        words = KINDS[dice.randrange(3)].format(dice.randrange(3))
        shown = BEGIN + timedelta(seconds=int(seconds) + clock)
        data = f"<190>{shown:%b %d %H:%M:%S} x {words}"
        came = BEGIN + timedelta(seconds=seconds + dice.random() * 0.2)
        kept.append(message(f"{shown:%b %d %Y %H:%M:%S}: {words}", n))
        seen[data.encode()] = seen.get(data.encode(), 0) + 1
        state = dice.choice(("came", "came", "came", "late", "twice", "lost")) if n > 1 else "came"
        if seen[data.encode()] > 1 or (n < number and moments[n] - seconds < 2):
            state = "came"  # of two that are alike, nothing tells which was lost
        late = timedelta(seconds=200 if state == "late" else 0)
        for _ in range({"twice": 2, "lost": 0}.get(state, 1)):
            arrived.append(Arrived(message(data, len(arrived) + 1, came + late), came + late))
        expected.append(state)
    dice.shuffle(arrived)
    kinds = {one.record.message.app for one in arrived}
    covered = (BEGIN, BEGIN + timedelta(days=1))
    found = held_against(kept, "a", arrived, covered, UTC)
    assert [one.record.line for one in found] == list(range(1, number + 1))
    for one, state in zip(found, expected, strict=True):
        # Numbers are masked: what is of a kind that never came was not sent.
        never = state == "lost" and one.record.message.app not in kinds
        assert one.state == ("not sent" if never else state), (one, state)
        assert one.state in STATES and len(one.arrived) == {
            "twice": 2,
            "lost": 0,
            "not sent": 0,
        }.get(one.state, 1)
        if one.state == "late":
            assert 198 < (one.delay or 0) < 203


def test_what_is_alike_is_told_apart_by_its_number_of_times() -> None:
    said = "Nov 23 10:00:00 x link: port 1 up"
    kept = [message(said, n) for n in (1, 2, 3)]
    when = BEGIN + timedelta(hours=10)
    for came, states in (
        (0, ["not sent"] * 3), (2, ["came", "came", "lost"]), (3, ["came"] * 3), (4, ["twice", "came", "came"]),
    ):  # fmt: skip
        arrived = [Arrived(message(f"<190>{said}", n, when), when) for n in range(came)]
        found = held_against(kept, "a", arrived, (BEGIN, when), UTC)
        assert [one.state for one in found] == states


def test_numbers_decide_where_both_show_them() -> None:
    when = BEGIN + timedelta(hours=10)
    kept = [message(f"{n}: Nov 23 10:00:00: link: port 1 up", n) for n in (7, 8, 9)]
    arrived = [
        Arrived(message(f"<190>{n}: Nov 23 10:00:00 x link: port 1 up", n, when), when)
        for n in (9, 7)
    ]
    found = held_against(kept, "a", arrived, (BEGIN, when), UTC)
    assert [one.state for one in found] == ["came", "lost", "came"]
    assert [one.arrived[0].record.line for one in found if one.arrived] == [7, 9]


def test_what_nobody_could_hear_is_not_lost() -> None:
    when = BEGIN + timedelta(hours=10)
    arrived = [Arrived(message("<190>Nov 23 10:00:00 x link: port 1 up", 1, when), when)]
    kept = [
        message(f"Nov 23 {at} x link: port 1 up", 1) for at in ("08:00:00", "09:30:00", "11:30:00")
    ]
    kept.append(message("link: port 1 up", 4))
    found = held_against(kept, "a", arrived, (BEGIN + timedelta(hours=9), when), UTC)
    assert [one.state for one in found] == ["outside", "lost", "outside", "untold"]


def test_the_memory_of_a_device_shows_what_was_lost(
    ivrel: Run, example: Path, tmp_path: Path
) -> None:
    write_day(tmp_path)
    own = f"tarsk-fw2={tmp_path / 'tarsk-fw2.txt'}"
    files = [f"--at={name}={tmp_path / name}.jsonl" for name in ("beacon-a", "beacon-b")]
    done = ivrel("heard", "-w", example, *files, "--own", own, "--format", "json", code=1)
    rows = json.loads(done.stdout)["rows"]
    lines = (tmp_path / "tarsk-fw2.txt").read_text().splitlines()
    assert len(rows) == 2 * len(lines) == 160
    for collector in ("beacon-a", "beacon-b"):
        recording = (tmp_path / f"{collector}.jsonl").read_text()
        for row, line in zip((r for r in rows if r["collector"] == collector), lines, strict=True):
            assert row["state"] == ("came" if line in recording else "lost"), row
    files = [f"--at={name}={name}.jsonl" for name in ("beacon-a", "beacon-b")]
    words = ("heard", "-w", example, *files, "--own", "tarsk-fw2=tarsk-fw2.txt")
    table = ivrel(*words, code=1, cwd=tmp_path).stdout
    assert "others of its kind came, and it did not" in table and "tarsk-fw2.txt:" in table


@pytest.mark.parametrize(
    ("own", "said"),
    [
        ("tarsk-fw2", "--own: 'tarsk-fw2' is not DEVICE=FILE"),
        ("tarsk-fw9=x", "no device is called 'tarsk-fw9'"),
        ("tarsk-fw2=gone", "gone: no such file or directory"),
    ],
)
def test_wrong_calls_of_it(ivrel: Run, example: Path, tmp_path: Path, own: str, said: str) -> None:
    (tmp_path / "log").write_text("<13>Nov 23 10:00:00 x su: hello\n")
    done = ivrel("heard", "-w", example, tmp_path / "log", "--own", own, cwd=tmp_path, code=2)
    assert said in done.stderr and done.stderr.count("\n") == 1
