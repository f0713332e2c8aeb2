"""Every shape: statements with their lines, changes as the platform would carry them out, texts
that are none.
"""

from __future__ import annotations

import json

import pytest
from conftest import tried
from hypothesis import assume, given
from hypothesis import strategies as st

from ivrel.core import InputError, Unreadable, read_records
from ivrel.core.correcting.changes import apply_change, write_change
from ivrel.core.settings import Scope, read_settings
from ivrel.core.settings.bearing import bearing
from ivrel.core.shapes import SHAPES
from ivrel.core.shapes.shape import Edit, Shape
from ivrel.core.text.alike import runs_alike
from ivrel.core.text.text import Text
from ivrel.sources.dialects import Dialects

DIALECTS = Dialects()
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
    strays = read_records(DIALECTS["ietf-syslog"], text.encode()).strays
    assert [s.text for s in strays] == ["pattern-match = ^link"] and "level" in bearing(
        DIALECTS["ietf-syslog"], strays[0].strange
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
