"""What makes reading quick changes nothing: every quick way is held against a slow and plain
one.
"""

from __future__ import annotations

import csv
import io
import json
from ipaddress import ip_address
from typing import Any

import pytest
from conftest import TODAY, tried
from generated import device, policies, records, written
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace

from ivrel.core.dialects.pattern import Pattern
from ivrel.core.dialects.slots import SLOTS
from ivrel.core.fleet import KINDS, read_fleet
from ivrel.core.judging import Auditor
from ivrel.core.reading.matcher import matcher
from ivrel.core.reading.records import read_records
from ivrel.core.shapes.paths import Paths
from ivrel.core.text.text import Text
from ivrel.core.text.words import Path, Words
from ivrel.core.vocabulary.addresses import address, is_address
from ivrel.sources.dialects import Dialects

DIALECTS = Dialects()
LINES = ("a.b = 1", "a.c.d = x", "ab.c = 2", "a", "b.x = y", " a.b = 3", "", "# a.b", "a.\r", "a.b")


@given(data=st.data())
@tried(40)
@pytest.mark.parametrize("name", ["quern", "skarn", "hollin", "marl", "osier"])
def test_a_reader_that_has_seen_other_texts_reads_like_a_fresh_one(
    name: str, data: st.DataObject
) -> None:
    dialect, policy = DIALECTS[name], data.draw(policies())
    texts = [written(dialect, name, data.draw(records(dialect, name))) for _ in range(3)]

    def told(text: bytes, auditor: Auditor) -> object:
        result = auditor.audit(device(dialect), dialect, text, "x.conf")
        read = read_records(dialect, text)
        asked = [read.row("interface", key) for key in ("loop1", "up0", "gone0")]
        found = read.rows_with("interface", "interface.address", "192.0.2.9")
        assert asked == [read.rows("interface").get((key,)) for key in ("loop1", "up0", "gone0")]
        return result, asked, found, read.unparsed

    def fresh(text: bytes) -> object:
        dialect.made.clear()
        return told(text, Auditor(policy, TODAY))

    expected = [fresh(text) for text in texts]
    one = Auditor(policy, TODAY)
    for _ in range(3):
        assert [told(text, one) for text in texts] == expected


def _plainly(
    patterns: list[Pattern], path: Path, words: Words
) -> tuple[int, dict[str, object]] | None:
    """The first pattern that reads a statement, those that begin with its first word before all
    others.
    """
    for first in (words[0], None):
        for number, pattern in enumerate(patterns):
            fields = (
                pattern.read(path, words) if (pattern.opening[:1] or (None,))[0] == first else None
            )
            if fields is not None:
                return number, dict(fields)
    return None


@given(data=st.data())
@tried(300)
@pytest.mark.parametrize(
    "name", [name for name in DIALECTS.files if DIALECTS[name].shape_name != "rsyslog"]
)
def test_the_pattern_of_a_statement_is_the_one_that_a_look_at_each_of_them_finds(
    name: str, data: st.DataObject
) -> None:
    dialect = DIALECTS[name]
    text = data.draw(st.sampled_from([example.text for example in dialect.examples])).encode()
    grammar = dialect.shape
    said = [
        (path, list(grammar.split(raw.decode()))) for path, raw, _ in grammar.everything(Text(text))
    ]
    path, words = data.draw(st.sampled_from([(path, words) for path, words in said if words]))
    others = sorted({word for _, some in said for word in some})
    for _ in range(data.draw(st.integers(0, 3))):
        at = data.draw(st.integers(0, len(words) - 1))
        new = [data.draw(st.sampled_from(others))]
        words[at : at + 1] = data.draw(st.sampled_from([[], new, [words[at], *new]]))
        words = words or ["x"]
    match, slow = (
        matcher(dialect).find(path, tuple(words)),
        _plainly(list(dialect.patterns), path, tuple(words)),
    )
    assert (match is None) == (slow is None)
    if match and slow:
        number, values = slow
        assert (
            match.pattern == number and dict((*match.named, *match.fields, *match.many)) == values
        )
        assert match.key == tuple(
            values.get(slot, "") for slot in dialect.keys.get(match.table, ())
        )
        assert set(match.silent) == set(dialect.patterns[number].slots) - values.keys()
        assert all(SLOTS[slot].many for slot, _ in match.many)


@given(
    lines=st.lists(st.sampled_from(LINES), max_size=30),
    heads=st.sets(st.sampled_from(["a", "b", "x"])),
)
def test_paths_are_found_as_by_looking_at_every_line(lines: list[str], heads: set[str]) -> None:
    text = "\n".join(lines)
    found = list(Paths().scan(Text(text.encode()), [(head,) for head in sorted(heads)]))
    plain = [
        (n, line)
        for n, line in enumerate(lines, 1)
        if line.lstrip().startswith(tuple(f"{h}." for h in heads))
    ]
    assert found == [((), line.strip().encode(), n) for n, line in plain]


@given(data=st.data(), size=st.integers(0, 9000), every=st.integers(1, 300))
def test_lines_are_counted_alike_in_any_order(data: st.DataObject, size: int, every: int) -> None:
    text = b"".join(b"\n" if n % every == 0 else b"x" for n in range(size))
    one = Text(text)
    for at in data.draw(st.lists(st.integers(0, size), max_size=12)):
        assert one.line_of(at) == text.count(b"\n", 0, at) + 1


HEX = st.sampled_from(["0", "1", "f", "db8", "2001", "00", "01", "a0", "ffff", "10000", "G"])
ODD = st.builds(lambda a, b, mid: ":".join(a) + mid + ":".join(b), *[st.lists(HEX, max_size=8)] * 2, st.sampled_from(["::", ":"]))  # fmt: skip


@given(text=ODD | st.from_regex(r"[1-9a-f](:[1-9a-f]){0,5}::([1-9a-f](:[1-9a-f]){0,5})?", fullmatch=True) | st.ip_addresses().map(str) | st.ip_addresses(v=6).map(lambda a: a.exploded.upper()) | st.from_regex(r"[0-9]{1,3}(\.[0-9]{1,3}){3}", fullmatch=True))  # fmt: skip
def test_addresses_have_one_spelling(text: str) -> None:
    try:
        plain = str(ip_address(text))
    except ValueError:
        assert not is_address(text)
    else:
        assert address(text) == plain == address(f" {plain} ")


NAMES = st.from_regex(r"[a-z][a-z0-9_.-]{0,6}", fullmatch=True)
ROWS = st.lists(
    st.fixed_dictionaries(
        {
            "device": NAMES,
            "kind": st.sampled_from(KINDS),
            "site": NAMES,
            "platform": st.sampled_from(["quern", "marl"]),
            "groups": st.lists(NAMES, max_size=2, unique=True),
            "identity": st.sampled_from(["", "192.0.2.1", "2001:db8:0::1", "2001:db8::1"]),
        }
    ),
    min_size=1,
    max_size=6,
    unique_by=lambda row: row["device"],
)


@given(rows=ROWS)
def test_a_fleet_reads_alike_from_csv_and_yaml(rows: list[dict[str, Any]]) -> None:
    out = io.StringIO()
    table = csv.DictWriter(out, list(rows[0]))
    table.writeheader()
    table.writerows([{**row, "groups": " ".join(row["groups"])} for row in rows])
    listed = [{key: value for key, value in row.items() if value} for row in rows]
    one = read_fleet(out.getvalue(), "fleet.csv").devices
    other = read_fleet(json.dumps({"fleet": "f", "devices": listed}), "fleet.yaml").devices
    assert [replace(d, line=0, column=0) for d in one] == [
        replace(d, line=0, column=0) for d in other
    ]
    for d in one:
        assert set(d.rivals) == {
            e.name for e in one if e is not d and d.identity and e.identity == d.identity
        }
