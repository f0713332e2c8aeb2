"""The proof notices what is wrong with a change: each property is broken on purpose, and it alone
is missed.
"""

from __future__ import annotations

from collections.abc import Callable

import pytest
from conftest import TODAY
from msgspec.structs import replace

from ivrel.core.correcting.answers import StateAnswers
from ivrel.core.correcting.case import Case
from ivrel.core.correcting.changes import write_change
from ivrel.core.correcting.correction import Correction
from ivrel.core.correcting.corrector import Corrector
from ivrel.core.correcting.difference import lost_statement, may_differ
from ivrel.core.correcting.plan import CorrectionPlan, make_plan, undo
from ivrel.core.correcting.proof import prove, prune
from ivrel.core.correcting.properties import PROPERTIES
from ivrel.core.correcting.steps import EditStep
from ivrel.core.fleet import Device
from ivrel.core.judging.asking import read_policy
from ivrel.core.policy import effective
from ivrel.core.reading.records import read_records
from ivrel.core.shapes.shape import Edit
from ivrel.core.text.text import Text
from ivrel.sources.dialects import Dialects

DIALECT = Dialects()["quern"]
DEVICE = Device("x", "router", "s", "quern", (), "192.0.2.9")
POLICY = read_policy(
    """policy: p
collectors:
  a: {address: 198.51.100.21}
  b: {address: 198.51.100.22, port: 601, transport: tcp}
rules:
  - rule: r
    require:
      export: on
      collectors: [a, b]
      level: {from: warning, to: informational, write: informational}
      facility: local4
""",
    "policy.yaml",
)
TEXT = b"""unit x
link loop1
    inet 192.0.2.9/32
events
    export on
    facility local4
    screen off
    send 198.51.100.21 udp 514 through notice
    send 203.0.113.7 udp 514 through debug
route 2001:db8::/32 by 2001:db8::1
"""
GOOD = """events
    send 198.51.100.22 tcp 601 through informational
    strike send 203.0.113.7 udp 514
"""


def planned(text: bytes) -> tuple[Case, StateAnswers, CorrectionPlan]:
    asked = effective(POLICY, DEVICE)
    begun = Corrector(POLICY, TODAY).start(DEVICE, DIALECT, text, "x.conf")
    return begun.case, begun.state, make_plan(begun.state, asked, frozenset())


def failing(change: str, text: bytes = TEXT) -> dict[str, str]:
    case, state, plan = planned(text)
    proof = prove(case, state, change, plan).properties
    assert [p.name for p in proof] == list(PROPERTIES)
    return {p.name: p.why for p in proof if not p.holds}


def test_steps_that_do_nothing_are_taken_out_of_a_plan() -> None:
    case, state, plan = planned(TEXT)
    idle = [
        EditStep(Edit((("events",),), words), "", ())
        for words in (("screen", "off"), ("facility", "local4"))
    ]
    long = replace(plan, steps=(idle[0], *plan.steps, idle[1]))
    change = write_change(DIALECT, state.records.text, [s.edit for s in long.steps])
    proof = prove(case, state, change, long)
    assert [e.words for e in proof.spare] == [step.edit.words for step in idle]
    assert prune(case, state, long, proof).steps == plan.steps


def test_what_a_change_does_to_interfaces_is_judged() -> None:
    policy = read_policy("policy: p\ncollectors: {a: {address: 198.51.100.21}}\nrules: [{rule: r, require: {source: identity}}]", "p")  # fmt: skip
    text = TEXT.replace(b"    screen off\n", b"    leave-from loop1\n")
    begun = Corrector(policy, TODAY).start(DEVICE, DIALECT, text, "x.conf")
    plan = make_plan(begun.state, begun.case.asked, frozenset())
    change = "link loop1\n    strike inet 192.0.2.9/32\n"
    assert not plan.steps and not begun.state.findings(begun.case.whole["source"])
    found = {p.name: p.why for p in prove(begun.case, begun.state, change, plan).properties}
    assert "loop1 has no address" in found["no worse"] and found["narrow"]


def test_the_planned_change_is_the_good_one() -> None:
    _, state, plan = planned(TEXT)
    assert write_change(DIALECT, state.records.text, [s.edit for s in plan.steps]) == GOOD
    assert failing(GOOD) == {}


@pytest.mark.parametrize(
    ("change", "expected"),
    [
        (
            "events\n    send 198.51.100.22 tcp 601 through informational\n",
            {"complete": "203.0.113.7 is a stranger", "settled": "1 more line"},
        ),
        (
            GOOD + "    send 198.51.100.21 udp 514 through informational\n",
            {"minimal": "'send 198.51.100.21 udp 514 through informational' could be left out"},
        ),
        (GOOD + "    facility local4\n", {"minimal": "'facility local4' could be left out"}),
        (
            GOOD.replace("through informational", "through error"),
            {
                "complete": "level still breaks: b misses warning",
                "no worse": "'r' asks level: from warning to informational; b misses warning",
                "settled": "1 more line",
            },
        ),
        (
            "events\n    strike send 198.51.100.21\n" + GOOD.removeprefix("events\n")
            + "    send 198.51.100.21 udp 514 through notice\n",
            {
                "never silent": "after 'send 198.51.100.21' nothing leaves for a right collector",
                "minimal": "'send 198.51.100.21' could be left out",
            },
        ),
        (GOOD + "    screen off\n", {"minimal": "'screen off' could be left out"}),
        (GOOD + "unit y\n", {"minimal": "'unit y' could be left out"}),
        (
            GOOD + "link loop1\n    strike inet\n",
            {
                "narrow": "other statements",
                "minimal": "'inet' could be left out",
                "reversible": "other statements",
            },
        ),
    ],
)  # fmt: skip
def test_every_property_can_fail(change: str, expected: dict[str, str]) -> None:
    found = failing(change)
    assert found.keys() == expected.keys(), found
    for name, why in expected.items():
        assert why in found[name]


@pytest.mark.parametrize(
    ("broken", "why"),
    [
        (lambda steps: steps[1:], "after the back-out "),
        (lambda steps: steps[:-1], "after the back-out "),
        (lambda steps: [*steps, steps[-1]], "the back-out cannot be applied: there is no "),
    ],
)
def test_a_back_out_that_is_wrong_is_noticed(
    monkeypatch: pytest.MonkeyPatch, broken: Callable[[list[EditStep]], list[EditStep]], why: str
) -> None:
    monkeypatch.setattr(
        "ivrel.core.correcting.properties.undo",
        lambda after, before: broken(list(undo(after, before))),
    )
    found = failing(GOOD)
    assert found.keys() == {"reversible"}
    assert found["reversible"].startswith(why)


def test_what_cannot_be_applied_proves_nothing() -> None:
    found = failing("events\n    strike send 192.0.2.1\n")
    assert found.keys() == PROPERTIES.keys()
    assert set(found.values()) == {"it cannot be applied: there is no 'send 192.0.2.1' to remove"}


def test_an_unproved_correction_is_not_written_as_if_it_were_good(tmp_path: object) -> None:
    from pathlib import Path

    from msgspec.structs import replace

    from ivrel.core.correcting import Property, correct
    from ivrel.core.delivery.corrections import CorrectionSet
    from ivrel.work.correction_writers import FolderWriter

    folder = Path(str(tmp_path)) / "out"

    def write(c: Correction, *unread: tuple[str, str]) -> None:
        with FolderWriter(folder, ("p", "p.yaml"), TODAY, keeps=False) as out:
            out.done(CorrectionSet(fleet="f", corrections=(out.take(c),), unread=unread))

    done = correct(DEVICE, DIALECT, TEXT, POLICY, TODAY, "x.conf")
    bad = replace(done, proof=(Property("settled", False, "1 more line"),))
    write(done)
    assert (folder / "x" / "change.txt").read_text() == GOOD
    write(bad, ("y", "not there"))
    assert sorted(p.name for p in (folder / "x").iterdir()) == [
        "unproved-backout.txt",
        "unproved-change.txt",
    ]
    sheet = (folder / "change-sheet.md").read_text()
    assert "**Not proved.**" in sheet and "settled: 1 more line" in sheet
    assert "- y: not there" in sheet and "| not readable | 1 |" in sheet


@pytest.mark.parametrize(
    ("gates", "told"),
    [
        (b"gate.1.act = stop\n", "'gate.1.tell = open' is not there again"),
        (b"gate.1.act = stop\ngate.1.tell = close\n", "'gate.1.tell = open' is not there again"),
        (b"gate.1.act = pass\ngate.1.tell = open\n", ""),  # what it lets through is not of export
    ],
)
def test_statements_of_traffic_rules_are_compared_where_texts_differ_in_them(
    gates: bytes, told: str
) -> None:
    skarn, before = Dialects()["skarn"], b"journal.active = yes\n%sport.1.name = a\n"
    texts = (before % b"gate.1.act = stop\ngate.1.tell = open\n", before % gates)
    old, new = (read_records(skarn, Text(text)) for text in texts)
    assert lost_statement(old, new) == told
    assert may_differ(old, new, "gate") and not may_differ(old, new, "interface")
    assert not may_differ(old, read_records(skarn, Text(texts[0] + b"x.y = 1\n")), "gate")
