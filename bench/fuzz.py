"""Mutated inputs for every reader: none may raise anything but what is documented.

`python bench/fuzz.py --times 1000000 --slice 0.05` runs a long search, in which each reader has the
same time: those that are quick read more. `--minutes 60` ends it after an hour and says how far it
came, and `--first N` goes on from there; the tests run a short one, in which each reader has as
many cases. A failure prints the reader, the seed of the case, and the error.
"""

from __future__ import annotations

import argparse
import time
from collections import Counter
from collections.abc import Callable, Iterator
from datetime import UTC, date, datetime
from pathlib import Path
from random import Random

from ivrel.core import (
    Device,
    InputError,
    Unreadable,
    correct,
    read_dialect,
    read_fleet,
    read_policy,
    read_records,
)
from ivrel.core.authoring.cover import cover
from ivrel.core.authoring.learning.cutting import Sample
from ivrel.core.authoring.learning.learn import learn
from ivrel.core.authoring.learning.questions import questions
from ivrel.core.authoring.learning.written import written
from ivrel.core.correcting.changes import apply_change
from ivrel.core.settings import Scope, read_settings
from ivrel.core.syslog import Frames, moment, parse, told
from ivrel.core.vocabulary.errors import Refused
from ivrel.demo.workspace import configurations, entries, fleet_text, policy_text
from ivrel.sources.dialects import SHIPPED, Dialects

DIALECTS = Dialects()
POLICY = read_policy(policy_text(), "policy.yaml")
DAY = date(2026, 11, 23)
DOCUMENTED = (InputError, Unreadable, Refused)
PIECES = [
    *(
        b"\x00",
        b"\xff\xfe",
        b"\x1c",
        b"\x1b[31m",
        b"\r",
        b"\t",
        b"\n",
        b" ",
        b'"',
        b"'",
        b"\\",
        b"{",
        b"}",
        b"[",
        b"]",
    ),
    *(
        b"<",
        b">",
        b"/>",
        b"<!--",
        b"]]>",
        b"&",
        b"*",
        b"?",
        b":",
        b"=",
        b";",
        b"#",
        b",",
        b"\xc2\xb2",
        b"\xed\xa0\x80",
    ),
    *(
        b"99999999999999999999",
        b"-1",
        b"null",
        b"yes",
        b"on",
        b"198.51.100.300",
        b"::",
        b"\\ud800",
        b"!!python/none",
    ),
]


def mutated(seed: bytes, dice: Random) -> bytes:
    """Return a text with some pieces taken out, doubled, moved, or put in."""
    text = bytearray(seed)
    for _ in range(dice.choice((1, 1, 2, 3, 8))):
        at = dice.randrange(len(text) + 1)
        size = dice.choice((0, 1, 3, 20, 200))
        piece = bytes(text[at : at + size])
        new = dice.choice(
            [b"", dice.choice(PIECES), piece + piece, piece[::-1], dice.choice(PIECES) + piece]
        )
        text[at : at + size] = new
        if dice.random() < 0.2:
            lines = bytes(text).split(b"\n")
            dice.shuffle(lines)
            text = bytearray(b"\n".join(lines))
    return bytes(text)


def _configuration(platform: str) -> Callable[[bytes], object]:
    dialect = DIALECTS[platform]
    device = Device("x", "firewall", "holmsay", platform, ("refit",), "192.0.2.11")

    def read(data: bytes) -> object:
        read_settings(Scope(device, read_records(dialect, data), POLICY.collectors))
        return correct(device, dialect, data, POLICY, DAY, "x")

    return read


def _cover(platform: str) -> Callable[[bytes], object]:
    return lambda data: cover(DIALECTS[platform], [("x", data)])


def _learn(other: bytes) -> Callable[[bytes], object]:
    def read(data: bytes) -> object:
        samples = [Sample("a.conf", data), Sample("b.conf", other)]
        return list(questions(found := learn("x", samples))), written(found)

    return read


def _change(platform: str, text: bytes) -> Callable[[bytes], object]:
    return lambda change: apply_change(
        DIALECTS[platform], text, change.decode("utf-8", "replace"), "change"
    )


def readers() -> Iterator[tuple[str, list[bytes], Callable[[bytes], object]]]:
    """Yield each reader's name, the texts to start from, and what reads."""
    yield "message", list(MESSAGES), _message
    dialects = [path.read_bytes() for path in sorted(Path(SHIPPED).glob("*.yaml"))]
    yield (
        "fleet",
        [fleet_text().encode()],
        lambda data: read_fleet(data.decode("utf-8", "replace"), "fleet.yaml"),
    )
    csv = (
        b"device,kind,site,platform,groups,identity\na,router,s,quern,x "
        b"y,192.0.2.1\nb,switch,s,marl,,\n"
    )
    yield "fleet.csv", [csv], lambda data: read_fleet(data.decode("utf-8", "replace"), "fleet.csv")
    yield (
        "policy",
        [policy_text().encode()],
        lambda data: read_policy(data.decode("utf-8", "replace"), "policy.yaml"),
    )
    yield "dialect", dialects, lambda data: read_dialect(data.decode("utf-8", "replace"), "x.yaml")
    by_platform: dict[str, list[tuple[str, bytes]]] = {}
    for entry in entries():
        files = configurations()[entry.device]
        if set(files) == {""}:
            by_platform.setdefault(entry.platform, []).append((entry.device, files[""].encode()))
    for platform, texts in by_platform.items():
        yield f"configuration {platform}", [text for _, text in texts], _configuration(platform)
        short = [text for _, text in texts if len(text) < 12_000] or [texts[0][1][:12_000]]
        yield f"cover {platform}", short, _cover(platform)
        if platform != "rsyslog":
            yield f"learn {platform}", short, _learn(short[0])
        device = Device("x", "firewall", "holmsay", platform, ("refit",), "192.0.2.11")
        done = correct(device, DIALECTS[platform], texts[0][1], POLICY, DAY, "x")
        if done.change:
            yield (
                f"change {platform}",
                [done.change.encode(), done.backout.encode()],
                _change(platform, texts[0][1]),
            )


MESSAGES = (
    b"<34>1 2003-10-11T22:14:15.003Z mymachine.example.com su - ID47 - \xef\xbb\xbf'su'",
    b'<165>1 2003-10-11T22:14:15.003-07:00 a b 8710 c [x iut="3" y="a\\]\\"b"]'
    b'[meta sequenceId="1"] d',
    b"<34>Oct 11 22:14:15 mymachine su: 'su root' failed for lonvick on /dev/pts/8",
    b"<165>000123: *Aug 24 05:34:00.123 CST 1987 mymachine myproc[10]: %% It's time",
    b"1990 Oct 22 10:52:01 TZ-6 scapegoat.dmz.example.org 10.1.2.3 sched[0]: That's All Folks!",
    b"<5>3d04h: hello",
    b"2026-11-23T10:00:00.123456+01:00 host tag[1]: x\n",
)


def _message(data: bytes) -> object:
    """Read a message, and a stream of such, in whatever pieces it comes."""
    message = parse(data)
    moment(message.stamp, datetime(2026, 11, 23, tzinfo=UTC))
    frames = Frames(longest=64)
    for at in range(0, len(data), 7):
        frames.feed(data[at : at + 7])
    return [*map(told, message.departures), *frames.close()]


def run(
    times: int,
    seed: int = 0,
    most: float = 10.0,
    only: str = "",
    first: int = 0,
    slice_: float = 0.0,
) -> Iterator[tuple[str, str]]:
    """Yield the reader and what goes wrong in so many cases; '' where a case is right.

    `most`: CPU seconds that one case may take; `only`: the reader that is tried, if not all;
    `first`: the round to begin with; `slice_`: CPU seconds that each reader has in a round, in
    which it has one case at least.
    """
    every = [one for one in readers() if only in ("", one[0])]
    done, n = 0, first
    while done < max(times, 1):
        for name, seeds, read in every:
            end, number = time.process_time() + slice_, 0
            while not number or time.process_time() < end:
                case = f"{n}.{number}" if number else f"{n}"
                yield from ((name, wrong) for wrong in _case(name, seeds, read, seed, case, most))
                number += 1
            done += number
        n += 1


def _case(
    name: str,
    seeds: list[bytes],
    read: Callable[[bytes], object],
    seed: int,
    case: str,
    most: float,
) -> Iterator[str]:
    """Yield what goes wrong in one case, and at last '' or that it took too long."""
    dice = Random(f"{name} {seed} {case}")
    data = mutated(dice.choice(seeds), dice)
    begun = time.process_time()
    try:
        read(data)
    except DOCUMENTED as problem:
        if not str(problem):
            yield f"{name} {seed} {case}: an error without a word"
    except Exception as problem:
        yield f"{name} {seed} {case}: {type(problem).__name__}: {problem}"
    taken = time.process_time() - begun
    yield f"{name} {seed} {case}: took {taken:.2f} s" if taken > most else ""


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--times", type=int, default=20_000, help="cases over all readers")
    parser.add_argument("--seed", type=int, default=0, help="which cases")
    parser.add_argument("--only", default="", metavar="READER", help="one reader, such as message")
    parser.add_argument("--most", type=float, default=0.5, help="CPU seconds of one case, at most")
    parser.add_argument("--minutes", type=float, default=0, help="how long at most (0: no limit)")
    parser.add_argument("--first", type=int, default=0, help="the round of readers to begin with")
    parser.add_argument(
        "--slice", type=float, default=0, help="CPU seconds that each reader has in a round"
    )
    args = parser.parse_args()
    end = time.monotonic() + 60 * args.minutes if args.minutes else float("inf")
    cases: Counter[str] = Counter()
    mistakes, rounds, last = 0, args.first, ""
    asked = args.times, args.seed, args.most, args.only, args.first, args.slice
    for name, wrong in run(*asked):
        rounds += name != last and name == next(iter(cases), "")
        last = name
        cases[name] += not wrong or "took" in wrong
        mistakes += bool(wrong)
        if wrong:
            print(wrong, flush=True)
        if time.monotonic() > end:
            break
    for name, number in sorted(cases.items(), key=lambda one: one[1]):
        print(f"{number:9,}  {name}")
    total = cases.total()
    print(f"{total:9,}  cases, {mistakes or 'nothing'} but documented errors in time", end="")
    print(f"; go on with --first {rounds}" if total < args.times else "")
    raise SystemExit(bool(mistakes))


if __name__ == "__main__":
    main()
