"""Corrections of ordinary faults that could not be written, or not be proved."""

from __future__ import annotations

import re

import pytest
from conftest import TODAY
from test_certain import DIALECTS, HERE, HOLLIN, IETF, QUERN, corrected, judged

from ivrel.core import Device, correct, read_dialect, read_policy, read_records
from ivrel.core.correcting import Correction
from ivrel.core.correcting.changes import apply_change
from ivrel.core.correcting.difference import moved_statement
from ivrel.core.shapes.shape import Edit
from ivrel.core.text.text import Text

STRUCTURED = '"structured-data": true, "signing": {"cert-initial-repeat": 3}'
SIGNED = '{"name": "z", "udp": {"address": "203.0.113.9"}, ' + STRUCTURED + "}, "
TLS = '{"name": "a", "udp": {"address": "198.51.100.21"}}'
FEEDS = '<osier><sinks><sink id="a" inet="198.51.100.21"/></sinks><feeds><feed id="f1"><take category="login"/><take category="system"/></feed></feeds></osier>'
BOTH = "journal.target.a.inet = 198.51.100.21\njournal.target.a.from = 192.0.2.9\nport.x.inet = 192.0.2.9\nport.y.inet = 192.0.2.9\n"
MIXED = '{"openconfig-system:system": {"logging": {"remote-servers": {"remote-server": [{"host": "198.51.100.21", "config": {"host": "198.51.100.21", "remote-port": 514}, "selectors": {"selector": [%s]}}]}}}}'
SELECTOR = '{"facility": "openconfig-system-logging:%s", "severity": "%s", "config": {"facility": "openconfig-system-logging:%s", "severity": "%s"}}'


def selectors(*some: tuple[str, str]) -> str:
    return MIXED % ", ".join(SELECTOR % (*one, *one) for one in some)


@pytest.mark.parametrize(
    ("platform", "text", "require", "wanted"),
    [
        # One stranger goes, two collectors come, and there is room for two.
        ("marl", "[sender]\nactive = yes\n[collector.1]\ninet = 203.0.113.9\n", "{collectors: {exactly: [a, six]}}", "inet = 2001:db8::5"),
        ("osier", FEEDS.replace('"login"', '"change"'), "{collectors: [a], level: {never: [none]}}", 'category="threat"'),
        # What one setting attaches, another one brings to the level that is asked for.
        ("osier", FEEDS, "{collectors: {includes: [a]}, level: {between: [none, warning]}, logins: on}", '<give sink="a"/>'),
        ("osier", FEEDS, "{collectors: {includes: [a]}, level: {between: [none, warning], write: alert}, logins: on}", 'category="login" least="alert"'),
        ("quern", QUERN + "events\n    stamp off\n", "{stamp: {kind: [none, calendar], precision: milliseconds}}", "stamp calendar millis"),
        # A statement that occurs twice says no more than once.
        ("quern", QUERN.replace("    leave", "    facility local1\n    facility local1\n    leave"), "{facility: local0}", "facility local0"),
        # What stands in a row that goes, goes with it, and comes back with it.
        ("ietf-syslog", IETF % ("", SIGNED + TLS, ""), "{collectors: {exactly: [a]}}", "destination=z"),
        # Facilities that are as asked are left as they are.
        ("rsyslog", "*.warning;auth.debug @198.51.100.21\n", "{collectors: [a], level: {from: warning, to: informational}}", "*.warning;auth.none;auth.info"),
        ("openconfig", selectors(("ALL", "WARNING"), ("AUTH", "DEBUG")), "{level: {from: warning, to: informational}}", '"severity": "INFORMATIONAL"'),
    ],
)  # fmt: skip
def test_ordinary_corrections_are_proved(
    platform: str, text: str, require: str, wanted: str
) -> None:
    done = corrected(platform, text, require, exact=False)
    assert wanted in done.change and done.proved
    assert {v.verdict for v in done.after.verdicts} == {"meets"}


@pytest.mark.parametrize(
    ("platform", "text", "require", "setting", "verdict"),
    [
        ("hollin", 'unit "x" { record { { h; } number on; } }', "{numbering: on}", "numbering", "unknown"),
        ("skarn", BOTH, "{source: identity}", "source", "meets"),
        ("skarn", BOTH + "port.y.state = down\n", "{source: identity}", "source", "unknown"),
        ("rsyslog", "*.warning;auth.info @198.51.100.21\n", "{collectors: [a], level: {from: warning, to: informational}}", "level", "meets"),
        ("openconfig", selectors(("ALL", "WARNING"), ("AUTH", "INFORMATIONAL")), "{level: {from: warning, to: informational}}", "level", "meets"),
        ("openconfig", selectors(("ALL", "WARNING"), ("AUTH", "INFORMATIONAL")), "{level: [warning, debug]}", "level", "breaks"),
        ("quern", QUERN, "{collectors: {includes: [a, b], apart: [site, path]}}", "collectors", "meets"),
        ("hollin", HOLLIN, "{collectors: {includes: [a], apart: [site, path]}}", "collectors", "breaks"),
    ],
)  # fmt: skip
def test_verdicts_of_ordinary_texts(
    platform: str, text: str, require: str, setting: str, verdict: str
) -> None:
    assert judged(platform, text, require)[setting][0] == verdict
    # What cannot be had is listed, and fails no property.
    assert all(p.holds for p in corrected(platform, text, require, exact=False).proof)


def test_a_source_that_may_be_the_identity_is_not_moved() -> None:
    nobody = Device("x1", "router", "near", "")
    text = QUERN + "link up0\n    inet 203.0.113.1/30\n"
    assert judged("quern", text, "{source: [up0, identity]}", nobody)["source"][0] == "unknown"
    assert not corrected("quern", text, "{source: [up0, identity]}", nobody).changes
    assert judged("quern", text, "{source: up0}", nobody)["source"][0] == "breaks"


LOG_FILE = '{"name": "file:%s"%s}'
ENTRY = ', "filter": {"facility-list": [{"facility": "all", "severity": "%s"%s}%s]}'
BLOCK = ', "advanced-compare": {"compare": "equals-or-higher", "action": "block"}'
CRON_NONE = ', {"facility": "cron", "severity": "none"}'


@pytest.mark.parametrize(
    ("files", "verdict", "about"),
    [
        # Each file is judged by itself: what one of them drops, another keeps.
        ([LOG_FILE % ("a", ""), LOG_FILE % ("b", ENTRY % ("debug", BLOCK, ""))], "unable", "file:a adds notice"),
        ([LOG_FILE % ("b", ENTRY % ("debug", BLOCK, ""))], "meets", ""),
        ([LOG_FILE % ("a", ENTRY % ("error", "", "")), LOG_FILE % ("b", ENTRY % ("warning", "", ""))], "meets", ""),
        # The standard does not tell whether `none` takes a facility back from an entry of all.
        ([LOG_FILE % ("c", ENTRY % ("debug", "", CRON_NONE))], "unable", "adds notice"),
    ],
)  # fmt: skip
def test_each_file_is_judged_by_itself(files: list[str], verdict: str, about: str) -> None:
    text = '{"ietf-syslog:syslog": {"actions": {"file": {"log-file": [' + ", ".join(files) + "]}}}}"
    found = judged("ietf-syslog", text, "{file: {level: {at-most: warning}}}")["file"]
    assert found[0] == verdict and about in found[1]


def test_what_the_standard_leaves_open_is_unknown() -> None:
    entry = '{"name": "a", "udp": {"address": "198.51.100.21"}%s}' % (
        ENTRY % ("warning", "", CRON_NONE)
    )
    for level, verdict in (("{from: error, to: warning}", "unknown"), ("{to: warning}", "meets"), ("{to: error}", "breaks")):  # fmt: skip
        found = judged(
            "ietf-syslog", IETF % ("", entry, ""), f"{{collectors: [a], level: {level}}}"
        )
        assert found["level"][0] == verdict, level


def test_transport_and_port_are_decided_together() -> None:
    policy = read_policy(
        "policy: p\ncollectors:\n  a: {address: 198.51.100.21, transport: tls, port: 514, names: [a.example]}\n"
        "  b: {address: 198.51.100.22, port: 6514}\nrules: [{rule: r, require: {collectors: [a, b]}}]\n",
        "policy.yaml",
    )
    for a, b in (("udp", "tls"), ("tls", "udp")):
        rows = f'{{"name": "a", "{a}": {{"address": "198.51.100.21"}}}}, {{"name": "b", "{b}": {{"address": "198.51.100.22"}}}}'
        text = (IETF % ("", rows, "")).encode()
        done: Correction = correct(HERE, DIALECTS["ietf-syslog"], text, policy, TODAY, "x")
        assert done.proved and done.after.verdicts[0].verdict == "meets", [
            p for p in done.proof if not p.holds
        ]


NUMBERED = """dialect: stint
about: x
shape: blocks
change: {remove: drop}
rows: {destination: {key: [name], in: log, removed-by: "post {destination.name}"}}
defaults: {destination.port: 514, destination.transport: udp}
statements:
  - {in: "log / post {destination.name}", says: "to {destination.address}"}
examples:
  - text: |
      log
        post 7
          to 198.51.100.21
"""


def test_a_new_name_looks_like_those_that_are_there() -> None:
    stint = read_dialect(NUMBERED, "stint.yaml")
    for text in ("log\n  post 1\n    to 198.51.100.21\n", "log\n"):
        change = corrected(stint, text, "{collectors: [a, six]}", exact=False).change
        assert "2001:db8::5" in change and "six" not in change
    named = read_dialect(NUMBERED.replace("post 7", "post near"), "stint.yaml")
    change = corrected(
        named, "log\n  post near\n    to 198.51.100.21\n", "{collectors: [a, six]}"
    ).change
    assert "post six" in change


REPLY = '<rpc-reply xmlns="urn:ietf:params:xml:ns:netconf:base:1.0" message-id="1">%s<data xmlns="%s">%s</data></rpc-reply>'
WARNED = (
    "<rpc-error><error-type>application</error-type><error-severity>%s</error-severity></rpc-error>"
)
NMDA, BASE = (
    "urn:ietf:params:xml:ns:yang:ietf-netconf-nmda",
    "urn:ietf:params:xml:ns:netconf:base:1.0",
)
SYSLOG = '<s:syslog xmlns:s="urn:ietf:params:xml:ns:yang:ietf-syslog"><s:actions><s:remote><s:destination><s:name>a</s:name><s:udp><s:address>198.51.100.21</s:address></s:udp></s:destination></s:remote></s:actions></s:syslog>'


@pytest.mark.parametrize("form", ["json", "xml"])
def test_a_back_out_keeps_the_order_of_the_user(form: str) -> None:
    entries = [("all", "debug"), ("auth", "error"), ("kern", "debug"), ("cron", "warning")]
    if form == "json":
        some = ", ".join(f'{{"facility": "{f}", "severity": "{s}"}}' for f, s in entries)
        row = (
            '{"name": "a", "udp": {"address": "198.51.100.21"}, "filter": {"facility-list": ['
            + some
            + "]}}"
        )
        text = IETF % ("", row, "")
    else:
        listed = "".join(
            f"<s:facility-list><s:facility>s:{f}</s:facility><s:severity>{s}</s:severity></s:facility-list>\n"
            for f, s in entries
        )
        text = REPLY % (
            "",
            BASE,
            SYSLOG.replace("</s:udp>", f"</s:udp><s:filter>\n{listed}</s:filter>"),
        )
    policy = read_policy(
        "policy: p\ncollectors: {a: {address: 198.51.100.21}}\nrules: [{rule: r, require: {level: {to: warning}}}]\n",
        "policy.yaml",
    )
    dialect = DIALECTS["ietf-syslog"]
    done = correct(HERE, dialect, text.encode(), policy, TODAY, "x")
    assert done.proved and "insert" in done.backout, [p for p in done.proof if not p.holds]
    back = apply_change(dialect, done.corrected, done.backout, "back-out")
    assert [key[1:] for key in read_records(dialect, back).rows("pick")] == entries
    # Without the places, entries come back at the end, and that is no way back.
    moved = (
        read_records(
            dialect,
            apply_change(
                dialect, done.corrected, re.sub(r' yang:insert="before"', "", done.backout), "x"
            ),
        )
        if form == "xml"
        else None
    )
    assert moved is None or moved_statement(read_records(dialect, text.encode()), moved)


def test_replies_of_servers_are_read_as_they_come() -> None:
    for warned, space in (("", NMDA), (WARNED % "warning", BASE), ("", BASE)):
        found = judged("ietf-syslog", REPLY % (warned, space, SYSLOG), "{collectors: [a]}")
        assert found["collectors"][0] == "meets"
    with pytest.raises(AssertionError, match="a reply that tells of an error"):
        judged("ietf-syslog", REPLY % (WARNED % "error", BASE, SYSLOG), "{collectors: [a]}")
    # An identity that comes into a document with prefixes has the prefix of its module.
    done = corrected("ietf-syslog", REPLY % ("", BASE, SYSLOG), "{facility: local4}", exact=False)
    assert b">s:local4<" in done.corrected.replace(b"\n", b"")


@pytest.mark.parametrize("platform", ["quern", "marl"])
def test_a_line_of_signs_that_count_as_blanks_changes_nothing(platform: str) -> None:
    text = b"[events]\non = yes\n"
    assert apply_change(DIALECTS[platform], text, "\u2028\n", "change.txt") == text


def test_a_leaf_list_of_json_goes_as_a_whole() -> None:
    shape = DIALECTS["ietf-syslog"].shape
    text = Text(b'{"ietf-syslog:syslog": {"x": ["a", "b"], "y": "c"}}\n')
    edit = Edit((("syslog",),), ("x",), removes=True)
    assert shape.apply(text, [edit], lambda path, words: (path, words)) == (
        b'{"ietf-syslog:syslog": {"y": "c"}}\n'
    )
