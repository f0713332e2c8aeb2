"""Every shape: statements with their lines, changes as the platform would carry them out, texts
that are none.
"""

from __future__ import annotations

import contextlib
import json
import re
from collections import Counter
from pathlib import Path

import msgspec
import pytest
from conftest import TODAY, tried
from hypothesis import assume, example, given
from hypothesis import strategies as st

from ivrel.core import InputError, Unreadable, read_records
from ivrel.core.correcting import correct
from ivrel.core.correcting.changes import apply_change, write_change
from ivrel.core.correcting.difference import differing
from ivrel.core.dialects.load import read_dialect
from ivrel.core.settings import Scope, read_settings
from ivrel.core.settings.relevance import bearing
from ivrel.core.shapes import SHAPES, indented, paths
from ivrel.core.shapes.braces import Braces
from ivrel.core.shapes.nodes import parse, tops
from ivrel.core.shapes.shape import Edit, Shape
from ivrel.core.text.alike import runs_alike
from ivrel.core.text.text import Text
from ivrel.core.vocabulary.errors import Refused
from ivrel.sources.dialects import Dialects
from ivrel.sources.workspace import WorkspaceFiles

DIALECTS = Dialects()
ROOT = Path(__file__).parent.parent / "src/ivrel"
TREE = {"lists": {"sink": ("id",), "row": ("a", "b")}, "wrapper": ("all",), "leaves": "attributes"}


BUILT: dict[str, dict[str, object]] = {"tree": {**TREE}, "braces": {"wrapper": "all"}}


def shape(name: str, **more: object) -> Shape:
    return SHAPES[name].load().built({"remove": "drop", **BUILT.get(name, {}), **more})


def statements(name: str, text: str) -> list[tuple[str, str, int]]:
    grammar = shape(name)
    return [
        (" / ".join(" ".join(words) for words in path), raw.decode(), line)
        for path, raw, line in grammar.everything(Text(text.encode()))
    ]


@pytest.mark.parametrize(
    ("name", "text", "expected"),
    [
        (
            "blocks",
            "a 1\n  b 2\n    c 3\n  d 4\n# e\nf\n",
            [("a 1 / b 2", "c 3", 3), ("a 1", "d 4", 4), ("", "f", 6)],
        ),
        ("blocks", "a\n\tb\n        c\n", [("a", "b", 2), ("a", "c", 3)]),
        (
            "braces",
            "all x { a { b 1; c; }\n d 2; }",
            [("a", "b 1", 1), ("a", "c", 1), ("", "d 2", 2)],
        ),
        ("braces", 'all x { # { no\n a "b { c"; }', [("", 'a "b { c"', 2)]),
        ("braces", "all x { a { b 1", [("a", "b 1", 1)]),
        (
            "enclosed",
            "f 1\nopen a 1\n b 2\n# shut\nopen c\n\nd 3\nshut c\nopen e\nshut\nshut a\nopen\n",
            [
                ("", "f 1", 1),
                ("a 1", "b 2", 3),
                ("a 1 / c", "d 3", 7),
                ("a 1", "e", 9),
                ("", "open", 12),
            ],
        ),
        ("paths", "a.b = 1\n\n# no\n  c.d.e = x y\n", [("", "a.b = 1", 1), ("", "c.d.e = x y", 4)]),
        ("sections", "[a.1]\nb = 2\n[c]\n", [("", "a.1", 1), ("a 1", "b = 2", 2), ("", "c", 3)]),
        (
            "tree",
            '<all>\n<t x="1">\n<sink id="s" y="2"/></t></all>',
            [("", "t", 2), ("t", "x = 1", 2), ("t", "sink s", 3), ("t / sink s", "y = 2", 3)],
        ),
        (
            "tree",
            '{"all": {\n"m:t": {"x": 1,\n "row": [{"a": "p", "b": "m:q", "z": [3, 4]}], "on": true}}}',
            [
                *(
                    ("", "m:t", 2),
                    ("m:t", "x = 1", 2),
                    ("m:t", "row p m:q", 3),
                    ("m:t", "on = true", 3),
                ),
                *(("m:t / row p m:q", "z = 3", 3), ("m:t / row p m:q", "z = 4", 3)),
            ],
        ),
    ],
)
def test_statements_know_their_path_and_line(
    name: str, text: str, expected: list[tuple[str, str, int]]
) -> None:
    assert statements(name, text) == expected


@pytest.mark.parametrize("name", SHAPES)
@given(words=st.lists(st.from_regex(r"[A-Za-z0-9_-]{1,8}", fullmatch=True), min_size=1, max_size=4))
@tried(40)
def test_words_survive_joining_and_splitting(name: str, words: list[str]) -> None:
    grammar = shape(name)
    if name in ("paths", "sections") and len(words) > 1:
        words = [*words[:1], "=", " ".join(words[1:])]
    assume(name != "tree" or words[1:2] != ["="])
    assert grammar.split(grammar.join(words)) == words


# Of each shape: a text around a statement, and where that stands.
AROUND = {
    "blocks": ("part\n    {}\n    more 1\n", (("part",),), ("old",)),
    "enclosed": ("open part\n{}\nmore 1\nshut\n", (("part",),), ("old",)),
    "braces": ('all "x" {{ part {{ {}; more 1; }} }}\n', (("part",),), ("old",)),
    "paths": ("{}\npart.more = 1\n", (), ("part", "old", "=")),
    "sections": ("[part]\n{}\nmore = 1\n", (("part",),), ("old", "=")),
}
SIGNS = st.text(st.sampled_from("\"\\ ab#;={}'"), min_size=1, max_size=6)
VALUES = SIGNS | st.text(st.characters(min_codepoint=32, max_codepoint=126), min_size=1)


@pytest.mark.parametrize("name", AROUND)
@given(VALUES, VALUES)
@tried(150)
def test_whatever_a_value_holds_it_is_read_as_it_was_written(name: str, old: str, new: str) -> None:
    text, path, words = AROUND[name]
    grammar = shape(name)
    data = text.format(grammar.join([*words, old])).encode()
    assert statement(grammar, data) == (path, (*words, old))
    identity = lambda path, words: (path, words[0], words[-2:-1])  # noqa: E731
    done = grammar.apply(Text(data), [Edit(path, (*words, new))], identity)
    assert statement(grammar, done) == (path, (*words, new))
    assert b"more" in done and done.count(b"old") == 1 + new.count("old")


def statement(grammar: Shape, data: bytes) -> tuple[object, tuple[str, ...]]:
    """Return the first statement about 'old', with where it stands."""
    said = (
        (path, tuple(grammar.split(raw.decode())))
        for path, raw, _ in grammar.everything(Text(data))
    )
    return next((path, words) for path, words in said if "old" in words[:2])


@pytest.mark.parametrize(
    ("said", "value", "again"),
    [
        ('"a \\"b\\" \\\\c"', 'a "b" \\c', '"x y"'),
        ('"a" and "b"', '"a" and "b"', "x y"),
        (r"a\b", r"a\b", "x y"),
        (r'"C:\new"', r"C:\new", '"x y"'),
    ],
)
def test_quotes_of_assignments_hold_escapes_and_stay(said: str, value: str, again: str) -> None:
    for name in ("paths", "sections"):
        text, path, words = AROUND[name]
        grammar = shape(name)
        data = text.format(f"{'.'.join(words[:-1])}={said}").encode()
        assert statement(grammar, data) == (path, (*words, value))
        done = grammar.apply(
            Text(data), [Edit(path, (*words, "x y"))], lambda path, words: words[:-1]
        )
        assert f"old={again}\n" in done.decode()


@given(st.lists(st.sampled_from(b"abcdefgh"), max_size=30), st.data())
@tried(200)
def test_lines_in_common_are_found_in_their_order(signs: list[int], data: st.DataObject) -> None:
    one = [bytes((sign,)) for sign in signs]
    other = data.draw(st.permutations(one)) if data.draw(st.booleans()) else one[::2]
    at = there = 0
    for a, c, length in runs_alike(one, other):
        assert a >= at and c >= there and length and one[a : a + length] == other[c : c + length]
        at, there = a + length, c + length
    # Where each line stands once, all that stay are found, wherever others come and go.
    one = [b"%d" % n for n in range(60)]
    gone, fresh = data.draw(st.sets(st.integers(0, 59))), data.draw(st.sets(st.integers(0, 59)))
    other = [x for n, y in enumerate(one) for x in ([b"x"] * (n in fresh) + [y] * (n not in gone))]
    assert sum(length for _, _, length in runs_alike(one, other)) == 60 - len(gone)


HOLLIN = 'unit "x" {\n    record {\n        keeper { severity notice; to a; }\n        collector a { inet 198.51.100.21; }\n    }\n}\n'
MARL = "[sender]\nactive = yes\n\n[collector.1]\ninet = 198.51.100.21\nleast = notice\n"
OSIER = '<osier>\n  <sinks>\n    <sink id="a" inet="198.51.100.21" port="5514"/>\n  </sinks>\n</osier>\n'
IETF = '{"ietf-syslog:syslog": {"actions": {"remote": {"destination": [{"name": "a", "udp": {"address": "198.51.100.21"}}]}}}}'
NETCONF = "urn:ietf:params:xml:ns:netconf:base:1.0"
SYSLOG = "urn:ietf:params:xml:ns:yang:ietf-syslog"
IETF_XML = (
    f'<data><syslog xmlns="{SYSLOG}"><actions><remote><destination><name>a</name><udp>'
    "<address>198.51.100.21</address></udp></destination></remote></actions></syslog></data>"
)


FIVE = "events\n" + "".join(f"    send 192.0.2.{n} udp 514 through error\n" for n in range(5))


def remote(inside: str) -> str:
    return (
        f'<nc:config xmlns:nc="{NETCONF}"><syslog xmlns="{SYSLOG}"><actions><remote>{inside}</remote></actions>'
        "</syslog></nc:config>"
    )


def patch(*edits: tuple[str, str, object]) -> str:
    listed = [
        {
            "edit-id": str(n),
            "operation": what,
            "target": target,
            **({"value": value} if value else {}),
        }
        for n, (what, target, value) in enumerate(edits)
    ]
    return json.dumps({"ietf-yang-patch:yang-patch": {"patch-id": "p", "edit": listed}})


DESTINATION = "/ietf-syslog:syslog/actions/remote/destination=a"


@pytest.mark.parametrize(
    ("dialect", "text", "change", "setting", "expected"),
    [
        ("hollin", HOLLIN, "alter { record { keeper { severity error; } } }", "level", "through error"),
        ("hollin", HOLLIN, "alter { record { keeper { drop to a; } } }", "level", "nothing"),
        ("hollin", HOLLIN, "alter { record { drop collector a; } }", "collectors", ""),
        ("hollin", HOLLIN, "alter { record { collector b { inet 192.0.2.2; } } }", "collectors", "192.0.2.2 udp 514"),
        ("hollin", "unit x { }", "alter { record { collector b { inet 192.0.2.2; } } }", "collectors", "192.0.2.2 udp 514"),
        ("marl", MARL, "[collector.1]\ninet = 192.0.2.2\n", "level", "through warning"),
        ("marl", MARL, "[without collector.1]\n", "collectors", ""),
        ("marl", MARL, "[collector.2]\ninet = 192.0.2.2\nport = 601\n", "collectors", "192.0.2.2 udp 601"),
        ("osier", OSIER, '<alter><sinks><sink id="a" drop="port"/></sinks></alter>', "collectors", "198.51.100.21 udp 514"),
        ("osier", OSIER, '<alter><sinks><sink id="a" drop="all"/></sinks></alter>', "collectors", ""),
        ("osier", OSIER, '<alter><sinks on="no"/></alter>', "export", "off"),
        ("ietf-syslog", IETF, patch(("remove", DESTINATION, None)), "collectors", ""),
        (
            "ietf-syslog",
            IETF,
            patch(("merge", DESTINATION, {"destination": [{"name": "a", "facility-override": "ietf-syslog:local3"}]})),
            "facility",
            "local3",
        ),
        ("ietf-syslog", IETF, patch(("replace", f"{DESTINATION}/udp/port", {"port": 601})), "collectors", "198.51.100.21 udp 601"),
        # One case of a choice takes the place of the other.
        (
            "ietf-syslog",
            IETF,
            patch(("merge", f"{DESTINATION}/tls/address", {"address": "192.0.2.2"})),
            "collectors",
            "192.0.2.2 tls 6514",
        ),
        ("ietf-syslog", IETF_XML, remote("<destination><name>a</name><tls><address>192.0.2.2</address></tls></destination>"), "collectors", "192.0.2.2 tls 6514"),
        ("ietf-syslog", IETF_XML, remote('<destination nc:operation="delete"><name>a</name></destination>'), "collectors", ""),
        ("ietf-syslog", IETF_XML, remote("<destination><name>a</name><facility-override>local2</facility-override></destination>"), "facility", "local2"),
    ],
)  # fmt: skip
def test_changes_are_carried_out_as_the_platform_would(
    dialect: str, text: str, change: str, setting: str, expected: str
) -> None:
    after = apply_change(DIALECTS[dialect], text.encode(), change, "change")
    facts = read_settings(Scope(None, read_records(DIALECTS[dialect], after), {}))
    found = [fact.value for fact in facts if fact.setting == setting]
    assert (expected in found) if expected else not found, after.decode()


@pytest.mark.parametrize(
    ("dialect", "text", "change", "expected"),
    [
        ("hollin", HOLLIN, "alter { record {", "c:1:1: the braces do not pair"),
        ("hollin", HOLLIN, "record { }", "c:1:1: expected one block 'alter { … }'"),
        ("hollin", HOLLIN, "alter { record { drop collector z; } }", "c:1:1: there is no 'collector z' to remove"),
        ("hollin", HOLLIN, "alter { record { drop; } }", "c:1:1: 'drop' without the statement to remove"),
        ("marl", MARL, "active = no\n", "c:1:1: expected a section's header first"),
        ("marl", MARL, "[sender]\nactive\n", "c:2:1: expected 'name = value'"),
        ("marl", MARL, "[without sender]\nactive = no\n", "c:2:1: a section that goes holds nothing"),
        ("marl", MARL, "[without gate]\n", "c:1:1: there is no 'gate' to remove"),
        ("quern", "events\n", FIVE, "c:6:1: quern holds 4"),
        ("osier", OSIER, "<other/>", "c:1:1: expected a <alter>, not <other>"),
        ("osier", OSIER, "<alter><sinks>", "c:1:1: not XML: "),
        ("osier", OSIER, "send x", "c:1:1: not XML: "),
        ("ietf-syslog", IETF, "{}", "c:1:1: expected a YANG Patch"),
        ("ietf-syslog", IETF, '{"a": ', "c:1: not JSON: "),
        ("ietf-syslog", IETF, patch(("move", "/x", None)), "c:1:1: operation 'move' is not known"),
        ("ietf-syslog", IETF, patch(("merge", "/x", None)), "c:1:1: an edit without 'value'"),
        ("ietf-syslog", IETF, patch(("remove", f"{DESTINATION[:-1]}z", None)), "there is no 'destination z' to remove"),
        ("quern", "events\n", "  " * 900 + "x\n", "there is no"),
        ("skarn", "a.b = 1\n", "forget\n", "c:1:1: 'forget' without the path to remove"),
        ("skarn", "a.b = 1\n", "what is this\n", "c:1:1: expected 'path = value' or 'forget path'"),
    ],
)  # fmt: skip
def test_changes_that_are_none_are_refused_with_their_line(
    dialect: str, text: str, change: str, expected: str
) -> None:
    if expected == "there is no":
        assert apply_change(DIALECTS[dialect], text.encode(), change, "c")
        return
    with pytest.raises(InputError) as caught:
        apply_change(DIALECTS[dialect], text.encode(), change, "c")
    told = str(caught.value)
    assert expected.removeprefix("c:1: ") in told and told.startswith("c:"), told


BOMB = '<!DOCTYPE b [<!ENTITY a "aaaaaaaaaa"><!ENTITY c "&a;&a;&a;">]><data><syslog>&c;</syslog></data>'


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        (BOMB, "it has a document type; entities are not expanded"),
        ('<!DOCTYPE x SYSTEM "file:///etc/passwd"><data/>', "it has a document type"),
        ("<data><syslog></data>", "not XML: line 1: tags, names"),
        ('{"a": 1', "not JSON: the text ends too early"),
        ('{"a": 1}}', "not JSON: line 1: something behind the end"),
        ('{\n"a" 1}', "not JSON: line 2: a value or name is not expected"),
        ('{"syslog": ' + "[" * 300, "nested deeper than 200 levels"),
        ('{"other": ' + "[" * 100_000, "cannot be read"),
        ("[1, 2]", "not a JSON object"),
        ("events\n", "neither XML nor JSON"),
        ("", "neither XML nor JSON"),
        ('{"syslog": {"x": 1e}}', "not JSON: line 1: a value that is none"),
    ],
)
def test_trees_that_are_none_are_one_clear_line(text: str, expected: str) -> None:
    with pytest.raises(Unreadable) as caught:
        read_records(DIALECTS["ietf-syslog"], text.encode())
    assert expected in str(caught.value) and "\n" not in str(caught.value)


def test_variations_of_the_open_models_read_alike() -> None:
    plain = {
        "name": "a",
        "udp": {"address": "198.51.100.21", "port": 601},
        "facility-override": "local4",
    }
    prefixed = {f"ietf-syslog:{k}": v for k, v in plain.items()} | {
        "ietf-syslog:facility-override": "ietf-syslog:local4"
    }
    readings = []
    for wrapped in (False, True):
        for entry in (plain, prefixed):
            whole: object = {
                "ietf-syslog:syslog": {"actions": {"remote": {"destination": [entry]}}}
            }
            text = json.dumps({"data": whole} if wrapped else whole).encode()
            facts = read_settings(Scope(None, read_records(DIALECTS["ietf-syslog"], text), {}))
            readings.append([(f.setting, f.key, f.value) for f in facts])
    assert all(reading == readings[0] for reading in readings)
    assert ("collectors", "a", "198.51.100.21 udp 601") in readings[0] and (
        "facility",
        "a",
        "local4",
    ) in readings[0]


def test_a_pattern_match_is_in_doubt_not_guessed() -> None:
    text = IETF.replace('"name": "a",', '"name": "a", "pattern-match": "^link",')
    unparsed = read_records(DIALECTS["ietf-syslog"], text.encode()).unparsed
    assert [s.text for s in unparsed] == ["pattern-match = …"] and "level" in bearing(
        DIALECTS["ietf-syslog"], unparsed[0].strange
    )


@pytest.mark.parametrize("name", [n for n in SHAPES if n not in ("tree", "rsyslog")])
def test_a_change_reads_as_it_was_written(name: str) -> None:
    grammar = shape(name, **({"inside": "alter"} if name == "braces" else {}))
    value = ("a", "=", "1") if name in ("paths", "sections") else ("a", "1")
    path = (
        (("p",), ("q", "r"))
        if name in ("blocks", "braces")
        else (("p", "r"),)
        if name == "sections"
        else ()
    )
    edits = [Edit(path, value), Edit(path, ("b", *value[1:])), Edit(path, ("a",), True)][
        : 2 if name == "sections" else 3
    ]
    text = grammar.write_change(Text(b""), edits, lambda p, w: (p, w[:1]))
    read = grammar.read_change(text, "c")
    again = grammar.fine(Text(b""), read, lambda p, w: (p, w[:1]))
    assert [(e.path, e.words, e.removes) for e in again] == [
        (e.path, e.words, e.removes) for e in edits
    ]


def test_nothing_to_change_is_no_text() -> None:
    assert all(write_change(DIALECTS[name], Text(b""), []) == "" for name in DIALECTS.files)


def enclosed(text: str) -> str:
    """Return a text of the shape `blocks` in the shape `enclosed`."""
    out: list[str] = []
    lines = text.splitlines()
    depths = [len(line) - len(line.lstrip()) if line.strip() else -1 for line in lines]
    open_at: list[int] = []
    for n, line in enumerate(lines):
        behind = next((d for d in depths[n + 1 :] if d >= 0), -1)
        is_header = depths[n] >= 0 and not line.lstrip().startswith("#") and behind > depths[n]
        out.append(f"{line[: depths[n]]}open {line.strip()}" if is_header else line)
        if is_header:
            open_at.append(depths[n])
        elif depths[n] >= 0:
            while open_at and behind <= open_at[-1]:
                out.append(f"{' ' * open_at.pop()}shut")
    return "\n".join(out) + "\n"


def test_words_that_open_and_shut_say_what_indentation_says(workspace: WorkspaceFiles) -> None:
    """The example's routers, written in the other shape: the same facts, the same corrections."""
    file = Path(str(DIALECTS["quern"].file))
    text = (ROOT / "platforms" / file.name).read_text().replace("shape: blocks", "shape: enclosed")
    text = text[: text.index("\nexamples:")] + "\nopens: open\nshuts: shut\n"
    dialect, quern = read_dialect(text, "quern.yaml"), DIALECTS["quern"]
    number = 0
    for device in workspace.fleet.devices:
        if device.platform != "quern":
            continue
        number += 1
        data, _ = workspace.text(device)
        other = enclosed(data.decode()).encode()
        here = read_settings(Scope(device, read_records(quern, data), {}))
        there = read_settings(Scope(device, read_records(dialect, other), {}))
        assert [(f.setting, f.key, f.value, f.default) for f in here] == [
            (f.setting, f.key, f.value, f.default) for f in there
        ]
        right = correct(device, quern, data, workspace.policy, TODAY, "x")
        found = correct(device, dialect, other, workspace.policy, TODAY, "x")
        assert [(c.line, c.inside, c.removes) for c in found.changes] == [
            (c.line, c.inside, c.removes) for c in right.changes
        ]
        assert found.proved == right.proved
        after = apply_change(quern, data, right.change, "c")
        assert apply_change(dialect, other, found.change, "c") == enclosed(after.decode()).encode()
        assert found.change == enclosed(right.change) if right.change else not found.change
    assert number == 10


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("open a\nb 1\n", "at its end, 1 of its blocks are not shut"),
        ("open a\nshut\nshut\n", "line 3: 'shut' shuts nothing"),
        ("open a\n" * 300, "line 201: nested deeper than 200 levels"),
    ],
)
def test_blocks_that_do_not_pair_are_not_read(text: str, said: str) -> None:
    grammar = shape("enclosed")
    with pytest.raises(Unreadable, match=re.escape(said)):
        list(grammar.find(Text(text.encode()), [("a",)]))
    with pytest.raises(InputError, match=re.escape(f"c:1:1: {said}")):
        grammar.read_change(text, "c")


A, NEW = (("a",),), (("z",), ("y", "1"))


@pytest.mark.parametrize(
    ("text", "edit", "expected"),
    [
        ("open a\nb 1\nc\nb 2\nshut\n", Edit(A, ("b",), True), "open a\nc\nshut\n"),
        ("open a\nb 1\nopen b 2\nc\nshut\nshut\n", Edit(A, ("b",), True), "open a\nshut\n"),
        ("open a\nb 1\nb 2\nshut\n", Edit(A, ("b", "3")), "open a\nb 1\nb 3\nshut\n"),
        ("open a\nopen b 1\nc\nshut\nshut\n", Edit(A, ("b", "2")), "open a\nopen b 1\nc\nshut\nb 2\nshut\n"),
        ("open a\nb 1\nshut\nopen a\nb 2\nshut\n", Edit(A, ("c",)), "open a\nb 1\nshut\nopen a\nb 2\nc\nshut\n"),
        ("open a\nb 1\nshut\nopen a\nb 2\nshut\n", Edit(A, ("b",), True), "open a\nshut\nopen a\nshut\n"),
        ("x\n", Edit(NEW, ("d",)), "x\nopen z\n    open y 1\n        d\n    shut\nshut\n"),
        ("open z\n  e\nshut\nx\n", Edit(NEW, ("d",)), "open z\n  e\n  open y 1\n      d\n  shut\nshut\nx\n"),
        ("open a\r\n\tb 1\r\nshut now\r\n", Edit(A, ("c",)), "open a\r\n\tb 1\r\n\tc\r\nshut now\r\n"),
        ("open a\n# b 1\nshut", Edit(A, ("b", "2")), "open a\n    b 2\n# b 1\nshut"),
    ],
)  # fmt: skip
def test_edits_of_enclosed_blocks(text: str, edit: Edit, expected: str) -> None:
    grammar = shape("enclosed")
    after = grammar.apply(Text(text.encode()), [edit], lambda path, words: (path, words[:1]))
    assert after.decode() == expected
    # What is written of an edit is read as the same.
    change = grammar.write_change(Text(text.encode()), [edit], lambda path, words: words)
    assert [(e.path, e.words, e.removes) for e in grammar.read_change(change, "c")] == [
        (edit.path, edit.words, edit.removes)
    ]


def test_there_is_nothing_to_remove_in_enclosed_blocks() -> None:
    for path in (A, NEW, ()):
        with pytest.raises(Refused, match="there is no 'q' to remove"):
            shape("enclosed").apply(
                Text(b"open a\nb\nshut\n"), [Edit(path, ("q",), True)], lambda p, w: w
            )


LINES: dict[str, list[bytes]] = {
    "blocks": [b"a", b"b", b'"a"', b"a 1", b"  c 1", b"  c 2", b"    d", b"\tc 1", b" \t d", b"#x", b"  # y", b"", b"   ", b"\x01z", b"\x0cq", b"c 1", b"  a", b"    c 1"],
    "paths": [b"a.b = 1", b"a.c = 2", b"  a.b = 3", b"b.c = 1", b"a.b.c = 4", b"#a.b = 1", b"", b"ab.c = 1", b"a.b", b'a.c = "2 3"', b"\x0b a.c = 5"],
    "sections": [b"[a]", b"[a.b]", b"  [b]", b"[c", b"[a] x", b"[b] # y", b"c = 1", b"  d = 2", b"# e", b"", b"c=1"],
    "braces": [b"a;", b"b 1;", b"b { c; }", b"b { c; d; }", b"b 1 { e { f; } }", b"b 1 { e { } }", b"b { }", b"# x", b'a "{";'],
    "tree": [b'<row a="1" b="2"/>', b'<row a="1" b="2" c="3"/>', b'<row a="1" b="2"><x y="1"/></row>', b"<x/>", b'<x z="1"/>', b"<!-- c -->", b'<sink id="s"/>'],
}  # fmt: skip
EDITS = {
    "blocks": [Edit((("a",),), ("c", "1")), Edit((("a",), ("c", "1")), ("d",)), Edit((("a",),), ("c",), True), Edit((), ("a",), True), Edit((), ("b",)), Edit((("b",),), ("c", "3")), Edit((("a", "1"),), ("e",))],
    "paths": [Edit((), tuple(words.split())) for words in ("a b = 7", "a c = 8", "a b c = 9", "b c = 1", "b d = 2", "x y = 3")]
    + [Edit((), tuple(words.split()), True) for words in ("a b", "a", "b c", "a b c")],
}  # fmt: skip
SOME = st.lists(st.integers(0, 40), max_size=12)


def text_of(name: str, numbers: list[int], end: bytes) -> bytes:
    lines = LINES[name]
    said = b"".join(lines[n % len(lines)] + end for n in numbers)
    return b"<all>" + said + b"</all>" if name == "tree" else said


@tried(500)
@given(st.sampled_from(sorted(LINES)), SOME, SOME, SOME, SOME, st.sampled_from([b"\n", b"\r\n"]))
def test_the_parts_that_differ_are_those_of_the_whole_texts(
    name: str, first: list[int], one: list[int], other: list[int], last: list[int], end: bytes
) -> None:
    grammar = shape(name, comment="#")
    dialect = msgspec.structs.replace(DIALECTS["quern"], shape=grammar)
    texts = [Text(text_of(name, first + middle + last, end)) for middle in (one, other)]
    gone, come = ([at[:2] for at in some] for some in differing(dialect, *texts))
    old, new = ([at[:2] for at in grammar.everything(text)] for text in texts)
    # They are what both have in common, with these between, and there is no more in common. Of a
    # tree, what stands at its top comes first.
    if name == "tree":
        assert Counter(old) - Counter(gone) == Counter(new) - Counter(come)
    else:
        assert any(
            old == [*old[:n], *gone, *old[n + len(gone) :]]
            and new == [*old[:n], *come, *old[n + len(gone) :]]
            for n in range(len(old) + 1)
        )
    assert not gone or not come or (gone[0] != come[0] and gone[-1] != come[-1])


def test_a_new_assignment_stands_behind_its_like() -> None:
    text = Text(b"a.b = 1\na.c.d = 2\na.c.e = 3\na.f = 4\nz.y = 1\n")
    edits = [Edit((), tuple(words.split())) for words in ("a c g = 5", "a h = 6", "q r = 7")]
    after = shape("paths").apply(text, edits, lambda path, words: words)
    places = [line.partition(b" ")[0] for line in after.splitlines()]
    assert places == [b"a.b", b"a.c.d", b"a.c.e", b"a.c.g", b"a.f", b"a.h", b"z.y", b"q.r"]


@tried(500)
@given(st.sampled_from(sorted(EDITS)), SOME, SOME, st.sampled_from([b"\n", b"\r\n"]), st.booleans())
def test_edits_together_are_edits_one_by_one(
    name: str, numbers: list[int], edits: list[int], end: bytes, whole: bool
) -> None:
    grammar, every = shape(name, comment="#"), EDITS[name]
    # Two lines always stay, so that it is known how lines end.
    one_by_one = (
        b"q.q = 1"
        + end
        + b"q.r = 1"
        + end
        + text_of(name, numbers, end).removesuffix(b"" if whole else end)
    )

    def identity(path: object, words: tuple[str, ...]) -> object:
        return path, words[:1]

    data, done = one_by_one, []
    for edit in (every[n % len(every)] for n in edits):
        with contextlib.suppress(Refused):
            one_by_one = grammar.apply(Text(one_by_one), [edit], identity)
            done.append(edit)
    together = grammar.apply(Text(data), done, identity)
    assert list(filter(None, together.split(end))) == list(filter(None, one_by_one.split(end)))


BRACES = st.lists(st.sampled_from(["a", "b 1", "all", "all {", "all {", '"a b"', '"a\\"{"', '"{"', '"#"', "{", "}", ";", "{", "}", ";", "# x\n", "# x;\n", '# "\n', "a#b", '"', "\\", "\n", " ", "c;\n"]), max_size=24)  # fmt: skip


@tried(800)
@given(BRACES, st.booleans())
@example(['"a\\"{\\"b"', "}"], False)
@example(["all {", "all {", "a", ";", "}", "}"], True)
def test_the_top_of_a_text_in_braces_is_told_from_its_signs(
    tokens: list[str], wrapped: bool
) -> None:
    text = Text(" ".join(tokens).encode(), whole=True)
    grammar = shape("braces", comment="#", wrapper="all" if wrapped else "")
    assert isinstance(grammar, Braces)
    whole = [
        child
        for node in parse(text.data, grammar.signs)
        for child in (node.children if wrapped and node.words[:1] == ("all",) else (node,))
    ]
    found = tops(text.data, grammar.signs)
    if found is not None:
        assert list(found) == [msgspec.structs.replace(node, children=()) for node in whole]
    with contextlib.suppress(Unreadable):
        numbers = range(len(grammar.tops(text)))
        assert grammar.statements_of(text, numbers) == list(grammar.everything(text))


@tried(800)
@given(
    st.sampled_from(sorted(EDITS)),
    SOME,
    st.lists(st.integers(0, 40), min_size=1, max_size=3),
    st.sampled_from([b"\n", b"\r\n"]),
    st.booleans(),
)
@example("blocks", [16, 17, 0], [0], b"\n", True)  # the first line is moved in
@example("blocks", [3, 0, 4, 1, 4], [0, 5], b"\n", True)  # two blocks
@example("blocks", [0, 4, 5], [0], b"\r\n", False)
@example("paths", [0, 3, 1], [8, 6], b"\n", False)  # the last line goes
@example("paths", [0, 3, 1], [6, 0], b"\n", True)  # what comes again is like none any more
def test_edits_of_parts_are_those_of_the_whole_text(
    name: str, numbers: list[int], edits: list[int], end: bytes, ended: bool
) -> None:
    grammar, every = shape(name, comment="#"), EDITS[name]
    text = Text(text_of(name, numbers, end).removesuffix(b"" if ended else end))
    done = []
    for by_part in (True, False):
        with pytest.MonkeyPatch.context() as patched:
            if not by_part:
                patched.setattr(indented, "_blocks_of", lambda *_: [])
                patched.setattr(paths, "_places", lambda data, _: [(0, len(data))])
            with contextlib.suppress(Refused):
                some = [every[n % len(every)] for n in edits]
                done.append(grammar.apply(text, some, lambda path, words: (path, words[:1])))
    assert len(done) != 1 and len(set(done)) < 2


_PIECES = ("a.", "a.b", "b.a.", "a", " ", "\t", "\n", "\n", "\r\n", "x")


@given(st.lists(st.sampled_from(_PIECES), max_size=30).map("".join))
def test_lines_with_one_beginning_are_found_as_those_with_several(text: str) -> None:
    data = text.encode()
    for begin in (b"a.", b"a.b"):
        alone, beside = (
            [run.span() for run in paths._runs(data, begins)]
            for begins in ((begin,), (begin, b"?"))
        )
        assert alone == beside
