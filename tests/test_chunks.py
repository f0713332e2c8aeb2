"""Messages that show the same are counted together: that changes nothing but the time it takes."""

from __future__ import annotations

import gzip
import os
import re
import shutil
import subprocess
from collections import Counter
from collections.abc import Iterator
from datetime import UTC, datetime
from itertools import combinations, product
from pathlib import Path
from random import Random
from typing import Any

import pytest
from conftest import tried
from hypothesis import given
from hypothesis import strategies as st
from test_heard import told
from test_measure import state

from ivrel.core import Device, read_fleet, read_policy
from ivrel.core.attribution.arrival import Arrival, arrived
from ivrel.core.attribution.senders import Directory, attribute
from ivrel.core.evidence.summary import STRANGER, Evidence
from ivrel.core.measuring.gathered import SUBJECTS, Measured
from ivrel.core.syslog import signatures
from ivrel.core.syslog.compiled import SOURCE, finder
from ivrel.core.syslog.record import kept_line
from ivrel.demo.day import day
from ivrel.demo.workspace import fleet_text, policy_text
from ivrel.runners.pieces import through_pieces
from ivrel.sources.messages import Chunk, Messages, RecordFormat, Summing

MUST = bool(os.environ.get("IVREL_SKIP_NOTHING"))
NOW = datetime(2026, 11, 23, 12, tzinfo=UTC)
DEVICES = [
    Device("x", "router", "s", "quern", (), "192.0.2.1"),
    Device("y1", "router", "s", "quern", (), "192.0.2.2"),
]

PIECES = (
    ["<34>", "<165>", "<7>", "<192>", "<034>", ""],
    ["", "17: ", "123456: ", "1 ", "2 ", "*", "."],
    ["Nov 23 ", "Nov  3 ", "Feb 30 ", "Xyz 23 ", "Nov 23 2026 ", "2026 Nov 23 ", "2026-11-23T", "2026-11-23 ", "3d04h", "5w ", "12d ", "- ", ""],
    ["10:00:00", "23:59:59", "24:00:00", "10:60:00", "7:00:00", ""],
    ["", ".123", ".123456", ".1", ".1234", ".1234567", ",123"],
    ["", "Z", "+01:00", " +00:00", " UTC", " EST", " 2026", " 2026 UTC", " TZ+2", ":", " UTC:"],
    [" x", " y1", " 192.0.2.2", " 2001:db8::1", " su:", " 1999", " UTC", " -", "", " x.example.org", " caf\u00e9", ' a"b', " a\\b"],
    [" su:", " su[12]:", " su[12]", " su[12", " y1[3]", " y1[3", " x:", " su", " [x]:", " -", ""],
    ["", " ", " hello", " - - - hello", ' 7 ID1 [meta sequenceId="5"] hi', ' 7 - [meta sequenceId="5"][origin ip="192.0.2.1"] hi',
     ' 7 ID1 [meta sequenceId="5"][origin ip="192.0.2.1"] hi', ' 7 ID1 [meta sequenceId=""] hi', ' 7 ID1 [meta sequenceId="12"]',
     " - - -", ' - - [origin ip="192.0.2.2"] x', " - -", "\r", "\0", " x\u2003y"],
)  # fmt: skip


OLD = ("<34>", "", "Nov 23 ", "10:00:00", ".123", " UTC", " x", " su:", " hello")
NEW = ("<34>", "1 ", "2026-11-23T", "10:00:00", ".123", "Z", " x", " su", " - - - hello")


def changed(base: tuple[str, ...]) -> Iterator[str]:
    """Yield the lines that differ from a base in at most two pieces."""
    for one, other in combinations(range(len(PIECES)), 2):
        for first, second in product(PIECES[one], PIECES[other]):
            pieces = list(base)
            pieces[one], pieces[other] = first, second
            yield "".join(pieces)


def untimed(found: object) -> object:
    """Return what was told without times: of lines that are counted together, these are of the first
    and the last line, and stamps may go back between them.
    """
    return re.sub(r"(begun|ended)=[0-9.]+", "", repr(found))


def twice(lines: list[bytes], form: str) -> tuple[object, object]:
    """Return what lines come to, read one by one and counted together."""
    directory, one_by_one = Directory(DEVICES), Evidence()
    read, wrong = RecordFormat(form).read, 0
    for number, line in enumerate(lines, 1):
        if not line.rstrip(b"\r\n"):
            continue
        try:
            record = read(line.rstrip(b"\r\n"), "f", number, NOW)
        except ValueError:
            wrong += 1
            continue
        one_by_one.add(Arrival(record, attribute(record, directory), record.when(NOW), "a"))
    data = b"".join(line.rstrip(b"\n") + b"\n" for line in lines)
    chunk = Chunk("f", NOW, RecordFormat(form), 1, "a", data=data)
    found = []
    # By an expression that looks at each line, and in the compiled way, which falls back to that.
    for find in (lambda: None, finder):
        with pytest.MonkeyPatch.context() as patched:
            patched.setattr(signatures, "finder", find)
            summed = Summing(Directory(DEVICES), UTC, Evidence)(chunk)
        assert summed.wrong == wrong
        found.append(told(summed.gathered))
    assert found[0] == found[1]
    return told(one_by_one), found[1]


@pytest.mark.parametrize("form", ["lines", "recording"])
@pytest.mark.parametrize("base", [OLD, NEW])
def test_counted_together_is_as_read_one_by_one(base: tuple[str, ...], form: str) -> None:
    lines = [line.encode() for line in changed(base)]
    # The same lines at another time, with another number in front, and of another process.
    lines += [re.sub(rb"10:00:00|17(?=: )|\[12\]", lambda m: m[0].replace(b"1", b"2"), line) for line in lines]  # fmt: skip
    if form == "recording":
        lines = [kept_line(one, 1e9 + n, "192.0.2.2", 514, "udp", "datagram") for n, one in enumerate(lines)]  # fmt: skip
    slow, fast = twice(lines, form)
    assert slow == fast if form == "recording" else untimed(slow) == untimed(fast)


@pytest.mark.parametrize("form", ["lines", "recording"])
@pytest.mark.parametrize("subject", SUBJECTS)
def test_what_is_measured_of_alike_lines_is_that_of_each(subject: str, form: str) -> None:
    """The day of the example, by lines that are read one by one and by groups."""
    policy = read_policy(policy_text(), "policy.yaml")
    directory = Directory(
        read_fleet(fleet_text(), "fleet.yaml").devices, policy.collectors.values()
    )
    sent = [one for one in day() if one.collector == "beacon-a"]
    lines = [one.data.replace(b"\n", b" ") for one in sent]
    if form == "recording":
        lines = [kept_line(s.data, s.when.timestamp(), s.sender, s.port, s.transport, "datagram") for s in sent]  # fmt: skip
        lines = [line.rstrip(b"\n") for line in lines]
    slow: Measured[Any] = Measured(SUBJECTS[subject])
    for number, line in enumerate(lines, 1):
        record = RecordFormat(form).read(line, "f", number, NOW)
        slow.add(arrived(record, directory, NOW, UTC, "a"))
    slow.settle()
    chunk = Chunk("f", NOW, RecordFormat(form), 1, "a", data=b"\n".join(lines) + b"\n")
    fast = Summing(directory, UTC, lambda: Measured(SUBJECTS[subject]))(chunk).gathered
    assert state(fast) == state(slow) and fast.number == len(lines)
    assert (fast.first, fast.last) == (slow.first, slow.last)


@pytest.mark.parametrize("place", [0, 1, 2])
@pytest.mark.parametrize("subject", [*SUBJECTS, "heard"])
def test_a_damaged_line_among_alike_ones_is_reported_and_the_others_count(
    subject: str, place: int
) -> None:
    good = [kept_line(b'<34>Nov 23 10:00:00 x su: "%d"' % n, 1e9 + n, "192.0.2.1", 514, "udp", "datagram") for n in range(4)]  # fmt: skip
    for wrong in (rb'"\q', b"2001-99-09"):
        lines = list(good)
        lines[place] = lines[place].replace(rb'"\"'[1:] if b"q" in wrong else b"2001-09-09", wrong[1:] if b"q" in wrong else wrong, 1)  # fmt: skip
        assert lines != good
        new = Evidence if subject == "heard" else lambda: Measured(SUBJECTS[subject])
        chunk = Chunk("f", NOW, RecordFormat("recording"), 1, "a", data=b"".join(lines))
        summed: Any = Summing(Directory(DEVICES), UTC, new)(chunk)
        assert (summed.gathered.number, summed.wrong) in ((3, 1), (4, 0))
        assert summed.gathered.number == 4 or f"f:{place + 1}: " in summed.first


NUMBERED = (
    '<34>1 2026-11-23T10:00:00Z x su - - [meta sequenceId="%d"] a',
    "<34>1 2026-11-23T10:00:00Z x su %d - - a",
    "%d: Nov 23 10:00:00 x su: a",
    "<34>Nov 23 10:00:00 x su[%d]: a",
    "<34>%dd04h: su: a",
)


@pytest.mark.parametrize("quick", [True, False])
@given(numbers=st.lists(st.integers(0, 99_999), min_size=2, max_size=12))
@pytest.mark.parametrize("form", NUMBERED)
def test_numbers_have_no_part_in_a_group(numbers: list[int], form: str, quick: bool) -> None:
    lines = [(form % number).encode() for number in numbers]
    other = b"<34>Nov 23 10:00:00 y1 su: a"
    groups = list(signatures.Signatures(quick=quick).groups(b"\n".join([*lines, other])))
    expected = [(list(range(len(lines))), lines[0]), ([len(lines)], other)]
    assert [(list(g.ats), g.line) for g in groups] == expected
    assert [g.line_of(n) for g in groups for n in g.ats] == [*lines, other]


@pytest.mark.skipif(not MUST and finder() is None, reason="nothing was compiled")
def test_the_compiled_way_leaves_few_lines_to_be_looked_at_one_by_one() -> None:
    find, lines = finder(), [one.data for one in day()]
    assert find is not None
    found = find(b"".join(one.replace(b"\n", b" ") + b"\n" for one in lines), False, lambda *_: 1)
    assert sum(map(len, found.alike)) > 0.99 * len(lines)


@pytest.mark.deep
@pytest.mark.parametrize("recorded", [False, True])
@tried(300)
@given(
    st.lists(st.tuples(st.tuples(*map(st.sampled_from, PIECES)).map("".join), st.integers(0, 300))),
    st.sampled_from([[], list(changed(OLD)), list(changed(NEW))]),
)
def test_both_ways_count_the_same_signatures(
    recorded: bool, some: list[tuple[str, int]], more: list[str]
) -> None:
    lines = [one.encode() for one in more] + [one.encode() for one, _ in some]
    if recorded:
        lines = [kept_line(one, 1e9, "192.0.2.2", 514, "udp", "datagram") for one in lines]
    lines += [
        line[: -1 - cut] for line, (_, cut) in zip(lines[len(more) :], some, strict=True) if cut
    ]
    data = b"".join(line.rstrip(b"\n") + b"\n" for line in lines)
    counts = []
    for quick in (True, False):
        every, count = signatures.Signatures(recorded=recorded, quick=quick), Counter[object]()
        for group in every.groups(data):
            (signature,) = every._lines.findall(group.line + b"\n")
            count[signature] += len(group.ats)
        counts.append(count)
    assert counts[0] == counts[1]


HARNESS = """
#include <stdio.h>
#include "signatures.c"
static void tried(const byte *some, size_t size, int recorded) {
    byte *data = malloc(size);
    memcpy(data, some, size);
    size_t n = (size_t)ivrel_lines(data, (int64_t)size);
    void *begins = malloc((n + 1) * 8), *group = malloc(n * 4), *others = malloc(n * 4);
    Alike *alike = malloc((n < MOST ? n : MOST) * sizeof *alike);
    if (ivrel_signatures(data, (int64_t)size, recorded, begins, group, others, alike) < 0) abort();
    free(data), free(begins), free(group), free(others), free(alike);
}
int main(void) {
    static byte all[1 << 24];
    size_t size = fread(all, 1, sizeof all, stdin), n = 0;
    for (int recorded = 0; recorded < 2; recorded++) tried(all, size, recorded);
    for (const byte *at = all, *end; n < 3000; at = end + 1, n++) {
        end = memchr(at, 10, size);
        for (int recorded = 0; recorded < 2; recorded++) tried(at, (size_t)(end - at) + 1, recorded);
    }
    return 0;
}
"""


@pytest.mark.deep
@pytest.mark.skipif(not MUST and not shutil.which("gcc"), reason="needs gcc")
def test_the_compiled_way_reads_and_writes_where_it_may(tmp_path: Path) -> None:
    (tmp_path / "all.c").write_text(HARNESS)
    program, dice = tmp_path / "all", Random(7)
    flags = ["-g", "-fsanitize=address,undefined", "-fno-sanitize-recover", f"-I{SOURCE.parent}"]
    subprocess.run(["gcc", *flags, "-o", program, tmp_path / "all.c"], check=True)
    whole = [line.encode() for base in (OLD, NEW) for line in changed(base)]
    whole += [kept_line(one, 1e9, "192.0.2.2", 514, "udp", "datagram") for one in whole]
    whole += [b"<7>Nov  3 10:00:00 %s: m" % (b"x" * n) for n in range(200, 300)]
    whole += [b"<7>1 2026-11-23T10:00:00Z %s y %d i - m" % (b"x" * n, n) for n in range(200, 300)]
    # Cut anywhere, so that each byte is the last of some line; and more signatures than are held.
    lines = [one[: dice.randrange(len(one) + 1)] for one in dice.choices(whole, k=20_000)]
    lines += [*whole, *(b"<7>Nov  3 10:00:00 h%d t: m" % n for n in range(70_000))]
    done = subprocess.run([program], input=b"\n".join(lines) + b"\n", capture_output=True, check=False)  # fmt: skip
    assert (done.returncode, done.stderr) == (0, b"")


@tried(300)
@given(st.lists(st.tuples(*map(st.sampled_from, PIECES)).map("".join), min_size=1, max_size=30))
def test_so_are_lines_of_all_kinds(lines: list[str]) -> None:
    slow, fast = twice([line.encode() for line in lines * 2], "lines")
    assert slow == fast


def test_chunks_of_a_file_are_its_lines(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    text = b"".join(b"<13>Nov 23 10:00:%02d x su: %s\n" % (n % 60, b"y" * n) for n in range(200))
    path, packed = tmp_path / "a.log", tmp_path / "a.log.gz"
    path.write_bytes(text + b"<13>the last without an end")
    packed.write_bytes(gzip.compress(path.read_bytes()))
    monkeypatch.setattr("ivrel.sources.messages.CHUNK", 1000)
    for name, by_path in ((path, True), (path, False), (packed, True)):
        messages = Messages([str(name)], NOW)
        chunks = [part for part in messages.parts(by_path=by_path) if isinstance(part, Chunk)]
        assert b"".join(chunk.bytes() for chunk in chunks) == path.read_bytes()
        assert len(chunks) > 20 and not messages.problems
        assert all((chunk.data is None) == (by_path and name == path) for chunk in chunks)
        line = 1
        for chunk in chunks:
            assert chunk.line == line
            line += chunk.bytes().count(b"\n")
    # What is damaged ends with a word about it, and what came before it stands.
    packed.write_bytes(packed.read_bytes()[:-200])
    messages = Messages([str(packed)], NOW)
    held = b"".join(
        part.bytes() for part in messages.parts(by_path=True) if isinstance(part, Chunk)
    )
    assert held and path.read_bytes().startswith(held)
    assert "a.log.gz: damaged behind line" in messages.problems[0]


def test_a_line_that_never_ends_is_cut(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("ivrel.sources.messages.CHUNK", 700_000)
    path = tmp_path / "long.log"
    path.write_bytes(b"<13>first\n" + b"<13>" + b"x" * 3_000_000 + b"\n<13>last\n")
    chunks = [c for c in Messages([str(path)], NOW).parts(by_path=True) if isinstance(c, Chunk)]
    summed = [Summing(Directory(DEVICES), UTC, Evidence)(chunk) for chunk in chunks]
    assert sum(s.shortened for s in summed) == 1
    assert [s.gathered.number for s in summed] == [1, 1, 1]
    lines = [t.first for s in summed for t in s.gathered.others.of(STRANGER).values()]
    assert [(one.line, one.text[:9]) for one in lines] == [(1, "<13>first"), (2, "<13>xxxxx"), (3, "<13>last")]  # fmt: skip


@pytest.mark.parametrize("workers", [1, 2])
def test_pieces_come_in_order(workers: int, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("ivrel.runners.pieces.processors", lambda: workers)
    assert list(through_pieces(hex, lambda workers: iter(range(50)))) == [hex(n) for n in range(50)]
    assert list(through_pieces(hex, lambda workers: iter([7]))) == ["0x7"] and not list(
        through_pieces(hex, lambda workers: iter([]))
    )
