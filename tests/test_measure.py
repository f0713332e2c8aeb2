"""Figures over many messages, held against what was seeded in them."""

from __future__ import annotations

import json
import math
from collections.abc import Callable, Iterable
from datetime import timedelta
from pathlib import Path
from random import Random
from typing import Any

import pytest
from conftest import Run, tried
from hypothesis import given
from hypothesis import strategies as st
from traffic import KINDS

from ivrel.core import Device
from ivrel.core.attribution.arrival import Arrival
from ivrel.core.attribution.senders import Directory, attribute
from ivrel.core.measuring.clocks import Clock, clock_of, told
from ivrel.core.measuring.gathered import SUBJECTS, Measured
from ivrel.core.measuring.losses import losses_of
from ivrel.core.measuring.numbers import Numbers, Stream
from ivrel.core.measuring.pairs import Pair
from ivrel.core.measuring.silence import chance, silences
from ivrel.core.measuring.times import MOST, Times
from ivrel.core.measuring.volume import SentVolume, of_severities, volumes
from ivrel.core.syslog import parse
from ivrel.core.syslog.record import Record
from ivrel.demo.day import DAY, write_day

BEGIN = DAY.timestamp()
LONG = 86_400


# Accumulators


def records(dice: Random, number: int) -> list[Record]:
    """Return messages of one device, as records tell of them."""
    out = []
    for n in range(number):
        when = DAY + timedelta(seconds=dice.randrange(5 * LONG))
        said = f"<{dice.randrange(192)}>{dice.randrange(900)}: Nov 23 10:00:00 x su: {n % 7} {'y' * (n % 50)}"
        out.append(
            Record(parse(said.encode()), said.encode(), "f", n + 1, when, "192.0.2.1", 514, "udp")
        )
    return out


def state(gathered: Measured[Any]) -> object:
    """Return what an accumulator holds, in an order of its own."""

    def plain(value: object) -> object:
        if isinstance(value, list):
            return sorted(map(plain, value), key=repr)
        if isinstance(value, dict):
            return sorted((repr(key), plain(one)) for key, one in value.items())
        fields = getattr(value, "__dict__", None)
        return plain({k: v for k, v in fields.items() if k != "_here"}) if fields else repr(value)

    gathered.settle()
    return plain(gathered.devices), gathered.number, gathered.first, gathered.last


@tried(100)
@given(
    st.integers(0, 10**6), st.integers(1, 400), st.integers(1, 6), st.sampled_from(sorted(SUBJECTS))
)
def test_accumulators_merge_in_any_order_to_the_same(
    seed: int, number: int, parts: int, subject: str
) -> None:
    dice, directory = (
        Random(seed),
        Directory([Device("x", "router", "s", "quern", (), "192.0.2.1")]),
    )
    pieces: list[list[Record]] = [[] for _ in range(parts)]
    for record in records(dice, number):
        pieces[dice.randrange(parts)].append(record)

    def gathered(order: list[int]) -> object:
        made = []
        for n in order:
            one: Measured[Any] = Measured(SUBJECTS[subject])
            for record in pieces[n]:
                one.add(Arrival(record, attribute(record, directory), record.received, "a"))
            made.append(one)
        while len(made) > 1:
            made[0].merge(made.pop())
        return state(made[0])

    assert gathered(list(range(parts))) == gathered(dice.sample(range(parts), parts))


def test_times_stay_of_one_size_whatever_their_order() -> None:
    dice = Random(3)
    moments = [dice.randrange(10**8) + BEGIN for _ in range(20_000)]
    widths = set()
    for _ in range(3):
        dice.shuffle(moments)
        times, other = Times(), Times()
        for n, at in enumerate(moments):
            (times if n % 3 else other).add_time(at)
        times.merge(other)
        assert len(times.counts) <= MOST and times.number == 20_000
        widths.add((times.width, tuple(sorted(times.counts.items()))))
    assert len(widths) == 1
    # The next narrower spans would be too many.
    ((width, _),) = widths
    assert len({int(at // (width // 2)) for at in moments}) > MOST


# Silence


def day_of(moments: Iterable[float]) -> Times:
    times = Times()
    for at in moments:
        times.add_time(at)
    return times


def fleet_of(kind: str, seed: int, days: int = 1, number: int = 20) -> dict[str, Times]:
    return {f"d{m}": day_of(KINDS[kind](Random(f"{seed}.{m}"), days)) for m in range(number)}


def states(fleet: dict[str, Times], rate: float = 0.05, days: int = 1) -> dict[str, str]:
    found = silences(fleet, sorted(fleet), days * LONG, rate)
    return {one.device: one.state for one in found}


@pytest.mark.deep
@pytest.mark.parametrize("kind", KINDS)
def test_a_healthy_fleet_is_called_silent_as_seldom_as_asked(kind: str) -> None:
    """60 days of a fleet of 20, at a rate of 5 in 100: twice the rate is 6."""
    alarms = sum("silent" in states(fleet_of(kind, n)).values() for n in range(60))
    assert alarms <= 6
    alarms = sum("silent" in states(fleet_of(kind, n, 7), days=7).values() for n in range(15))
    assert alarms <= 3


def test_a_silence_that_chance_does_not_explain_is_found() -> None:
    found = 0
    for n in range(30):
        fleet = fleet_of("at random", n)
        moments = KINDS["at random"]
        fleet["quiet"] = day_of(at for at in moments(Random(n), 1) if not 30_000 < at < 66_000)
        fleet["ended"] = day_of(at for at in moments(Random(n + 1000), 1) if at < LONG - 36_000)
        found += {name for name, s in states(fleet).items() if s == "silent"} >= {"quiet", "ended"}
    assert found >= 14
    last = silences(fleet, ["ended", "quiet", "gone"], LONG, 0.05)
    assert {s.device: (s.lasts, s.state) for s in last} == {
        "ended": (True, "silent"), "quiet": (False, "silent"), "gone": (False, "never"),
    }  # fmt: skip
    assert all(35_000 < (s.longest or 0) < 45_000 for s in last[:2])


@pytest.mark.parametrize("kind", KINDS)
def test_a_device_that_dies_is_found_or_reported_as_not_to_be_judged(kind: str) -> None:
    """Four of its usual gaps later, no kind of traffic lets it pass as usual."""
    for n in range(4):
        fleet = fleet_of(kind, n)
        fleet["d0"] = day_of(at for at in KINDS[kind](Random(f"{n}.0"), 1) if at < LONG * 2 / 3)
        (one,) = (s for s in silences(fleet, sorted(fleet), LONG, 0.05) if s.device == "d0")
        far = one.usual is not None and LONG - (one.begun or 0) > 4 * one.usual
        assert one.state != "usual" or not far, (kind, n, one)
        if one.state == "open":
            assert one.lasts and (one.enough or LONG) > (one.longest or 0) > 4 * (one.usual or 0)


def test_what_falls_silent_together_is_one_event() -> None:
    fleet = fleet_of("at random", 1)
    noon = LONG / 2 - 20_000, LONG / 2 + 20_000
    for name in sorted(fleet)[:5]:
        fleet[name] = day_of(m for m in fleet[name].moments if not noon[0] < m < noon[1])
    found = [state for name, state in states(fleet).items() if name in sorted(fleet)[:5]]
    assert "silent" not in found and found.count("together") >= 3
    # Also if that is all of them, and no rhythm of the fleet.
    fleet = {n: day_of(m for m in t.moments if not noon[0] < m < noon[1]) for n, t in fleet.items()}
    assert sum(s == "together" for s in states(fleet).values()) > 15


def test_a_silence_at_a_busy_hour_is_told_from_the_quiet_of_the_night() -> None:
    """Seven days of office hours: six hours by day are found, and fourteen at night are usual."""
    fleet = fleet_of("office hours", 1, 7)
    begun = 5 * LONG + 9 * 3600
    kept = (at for at in fleet["d0"].moments if not begun < at < begun + 6 * 3600)
    fleet["d0"] = day_of(kept)
    found = silences(fleet, sorted(fleet), 7 * LONG, 0.05)
    assert found[0].device == "d0" and found[0].state == "silent"
    assert abs((found[0].begun or 0) - begun) < 1800
    assert {s.state for s in found[1:]} <= {"usual", "open"}


def test_of_a_device_that_speaks_like_a_clock_little_is_known_of_longer_gaps() -> None:
    assert chance([600.0] * 40) == 1.0
    assert chance([600.0] * 40 + [5000.0]) == 1 / 42
    assert chance([600.0] * 19) is None


# Clocks


def pairs(
    clock: Callable[[float], float], delay: Callable[[Random], float], digits: int = 3, number: int = 200,
    seconds: float = LONG,
) -> list[Pair]:  # fmt: skip
    """Return when messages came, of a clock that shows `clock(time)` at a time."""
    dice, out = Random(f"{digits}{number}"), []
    for n in range(number):
        at = BEGIN + dice.random() * seconds
        shown = math.floor(clock(at) * 10**digits) / 10**digits
        out.append(Pair(at + delay(dice), shown, digits, True, True, False, "f", n))
    return sorted(out)


NEAR: Callable[[Random], float] = lambda dice: dice.random() * 0.2  # noqa: E731
RARELY_SLOW: Callable[[Random], float] = lambda dice: dice.paretovariate(0.7) * 0.02  # noqa: E731
BATCHED: Callable[[Random], float] = lambda dice: dice.random() * 30  # noqa: E731


@pytest.mark.parametrize("delay", [NEAR, RARELY_SLOW])
@pytest.mark.parametrize("digits", [0, 3, 6])
@pytest.mark.parametrize("offset", [0.0, 0.7, -3.2, 42.0, 3600.0, -7200.0])
@pytest.mark.parametrize("drift", [0.0, 40e-6, -200e-6, 0.9e-6])
def test_offset_and_drift_are_as_seeded(
    delay: Callable[[Random], float], digits: int, offset: float, drift: float
) -> None:
    middle = BEGIN + LONG / 2
    number = 2000 if digits == 0 else 400
    sample = pairs(lambda at: at + offset + drift * (at - middle), delay, digits, number)
    clock = clock_of("x", sample, len(sample))
    assert clock.offset is not None and clock.drift is not None
    assert abs(clock.offset - (offset + drift * LONG / 2)) < 0.2
    assert abs(clock.drift - drift) < 1e-6


def kind(
    clock: Callable[[float], float], delay: Callable[[Random], float] = NEAR, digits: int = 3
) -> Clock:
    return clock_of("x", pairs(clock, delay, digits), 200)


def turned(at: float) -> float:
    """A clock that shows the time of a zone, and is set back an hour at three, as in autumn."""
    return at + (7200 if at < BEGIN + 3 * 3600 else 3600)


@pytest.mark.parametrize(
    ("clock", "expected", "said"),
    [
        (lambda at: at, "right", "it tells the time"),
        (lambda at: at + 3600, "zone", "it is 1 h ahead, as a clock of another zone"),
        (lambda at: at - 5.5 * 3600, "zone", "it is 5 h 30 min behind, as a clock of another zone"),
        (lambda at: at + 1000, "wrong", "it is 16 min 40 s ahead"),
        (lambda at: at - 33 * 365 * 86400, "unset", "as a clock that was never set"),
        (lambda at: at - 365 * 86400, "year", "it is 365 d behind: the year is guessed, not known"),
        (
            lambda at: at + (at - BEGIN) * 50e-6,
            "drifts",
            "it gains 4.32 s a day, and is 4.29 s ahead",
        ),
        (turned, "set", "2 h ahead, then 1 h ahead"),
        (
            lambda at: at if at < BEGIN + 50_000 else at - 300,
            "set",
            "right, then 5 min behind",
        ),
    ],
)
def test_what_is_wrong_with_a_clock_is_named(
    clock: Callable[[float], float], expected: str, said: str
) -> None:
    found = kind(clock)
    assert (found.kind, said in told(found)) == (expected, True), told(found)
    assert kind(clock, digits=0).kind == expected
    assert kind(clock, BATCHED).kind == expected


def test_what_was_held_back_is_no_clock() -> None:
    """Out of coverage for three hours, and all at once when it is back; or to the end of the records."""
    for end in (LONG, 12 * 3600):
        dice, sample = Random(1), []
        for n in range(300):
            at = BEGIN + dice.random() * end
            out = BEGIN + 9 * 3600 < at < BEGIN + 12 * 3600
            came = BEGIN + 12 * 3600 + dice.random() * 60 if out else at + dice.random() * 0.2
            sample.append(Pair(came, at, 3, True, True, False, "f", n))
        clock = clock_of("x", sorted(sample), 300)
        assert (clock.kind, len(clock.levels)) == ("late", 1) and abs(clock.offset or 1) < 0.1
        assert clock.late == sum(1 for p in sample if p.came - p.bore > 60)
        assert 2.5 * 3600 < clock.latest < 3.1 * 3600


def test_jitter_and_batches_are_delay() -> None:
    clock = kind(lambda at: at, BATCHED)
    assert clock.kind == "right" and abs(clock.delay - 15) < 2 and abs(clock.delay_95 - 28.5) < 2
    assert clock_of("x", [], 0).kind == "untold"
    chaos = [
        Pair(BEGIN + n, BEGIN + n * 86400.0 * (-1) ** n, 0, True, True, False, "f", n)
        for n in range(50)
    ]
    assert clock_of("x", chaos, 50).kind == "untold"


# Losses


def numbered(numbers: list[int], cut: int = 0) -> Numbers:
    """Return what numbers come to that came in this order; `cut`: where a chunk ended."""
    made = []
    for some, at in ((numbers[:cut], 1), (numbers[cut:], cut + 1)):
        if some:
            one = Numbers()
            stream = one.streams["a", "f", at] = Stream()
            for n, number in enumerate(some):
                stream.take(number, n + at if number >= 0 else 0)
            made.append(one)
    while len(made) > 1:
        made[-2].merge(made.pop())
    return made[0]


@tried(300)
@given(
    st.integers(0, 10**6),
    st.integers(30, 400),
    st.integers(0, 3),
    st.sampled_from([0, 2**16 - 200, 2**31 - 150, 777]),
)
def test_losses_restarts_and_wraps_are_as_seeded(
    seed: int, number: int, restarts: int, begin: int
) -> None:
    dice = Random(seed)
    sent, lost, at, anew = list[int](), 0, begin, 0
    wrap, first = (2**16, 0) if begin < 2**16 else (2**31, 1)
    begins = sorted(dice.sample(range(20, number - 5), restarts)) if restarts * 30 < number else []
    begins = [b for n, b in enumerate(begins) if not n or b - begins[n - 1] > 10]
    for n in range(number):
        if n in begins and 20 < at < wrap - 20:  # nearer, nothing tells the one from the other
            at, anew = 1, anew + 1
        fixed = at < 2 or n == 0 or n == number - 1 or any(abs(n - b) < 3 for b in begins)
        if not fixed and dice.random() < 0.1:
            lost += 1
        else:
            sent.append(at)
        at = at + 1 if at + 1 < wrap else first
    cut = dice.randrange(len(sent)) if not begins else 0
    (loss,) = losses_of("x", numbered(sent, cut))
    assert (loss.missing, loss.twice, loss.late, loss.jumps) == (lost, 0, 0, 0), (sent, cut)
    assert loss.restarts == anew and loss.came == len(sent)


def test_what_is_late_or_comes_twice_is_not_lost() -> None:
    stream = Numbers()
    one = stream.streams["a", "f", 1] = Stream()
    for number in (5, 6, 9, 8, 8, 7, 11, 6, 10):
        one.take(number, number)
    (loss,) = losses_of("x", stream)
    assert (loss.came, loss.missing, loss.twice, loss.late) == (7, 0, 2, 3)
    # A number that another message had is the count of a device that began anew.
    again = Stream()
    for number, mark in ((1, 0), (2, 1), (3, 2), (1, 7), (2, 8), (2, 8)):
        again.take(number, mark)
    assert [(c.begun, c.messages, c.twice) for c in again.counts] == [
        ("first", 3, 0),
        ("restart", 3, 1),
    ]
    (leap,) = losses_of("x", numbered([1, 2, 50_000, 50_001]))
    assert (leap.jumps, leap.missing) == (1, 0)


# Volume


def sent_by(levels: dict[str, int], seed: int = 1) -> SentVolume:
    """Return what devices send that all have the same events, each up to its level."""
    devices = {
        name: Device(name, "router", "s", "quern", (), f"192.0.2.{n}")
        for n, name in enumerate(levels, 1)
    }
    directory = Directory(devices.values())
    gathered: Measured[Any] = Measured(SUBJECTS["volume"])
    for name, level in levels.items():
        dice = Random(seed)
        for n in range(2000):
            severity = min(7, int(dice.expovariate(0.3)))
            said = f"<{severity + 160}>Nov 23 10:00:00 {name} su: {'x' * 50}".encode()
            when = DAY + timedelta(seconds=n * 43.2)
            if severity <= level:
                record = Record(parse(said), said, "f", n, when, devices[name].identity, 514, "udp")
                gathered.add(Arrival(record, attribute(record, directory), when))
    return SentVolume(devices, gathered.devices, LONG)


def test_another_level_costs_what_is_sent_at_it() -> None:
    names = ["a", "b", "c", "d", "e"]
    now = sent_by({**dict.fromkeys(names, 6), "b": 4})
    for level in range(8):
        then = {v.name: v.rate for v in volumes(sent_by(dict.fromkeys(names, level)), "device")}
        for v in volumes(now, "device", level):
            least = 4 if v.name == "b" else 6
            if level == 7:
                assert v.other is None  # nobody sends these, so nobody knows
                continue
            assert v.other == pytest.approx(then.get(v.name, 0.0), rel=1e-9)
            assert v.estimated == (level > least)
        by_severity = of_severities(now, level)
        if level < 7:
            assert sum(s.other or 0 for s in by_severity) == pytest.approx(sum(then.values()))
        assert sum(s.now for s in by_severity) == pytest.approx(
            sum(v.rate for v in volumes(now, "device"))
        )


def test_bytes_are_those_on_the_wire() -> None:
    (v,) = volumes(sent_by({"a": 7}), "site")
    size = len(f"<160>Nov 23 10:00:00 a su: {'x' * 50}") + 20 + 8
    assert (v.name, v.messages, v.bytes) == ("s", 2000, 2000 * size)
    assert v.rate == 8 * v.bytes / LONG and v.burst == 2 * size * 8 / 60
    assert v.rate_95 in (size * 8 / 60, 2 * size * 8 / 60)


@pytest.mark.parametrize(
    ("sender", "transport", "around"),
    [("192.0.2.1", "udp", 28), ("192.0.2.1", "tcp", 40), ("2001:db8::1", "udp", 48), ("192.0.2.1", "tls", 69), (None, None, 28)],
)  # fmt: skip
def test_headers_hang_on_family_and_transport(
    sender: str | None, transport: str | None, around: int
) -> None:
    device = Device("a", "router", "s", "quern", (), "192.0.2.1")
    gathered: Measured[Any] = Measured(SUBJECTS["volume"])
    said = b"<13>Nov 23 10:00:00 a su: x"
    record = Record(parse(said), said, "f", 1, DAY, sender, 514, transport)
    gathered.add(
        Arrival(
            record,
            attribute(record, Directory([device], interfaces=lambda d: ["2001:db8::1"])),
            DAY,
        )
    )
    (v,) = volumes(SentVolume({"a": device}, gathered.devices, 60), "device")
    assert v.bytes == len(said) + around


def test_the_percentile_is_of_all_minutes_also_of_those_without_a_message() -> None:
    """Of 200 minutes, ten may lie above the 95th percentile."""
    device = Device("a", "router", "s", "quern", (), "192.0.2.1")
    for number, expected in ((10, 0), (11, 1), (30, 20)):
        gathered: Measured[Any] = Measured(SUBJECTS["volume"])
        sizes = list(range(1, number + 1))
        Random(7).shuffle(sizes)
        for minute, size in enumerate(sizes):
            said = b"<13>" + b"x" * (size * 100 - 32)
            when = DAY + timedelta(minutes=minute)
            record = Record(parse(said), said, "f", minute, when, "192.0.2.1", 514, "udp")
            gathered.add(Arrival(record, attribute(record, Directory([device])), when))
        (v,) = volumes(SentVolume({"a": device}, gathered.devices, 200 * 60), "device")
        assert v.rate_95 == expected * 100 * 8 / 60 and v.burst == number * 100 * 8 / 60


# The command, over the day of the example


@pytest.fixture(scope="module")
def files(tmp_path_factory: pytest.TempPathFactory) -> list[str]:
    folder = tmp_path_factory.mktemp("day")
    write_day(folder)
    return [f"--at={name}={folder / name}.jsonl" for name in ("beacon-a", "beacon-b", "beacon-s")]


def rows(
    ivrel: Run, example: Path, files: list[str], *words: str, code: int
) -> list[dict[str, Any]]:
    done = ivrel(
        "measure", words[0], "-w", example, *files, *words[1:], "--format", "json", code=code
    )
    found: list[dict[str, Any]] = json.loads(done.stdout)["rows"]
    return found


@pytest.mark.deep
def test_the_seeded_troubles_are_found_and_no_others(
    ivrel: Run, example: Path, files: list[str]
) -> None:
    clocks = rows(ivrel, example, files, "clocks", code=1)
    odd = {r["device"]: r for r in clocks if r["kind"] not in ("right", "untold")}
    assert {name: r["kind"] for name, r in odd.items()} == {
        "tarsk-sw3": "unset", "orrin-gw3": "zone", "brannay-gw2": "drifts", "mv-gannet-lx1": "late",
    }  # fmt: skip
    assert abs(odd["orrin-gw3"]["offset"] - 3600) < 0.1
    assert abs(odd["brannay-gw2"]["drift"] - 40e-6) < 1e-6
    losses = rows(ivrel, example, files, "losses", code=1)
    assert {r["device"] for r in losses if r["missing"] or r["twice"] or r["late"]} == {"tarsk-fw2"}
    assert all(0.05 < r["share"] < 0.15 for r in losses if r["device"] == "tarsk-fw2")
    found = rows(ivrel, example, files, "silence", code=1)
    # The second speaks on, from an address that nobody knows.
    gap, moved = (r for r in found if r["state"] == "silent")
    assert (gap["device"], moved["device"]) == ("mv-gannet-lx1", "orrin-fw1")
    assert moved["unsure"] > 50 and not gap["unsure"] and moved["lasts"]
    assert gap["begun"].startswith("2026-11-23T08:5") and 10_000 < gap["longest"] < 11_500


@pytest.mark.deep
def test_volume_is_what_the_files_hold(ivrel: Run, example: Path, files: list[str]) -> None:
    heard = json.loads(ivrel("heard", "-w", example, *files, "--format", "json").stdout)
    number = sum(d["messages"] for d in heard["devices"])
    for by in ("device", "kind"):
        found = rows(ivrel, example, files, "volume", "--by", by, code=0)
        assert sum(r["messages"] for r in found) == number
    debug = rows(ivrel, example, files, "volume", "--by", "site", "--if-level", "debug", code=0)
    urgent = rows(ivrel, example, files, "volume", "--by", "site", "--if-level", "error", code=0)
    more = {r["site"]: r for r in debug}
    assert all(r["other"] <= r["rate"] < more[r["site"]]["other"] for r in urgent)
    assert sum(r["other"] < r["rate"] / 2 for r in urgent) > 5
    assert all(r["estimated"] for r in debug) and not any(r["estimated"] for r in urgent)


@pytest.mark.deep
def test_figures_are_drawn(ivrel: Run, example: Path, files: list[str], tmp_path: Path) -> None:
    pytest.importorskip(
        "matplotlib", reason="Matplotlib is not installed: pip install 'ivrel[figures]'"
    )
    drawn = []
    for subject, name, words in (
        ("silence", "arrivals.svg", []),
        ("clocks", "one.svg", []),
        ("clocks", "two.svg", []),
        ("volume", "volume.png", ["--if-level", "warning"]),
    ):
        ivrel("measure", subject, "-w", example, files[0], *words, "--figure", tmp_path / name)
        drawn.append((tmp_path / name).read_bytes())
    assert b"mv-gannet-lx1" in drawn[0] and b"barred: silent (1)" in drawn[0]
    assert drawn[1] == drawn[2] and b"as a clock that was never set" in drawn[1]
    assert drawn[3].startswith(b"\x89PNG")


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (["measure"], "SUBJECT"),
        (["measure", "clocks"], "no file of messages is given"),
        (["measure", "silence", "gone.log"], "gone.log: no such file or directory"),
        (
            ["measure", "silence", "x", "--false-alarms", "2"],
            "'2' is not a rate; expected a number between 0 and 1",
        ),
        (
            ["measure", "clocks", "x", "--tolerance", "no"],
            "'no' is not a time; expected a number of seconds",
        ),
        (
            ["measure", "clocks", "x", "--figure", "x.gif"],
            "--figure: 'x.gif' ends in neither .png nor .svg",
        ),
        (["measure", "volume", "/dev/null"], "no message is in the files"),
        (
            ["measure", "volume", "{log}", "--if-level", "debg"],
            "trap level 'debg' is not known; did you mean 'debug'?",
        ),
        (
            ["measure", "volume", "{log}", "--by", "kind", "--if-level", "debug"],
            "another trap level is estimated by device or site",
        ),
    ],
)
def test_wrong_calls_of_it(
    ivrel: Run, example: Path, tmp_path: Path, words: list[str], said: str
) -> None:
    (tmp_path / "log").write_text("<13>Nov 23 10:00:00 x su: hello\n")
    done = ivrel(
        *(w.format(log=tmp_path / "log") for w in words),
        *(["-w", example] if words[1:] else []),
        code=2,
    )
    assert said in done.stderr and done.stderr.count("\n") == 1
