"""Each setting on texts of a few lines: what meets, what breaks, the lines, and the correction."""

from __future__ import annotations

import pytest
from conftest import TODAY, tried
from generated import device, policies, records, written
from hypothesis import given
from hypothesis import strategies as st

from ivrel.core import Device, audit_text, correct, read_policy
from ivrel.core.judging import Auditor
from ivrel.core.shapes.rsyslog.flow.selectors import write_filter
from ivrel.core.shapes.rsyslog.flow.whole import read_model
from ivrel.core.text.bundle import Places, pack, parts
from ivrel.core.vocabulary.severity import Selection, selection_of
from ivrel.sources.dialects import Dialects

DIALECTS = Dialects()
COLLECTORS = (
    "  a: {address: 198.51.100.21, format: rfc5424, site: north}\n"
    "  t: {address: 198.51.100.23, port: 6514, transport: tls, site: south}\n"
    "  m: {address: 198.51.100.24, site: main}\n"
)
QUERN = "link loop1\n    inet 192.0.2.9/32\nevents\n    export on\n    send 198.51.100.21 udp 514 through informational\n"
SKARN = "journal.target.a.inet = 198.51.100.21\n" + "".join(
    f"journal.rule.{n}.severity = {s}\njournal.rule.{n}.target = a\n"
    for n, s in enumerate(("emergency", "alert", "critical", "error", "warning", "notice"), 1)
)
HOLLIN = (
    'unit "x1" {{\n    record {{\n        keeper {{ severity notice; to a; }}\n        transit {{ severity notice; {0} }}\n'
    "        collector a {{ inet 198.51.100.21; }}\n        {1}\n    }}\n    gates {{\n{2}\n    }}\n}}\n"
)
OSIER = (
    '<osier>\n<sinks {0}><sink id="s1" inet="198.51.100.21"/></sinks>\n<feeds><feed id="f1">\n'
    '<take category="system"/>\n{1}\n</feed></feeds>\n<gates>\n{2}\n</gates>\n</osier>\n'
)
GIVES = '<give sink="s1"/>'

# Platform, text, what is asked, the verdict, a part of why, and the lines that decide.
CASES: list[tuple[str, str, str, str, str, list[int]]] = [
    ("quern", QUERN + "    number on\n", "numbering: on", "meets", "as asked", [6]),
    ("quern", QUERN, "numbering: on", "breaks", "off, the default of quern, not on", []),
    ("ietf-syslog", '{"ietf-syslog:syslog": {"actions": {}}}', "numbering: on", "unable", "no statement for sequence numbers", []),
    ("quern", QUERN + "    screen debug\n", "console: {at-most: critical}", "breaks", "debug, not critical or less", [6]),
    ("quern", QUERN + "    memory 4096 through debug\n", "memory: {level: {at-least: notice}, size: {between: [4096, 8192]}}", "meets", "as asked", [6, 6]),
    ("quern", QUERN + "    memory 4095 through debug\n", "memory: {size: {at-least: 4096}}", "breaks", "size 4095, not 4096 or more", [6]),
    ("quern", QUERN + "    limit 99\n", "rate: {at-least: 100}", "breaks", "99, not 100 or more", [6]),
    ("quern", QUERN, "rate: {at-least: 100}", "meets", "as asked", []),
    ("quern", QUERN + "    limit 100\n", "rate: none", "breaks", "100, not none", [6]),
    ("skarn", SKARN, "delivery: {mode: immediate}", "breaks", "mode batch, the default of skarn", []),
    ("skarn", SKARN + "journal.queue = 10\n", "delivery: {queue: {at-least: 20}}", "breaks", "queue 10, not 20 or more", [14]),
    ("marl", "[sender]\nactive = yes\n", "debug-stamp: calendar", "unable", "no statement for the kind of stamps of debug messages", []),
    ("quern", QUERN + "    debug-stamp calendar millis\n", "debug-stamp: {kind: calendar, precision: {at-least: microseconds}}", "breaks", "precision milliseconds, not microseconds or more", [6]),
    ("quern", "unit other\n" + QUERN + "    tag name\n", "origin: name", "breaks", "it calls itself other, not x1", [1]),
    ("quern", "unit x1\n" + QUERN + "    tag name\n", "origin: name", "meets", "as asked", [7]),
    ("skarn", SKARN + "journal.target.a.form = rfc5424\n", "format: expected", "meets", "as asked", [14]),
    ("skarn", SKARN, "format: expected", "breaks", "a: rfc3164, the default of skarn, not rfc5424", []),
    ("quern", QUERN, "format: expected", "unable", "quern cannot say rfc5424", []),
    ("quern", QUERN + "    mute 1 flap\n    mute 2 \"link up\"\n", "filters: none", "breaks", "messages with 'flap' are dropped; messages with 'link up' are dropped", [6, 7]),
    ("quern", QUERN, "filters: none", "meets", "as asked", []),
    ("quern", QUERN + "clock\n    zone harbour\n    follow 198.51.100.5\n", "clock: {zone: UTC, count: {at-least: 2}}", "breaks", "the zone is harbour, not UTC; 1 time server, not 2 or more", [7, 8]),
    ("quern", QUERN + "    stamp calendar\n", "clock: {count: {at-least: 1}}", "breaks", "nothing sets the clock, and its stamps are a calendar's", []),
    ("quern", QUERN + "    stamp calendar\n", "clock: {zone: UTC}", "breaks", "nothing sets the clock, and its stamps are", []),
    ("quern", QUERN + "clock\n    follow 198.51.100.6\n", "clock: {servers: {exactly: [198.51.100.5]}}", "breaks", "the time server 198.51.100.5 is missing; the time server 198.51.100.6 is not asked for", [7]),
    ("openconfig", '{"openconfig-system:system": {"logging": {"remote-servers": {}}}}', "clock: {zone: UTC}", "breaks", "the zone is not set, not UTC", []),
    ("quern", QUERN.replace("198.51.100.21", "beacon.example"), "resolver: where-needed", "breaks", "beacon.example is a host name, and there is no resolver", [5]),
    ("quern", QUERN, "resolver: where-needed", "meets", "as asked", []),
    ("quern", QUERN + "names\n    ask 198.51.100.54\n", "resolver: [198.51.100.53]", "breaks", "the resolver 198.51.100.53 is missing; the resolver 198.51.100.54 is not asked for", [7]),
    ("quern", QUERN, "trust: {clear: nowhere}", "breaks", "a: clear text by udp", [5]),
    ("quern", QUERN, "trust: {clear: same-site}", "breaks", "a: clear text by udp from main to north", [5]),
    ("quern", QUERN.replace("198.51.100.21 udp 514", "198.51.100.24 udp 514"), "trust: {clear: same-site}", "meets", "as asked", []),
    ("hollin", HOLLIN.format("to t;", "collector t { inet 198.51.100.23; port 6514; carry tls; }", ""), "trust: {verify: on}", "breaks", "t: the collector is not verified, the default of hollin", []),
    ("hollin", HOLLIN.format("", "", ""), "categories: [system, threat]", "breaks", "threat: transit gives to nothing", []),
    ("hollin", HOLLIN.format("to gone;", "", ""), "categories: [threat]", "breaks", "threat: transit gives to 'gone', which is not set", [4]),
    ("hollin", HOLLIN.format("to a;", "", ""), "categories: [system, threat]", "meets", "as asked", []),
    ("osier", OSIER.format("", GIVES, ""), "categories: [login]", "breaks", "login: no feed takes login", []),
    ("osier", OSIER.format("", "", ""), "categories: [system]", "breaks", "system: feed f1 takes system, but gives to nothing", []),
    ("osier", OSIER.format("", '<take category="login"/>' + GIVES, ""), "logins: on", "meets", "as asked", []),
    ("osier", OSIER.format("", GIVES, ""), "changes: on", "breaks", "no feed takes change", []),
    ("quern", QUERN, "categories: [traffic]", "meets", "as asked", []),
    ("hollin", HOLLIN.format("to a;", "", "gate 1 { action stop; }\ngate 2 { action stop; record open close; }\ngate 3 { action pass; }"), "rules: {stop: [open, both]}", "breaks", "1 rule (1) that stops records none, not open or both", [9]),
    ("osier", OSIER.format("", GIVES, '<gate id="g1" act="stop" tell="open"/>'), "rules: {stop: open}", "breaks", "1 rule (g1) without a feed", [8, 8]),
    ("osier", OSIER.format("", GIVES, '<gate id="g1" act="stop" tell="open" feed="f1"/>'), "rules: {stop: open, pass: none}", "meets", "as asked", []),
    ("quern", QUERN, "rules: {stop: open}", "unable", "has no statement for traffic rules that record", []),
    ("quern", QUERN + "    disk 100 through alert\n", "file: {level: {at-least: warning}, size: {at-most: 99}}", "breaks", "level alert, not warning or more; size 100, not 99 or less", [6]),
    ("quern", QUERN + "    seats debug\n", "sessions: none", "breaks", "debug, not none", [6]),
]  # fmt: skip


@pytest.mark.parametrize(("platform", "text", "asked", "verdict", "why", "lines"), CASES, ids=[f"{c[0]}-{c[2]}-{c[3]}" for c in CASES])  # fmt: skip
def test_a_setting_is_judged_by_its_lines_and_corrected(
    platform: str, text: str, asked: str, verdict: str, why: str, lines: list[int]
) -> None:
    names = COLLECTORS.replace("format: rfc5424", "format: rfc5424, names: beacon.example")
    wanted = "t" if "carry tls" in text else "a"
    source = f"policy: p\ncollectors:\n{names}rules:\n  - rule: r\n    require: {{collectors: {{includes: [{wanted}]}}, {asked}}}\n"
    policy = read_policy(source, "policy.yaml")
    one, dialect = Device("x1", "router", "main", platform, (), "192.0.2.9"), DIALECTS[platform]
    name = asked.partition(":")[0]
    found = {
        v.setting: v
        for v in audit_text(one, dialect, text.encode(), policy, TODAY, "x1.conf").verdicts
    }[name]
    assert (found.verdict, [p.line for p in found.where]) == (verdict, sorted(set(lines))), found
    assert why in found.why
    done = correct(one, dialect, text.encode(), policy, TODAY, "x1.conf", [name, "collectors"])
    assert done.proved
    left = {r.setting: r for r in done.remains}
    # What cannot be mended is told; all else is as asked afterwards.
    by_hand = {
        "it calls itself",
        "1 time server",
        "nothing sets the clock",
        "is a host name",
        "clear text",
    }
    assert (name in left) == (
        verdict == "unable" or (verdict == "breaks" and any(part in why for part in by_hand))
    )


@given(data=st.data())
@tried(60)
@pytest.mark.parametrize("base", ["quern", "skarn", "hollin", "osier"])
def test_what_was_told_before_is_what_would_be_told_anew(base: str, data: st.DataObject) -> None:
    dialect, policy = DIALECTS[base], data.draw(policies())
    text = written(dialect, base, data.draw(records(dialect, base)))
    # The same statements on other lines, of a device with another address.
    moved = b"\n\n" + text.replace(b"192.0.2.9", b"192.0.2.10")
    other = Device("x2", "router", "pier", base, ("edge",), "192.0.2.10")
    auditor = Auditor(policy, TODAY)
    auditor.audit(device(dialect), dialect, text, "x1.conf")
    again = auditor.audit(other, dialect, moved, "x2.conf")
    assert again == audit_text(other, dialect, moved, policy, TODAY, "x2.conf")


bits = st.integers(0, (1 << 192) - 1) | st.lists(
    st.sampled_from((0, 1, 3, 7, 15, 31, 255, 4)), min_size=24, max_size=24
).map(lambda rows: sum(row << 8 * n for n, row in enumerate(rows)))


@given(bits=bits | st.sampled_from((0, (1 << 192) - 1)))
@tried(100)
def test_selections_are_written_as_words_and_as_filters_and_read_again(bits: int) -> None:
    selection = Selection(bits)
    assert selection_of(selection.word) == selection and " " not in selection.word
    found = read_model(f"{write_filter(selection)} @198.51.100.21:514\n".encode()).forwards
    assert [(f.takes.sure, f.takes.most) for f in found] == [(selection, selection)]


@given(files=st.dictionaries(st.sampled_from(("a", "b/c", "b/d", "rsyslog.conf")), st.lists(st.sampled_from((b"x\n", b"\n", b"y z\n", b"w"))).map(b"".join), min_size=1))  # fmt: skip
def test_files_come_out_of_a_bundle_as_they_went_in(files: dict[str, bytes]) -> None:
    packed = pack(files)
    assert {p.name: p.data for p in parts(packed)} == files
    places, whole = Places(packed, "gw"), packed.split(b"\n")
    for part in parts(packed):
        for n, line in enumerate(part.data.splitlines()):
            assert whole[part.first + n - 1] == line and places(part.first + n) == (
                f"gw/{part.name}",
                n + 1,
            )
