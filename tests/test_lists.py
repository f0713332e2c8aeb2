"""Lists of values within a statement: read one by one, written as a whole."""

from __future__ import annotations

from pathlib import Path

import pytest
from conftest import TODAY, Run, tried
from hypothesis import given
from hypothesis import strategies as st

from ivrel.core import InputError, correct, read_dialect, read_policy, read_records
from ivrel.core.correcting.changes import apply_change
from ivrel.core.dialects import Dialect
from ivrel.core.fleet import Device
from ivrel.core.shapes.lists import ListElement, Listing

RULE = "rules:\n  - {rule: r, require: {export: on, collectors: [a, b], level: {from: error}}}\n"
POLICY = read_policy(
    "policy: p\ncollectors:\n  a: {address: 198.51.100.21}\n"
    f"  b: {{address: '2001:db8::22', port: 601, transport: tcp}}\n{RULE}",
    "policy.yaml",
)
DEVICE = Device("x", "router", "s", "tern", (), "192.0.2.9")


def dialect(shape: str, divided: str = ",", more: str = "", within: str = "") -> Dialect:
    """A made-up platform whose collectors stand in a list."""
    parts = " [{destination.port} [{destination.transport}]]"
    sign = " =" if shape in ("paths", "sections") else ""
    head, block = ("report.", "") if shape == "paths" else ("", "in: report, ")
    return read_dialect(
        f"""dialect: tern
about: a made-up platform
shape: {shape}
change: {{remove: unset{", inside: change" if shape == "braces" else ""}}}
{more}
series:
  - {{{block}says: {head}targets, divided: "{divided}", inside: ":/"{within}}}
spelling: {{switch: {{on: [yes], off: [no]}}}}
rows: {{destination: {{key: [address]}}}}
defaults: {{export: off, level: notice, destination.port: 514, destination.transport: udp}}
statements:
  - {{{block}says: "{head}enabled{sign} {{export}}"}}
  - {{{block}says: "{head}targets{sign} {{destination.address}}{parts}"}}
aside: [{{{block}starts: [{head}note]}}, {{starts: [other]}}]
""",
        "tern.yaml",
    )


PLATFORMS = {
    "blocks": (
        dialect("blocks"),
        "report\n    enabled yes\n    targets {}\n    note x\nother\n    targets {}\n",
    ),
    "words": (
        dialect("blocks", " "),
        "report\n    enabled yes\n    targets {}\nother\n    targets {}\n",
    ),
    "enclosed": (
        dialect("enclosed"),
        "open report\nenabled yes\ntargets {}\nshut\nopen other\ntargets {}\nshut\n",
    ),
    "braces": (
        dialect("braces", more="wrapper: box"),
        'box "x" {{\n  report {{ enabled yes; targets {}; note x; }}\n  other {{ targets {}; }}\n}}\n',
    ),
    "brackets": (
        dialect("braces", " ", "wrapper: box", ', within: "[]"'),
        'box "x" {{\n  report {{ enabled yes; targets [ {} ]; }}\n  other {{ targets [ {} ]; }}\n}}\n',
    ),
    "paths": (
        dialect("paths"),
        "report.enabled = yes\nreport.targets = {}\nreport.note = x\nother.targets = {}\n",
    ),
    "sections": (
        dialect("sections", within=', within: "[]"'),
        "[report]\nenabled = yes\ntargets = [{}]\nnote = x\n\n[other]\ntargets = [{}]\n",
    ),
}
# Addresses that differ, each with what may stand behind it.
ELEMENTS = st.lists(
    st.sampled_from(
        (
            ("198.51.100.21", ":514", ":5514/udp", ":514/udp"),
            ("2001:db8::22", ":601/tcp", ":601"),
            ("203.0.113.7", ":514/udp", ":1"),
            ("collector.example", ":514/udp", ":1/tcp"),
        )
    ).flatmap(lambda one: st.tuples(st.just(one[0]), st.sampled_from(("", *one[1:])))),
    min_size=1,
    max_size=4,
    unique_by=lambda one: one[0],
)


@pytest.mark.parametrize("name", PLATFORMS)
@given(drawn=ELEMENTS)
@tried(60)
def test_corrections_of_lists_are_proved_and_keep_what_need_not_change(
    name: str, drawn: list[tuple[str, str]]
) -> None:
    tern, form = PLATFORMS[name]
    elements = []
    for address, more in drawn:
        # Brackets that are not needed stay, too, where an element stays.
        bracketed = more and ("::" in address or len(drawn) == 3)
        elements.append(f"[{address}]{more}" if bracketed else address + more)
    between = " " if name in ("words", "brackets") else ", " if len(elements) % 2 else ","
    text = form.format(between.join(elements), between.join(elements)).encode()
    done = correct(DEVICE, tern, text, POLICY, TODAY, "x")
    assert all(p.holds for p in done.proof), (text.decode(), done.change, done.proof)
    rows = read_records(tern, done.corrected).rows("destination")
    assert set(rows) == {("198.51.100.21",), ("2001:db8::22",)}
    assert all(v.verdict == "meets" for v in done.after.verdicts)
    if not done.changes:
        return
    assert apply_change(tern, text, done.change, "change") == done.corrected
    back = apply_change(tern, done.corrected, done.backout, "back-out")
    before, after = (read_records(tern, data).rows("destination") for data in (text, back))
    assert before.keys() == after.keys()
    # The list of another block is none of export's, and an element that is right stays as it is.
    said = done.corrected.decode()
    assert text.decode().split("other")[1] in said
    for element in ("198.51.100.21:514", "[198.51.100.21]:514", "[2001:db8::22]:601/tcp"):
        assert element in said or element not in elements


@pytest.mark.parametrize("name", PLATFORMS)
@pytest.mark.parametrize("empty", ["", "[]", "[", "]", ",", "[,]"])
def test_an_empty_list_is_not_understood_or_none(name: str, empty: str) -> None:
    tern, form = PLATFORMS[name]
    done = correct(DEVICE, tern, form.format(empty, empty).encode(), POLICY, TODAY, "x")
    verdict = next(v for v in done.before.verdicts if v.setting == "collectors")
    assert verdict.verdict in ("unknown", "breaks") and all(p.holds for p in done.proof)
    # Also where the signs around it are missing.
    assigned = Listing((), ("targets", "="), ",", ":/", "[]")
    assert assigned.elements(("targets", "=", "")) is None


@pytest.mark.parametrize(
    ("said", "parts"),
    [
        ("a:1/udp, b", [("a", "1", "udp"), ("b",)]),
        ("[2001:db8::1]:5/tcp", [("2001:db8::1", "5", "tcp")]),
        ("2001:db8::1,[2001:db8::2]", [("2001:db8::1",), ("2001:db8::2",)]),
        ("a:1:2", None),  # a sign too many
        ("a/udp", None),  # a part that was left out in between
        ("a,,b", None),
        ("a:", None),
        ("a b", None),
        ("[2001:db8::1]x", None),
    ],
)
def test_an_element_is_told_apart_or_not_at_all(
    said: str, parts: list[tuple[str, ...]] | None
) -> None:
    listing = Listing((), ("to",), ",", ":/")
    found = listing.elements(("to", *said.split(" ")))
    assert (None if found is None else [one.parts for one in found]) == parts
    if parts:
        again = listing.elements(listing.words([ListElement(one) for one in parts], ()))
        assert again is not None and [one.parts for one in again] == parts


def test_what_is_not_understood_or_not_there_is_told(tmp_path: Path, ivrel: Run) -> None:
    tern, form = PLATFORMS["blocks"]
    strange = correct(DEVICE, tern, form.format("a:1:2", "x").encode(), POLICY, TODAY, "x")
    assert not strange.changes
    verdicts = {v.setting: v.verdict for v in strange.before.verdicts}
    assert verdicts == {"export": "meets", "collectors": "unknown", "level": "unknown"}
    text = form.format("198.51.100.21", "x").encode()
    with pytest.raises(InputError, match="there is no 'targets 198"):
        apply_change(tern, text, "report\n    unset targets 198.51.100.22\n", "c")
    gone = apply_change(tern, text, "report\n    unset targets 198.51.100.21\n", "c")
    assert b"    targets 198" not in gone and b"note x" in gone
    wrong = tmp_path / "dialects" / "t.yaml"
    wrong.parent.mkdir()
    head = "dialect: t\nabout: x\nchange: {remove: x}\nstatements:\n  - {in: a, says: 'x = {export}'}\n"
    for more, told in (
        ("shape: tree\nseries: [{says: a}]\n", "statements of the shape 'tree' hold no lists"),
        (
            "shape: paths\nseries: [{says: a, within: '['}]\n",
            "expected two signs, as '[]', not '['",
        ),
    ):
        wrong.write_text(head + more)
        assert told in ivrel("dialect", "check", "t", "-w", tmp_path, code=2).stderr
