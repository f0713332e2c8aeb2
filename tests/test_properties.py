"""What must hold for every platform, every text that it can write, and every policy."""

from __future__ import annotations

import pytest
from conftest import BUILD, TODAY, tried
from generated import BASES, device, policies, records, written
from hypothesis import given
from hypothesis import strategies as st
from rsyslog_cases import RSYSLOG

from ivrel.core import Unreadable, correct, read_records
from ivrel.core.authoring.check import misread
from ivrel.core.correcting.changes import apply_change
from ivrel.core.settings import Scope, read_settings
from ivrel.core.vocabulary.severity import (
    EVERYTHING,
    FACILITIES,
    NOTHING,
    SEVERITIES,
    Selection,
    describe_gap,
    holes,
    single,
    thresholds,
    through,
)
from ivrel.demo.workspace import configurations, entries
from ivrel.sources.dialects import Dialects

DIALECTS = {d.name: d for d in (*Dialects(), RSYSLOG)}  # one whose packages are known
WHOLE = {name: BASES[name].encode() for name in DIALECTS} | {
    e.platform: configurations()[e.device][""].encode()
    for e in entries()
    if e.platform != "rsyslog"
}
SOME = tried(80)


def reading(name: str, data: bytes) -> set[tuple[str, str, str, bool]]:
    scope = Scope(None, read_records(DIALECTS[name], data), {})
    return {(f.setting, f.key, f.value, f.default) for f in read_settings(scope)}


@pytest.mark.parametrize("base", sorted(BASES))
@given(data=st.data())
@SOME
def test_what_is_written_reads_the_same(base: str, data: st.DataObject) -> None:
    name = base.partition(".")[0]
    wanted = data.draw(records(DIALECTS[name], base))
    read = read_records(DIALECTS[name], written(DIALECTS[name], base, wanted))
    assert not read.unparsed
    for table in ("", *(t for t in DIALECTS[name].keys if t != "interface")):
        for key, row in wanted.rows(table).items():
            for slot in row:
                assert read.get(slot, read.rows(table)[key]).value == row[slot].value, slot
        assert set(read.rows(table)) == set(wanted.rows(table))


@pytest.mark.parametrize("base", sorted(BASES))
@given(data=st.data(), end=st.sampled_from(["\n", "\r\n"]))
@SOME
def test_corrections_are_proved_settled_and_reversible(
    base: str, data: st.DataObject, end: str
) -> None:
    name = base.partition(".")[0]
    dialect, policy = DIALECTS[name], data.draw(policies())
    end = "\n" if name == "rsyslog" else end
    text = written(dialect, base, data.draw(records(dialect, base))).replace(b"\n", end.encode())
    done = correct(device(dialect), dialect, text, policy, TODAY, "x1.conf")
    failing = [f"{p.name}: {p.why}" for p in done.proof if not p.holds]
    # A full platform may have to fall silent for a moment; nothing else may ever fail.
    assert not [f for f in failing if not f.startswith("never silent")], (
        text.decode(),
        done.change,
        done.backout,
    )
    if failing:
        assert len(read_records(dialect, text).rows("destination")) == dialect.limits.get(
            "destination"
        ), (
            failing,
            text.decode(),
            done.change,
        )
    if done.changes:
        assert apply_change(dialect, text, done.change, "change") == done.corrected
        assert reading(
            name, apply_change(dialect, done.corrected, done.backout, "backout")
        ) == reading(name, text)
    left = {v.setting for v in done.after.verdicts if v.verdict == "breaks"}
    assert left <= {r.setting for r in done.remains}
    again = correct(device(dialect), dialect, done.corrected, policy, TODAY, "x1.conf")
    assert not again.changes
    assert end != "\r\n" or done.corrected.count(b"\n") == done.corrected.count(b"\r\n")


@pytest.mark.parametrize("name", sorted(DIALECTS))
def test_examples_mean_what_they_say(name: str) -> None:
    dialect = DIALECTS[name]
    assert dialect.examples
    for example in dialect.examples:
        read = read_records(dialect, example.text.encode())
        assert not read.unparsed
        assert list(misread(read, example)) == [], f"{dialect.file}:{example.line}"


pairs = st.tuples(st.sampled_from(FACILITIES), st.sampled_from(SEVERITIES))
selections = st.lists(pairs, max_size=30).map(
    lambda some: Selection(
        sum({1 << (FACILITIES.index(f) * 8 + SEVERITIES.index(s)) for f, s in some})
    )
)


@given(a=selections, b=selections, pair=pairs, severity=st.sampled_from(SEVERITIES))
def test_selections_are_sets_with_names(
    a: Selection, b: Selection, pair: tuple[str, str], severity: str
) -> None:
    assert (pair in a | b) == (pair in a or pair in b)
    assert (pair in a - b) == (pair in a and pair not in b)
    assert (a <= b) == (not a - b)
    assert not holes(through(severity)) and thresholds(through(severity)) == {severity}
    assert through(severity).describe() == f"through {severity}"
    assert holes(a) & a == NOTHING and not holes(a | holes(a))
    gap = describe_gap(EVERYTHING, EVERYTHING - single(severity, [pair[0]]))
    assert gap == f"{severity} of {pair[0]}"
    assert describe_gap(through("debug"), through("debug") - single(severity)) == severity


@given(
    raw=st.binary(max_size=600) | st.text(max_size=300).map(str.encode), cut=st.integers(0, 4000)
)
@pytest.mark.parametrize("name", sorted(DIALECTS))
@tried(150)
def test_no_text_upsets_a_reader(name: str, raw: bytes, cut: int) -> None:
    dialect, whole = DIALECTS[name], WHOLE[name]
    at = cut % len(whole)
    for text in (
        raw,
        whole[:at],
        whole[:at] + raw + whole[at:],
        whole.replace(b"    ", b"\t"),
        b"\n" + raw,
    ):
        try:
            read = read_records(dialect, text)
            read_settings(Scope(None, read, {}))
            assert all(0 < s.line <= text.count(b"\n") + 1 for s in read.unparsed)
        except Unreadable as problem:
            assert str(problem)


@pytest.mark.deep
@pytest.mark.parametrize("name", sorted(DIALECTS))
def test_monstrous_texts_are_read_or_refused_at_once(name: str) -> None:
    whole = WHOLE[name]
    first = " ".join(DIALECTS[name].patterns[1].opening).encode()
    size = 300_000 if BUILD else 1_000_000
    for inside in (b"x" * size, first + b" " + b"y " * (size // 2), b"\x00" * 10_000):
        for monster in (b"events\n    " + inside + b"\n", b"journal." + inside + b" = 1\n"):
            try:
                read = read_records(DIALECTS[name], monster + whole)
                assert all(len(s.text) <= 120 for s in read.unparsed)
            except Unreadable as problem:
                assert len(str(problem)) < 120
    deep = b"events\n" + b"".join(b" " * n + b"level%d\n" % n for n in range(1, 100))
    tail = b"" if DIALECTS[name].shape_name == "tree" else deep
    read = read_records(DIALECTS[name], whole + tail)
    assert read.rows("interface") or not DIALECTS[name].has("interface.name")
    for deeper in (
        b"".join(b" " * n + b"x\n" for n in range(1, 3000)),
        b"record { " * 5000,
        b"<a>" * 5000,
        b"[" * 9000,
    ):
        try:
            read_records(DIALECTS[name], b"events\n" + deeper + whole)
            read_records(DIALECTS[name], deeper)
        except Unreadable as problem:
            assert len(str(problem)) < 120
