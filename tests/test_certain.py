"""Never certain and wrong: what is not described, not understood or not possible is told as that,
everywhere.
"""

from __future__ import annotations

import re
from collections.abc import Callable

import pytest
from conftest import TODAY, tried
from generated import device, policies, records, written
from hypothesis import given
from hypothesis import strategies as st

from ivrel.core import (
    Device,
    InputError,
    audit_text,
    correct,
    read_dialect,
    read_policy,
    read_records,
)
from ivrel.core.correcting import Correction
from ivrel.core.correcting.changes import apply_change
from ivrel.core.dialects import Dialect
from ivrel.core.dialects.slots import SLOTS
from ivrel.core.judging import Auditor
from ivrel.core.judging.remarks import remarks
from ivrel.core.reading.records import Records
from ivrel.core.settings import SETTINGS, Scope, read_settings
from ivrel.core.settings.valued import ValuePart, valued
from ivrel.core.vocabulary.values import SWITCH
from ivrel.sources.dialects import Dialects

DIALECTS = Dialects()
COLLECTORS = """
  a: {address: 198.51.100.21, format: rfc3164, site: near}
  b: {address: 198.51.100.22, port: 601, transport: tcp, format: rfc5424, site: far}
  six: {address: "2001:db8::5"}
  t: {address: 198.51.100.23, port: 6514, transport: tls}
"""
HERE = Device("x1", "firewall", "near", "", (), "192.0.2.9")
SEND = '{in: log, says: "send {destination.address} {destination.transport} {destination.port}"}'


def own(*statements: str, more: str = "") -> Dialect:
    """A dialect of few statements, as a newcomer may write it."""
    head = 'dialect: tansy\nabout: x\nshape: blocks\nchange: {remove: "no-more"}\nrows: {destination: {key: [address]}}\n'
    return read_dialect(
        head + more + "statements:\n" + "".join(f"  - {s}\n" for s in statements), "tansy.yaml"
    )


def judged(
    platform: str | Dialect, text: str, require: str, where: Device = HERE
) -> dict[str, tuple[str, str, list[int]]]:
    """The verdicts, with why and the lines, by setting."""
    dialect = DIALECTS[platform] if isinstance(platform, str) else platform
    policy = read_policy(
        f"policy: p\ncollectors:{COLLECTORS}rules:\n  - rule: r\n    require: {require}\n",
        "policy.yaml",
    )
    result = audit_text(where, dialect, text.encode(), policy, TODAY, "x.conf")
    assert not result.problem, result.problem
    return {v.setting: (v.verdict, v.why, [p.line for p in v.where]) for v in result.verdicts}


def corrected(
    platform: str | Dialect, text: str, require: str, where: Device = HERE, *, exact: bool = True
) -> Correction:
    """The correction, which must be proved and bring the text back; of a document, what it says."""
    dialect = DIALECTS[platform] if isinstance(platform, str) else platform
    policy = read_policy(
        f"policy: p\ncollectors:{COLLECTORS}rules:\n  - rule: r\n    require: {require}\n",
        "policy.yaml",
    )
    done = correct(where, dialect, text.encode(), policy, TODAY, "x.conf")
    assert done.proved or not done.changes, [p for p in done.proof if not p.holds]
    if done.changes and exact:
        back = apply_change(dialect, done.corrected, done.backout, "back-out")
        words = (
            sorted(re.sub(rb"""[\\"'\[\]{},;]""", b" ", whole).split())
            for whole in (back, text.encode())
        )
        assert next(words) == next(words)
    return done


STAMPED = own(SEND, '{in: log, says: "stamp {stamp.kind}"}')
BARE = own('{in: log, says: "facility {facility}"}', '{in: log, says: "on {export}"}')
LOG = "log\n  send 198.51.100.21 udp 514\n  stamp calendar\n"
SENDS = (
    "    send 198.51.100.21 udp 514 through error\n    send 198.51.100.22 tcp 601 through error\n"
)
QUERN = f"events\n    export on\n    leave-from loop1\n{SENDS}link loop1\n    inet 192.0.2.9/32\n"
HOLLIN = """unit "x1" {
  # export
  record {
    collector a { inet 198.51.100.21; }
    keeper { leave loop1; to a; }
    transit { leave loop1; to a; severity error; }
  } # and the rest
  # gates
  gates { gate 10 { action stop; record open; } }
  port loop1 { inet 192.0.2.9/32; }
}
"""
IETF = '{"ietf-syslog:syslog": {"actions": {%s"remote": {"destination": [%s]}}}%s}'
AT_A = '{"name": "a", "udp": {"address": "198.51.100.21"%s}%s}'

VERDICTS = [
    # What a dialect describes nowhere is unable, part by part.
    (STAMPED, LOG, "{stamp: {kind: calendar, zone: shown}}", "stamp", "unable", "no statement for the zone of stamps", []),
    (STAMPED, LOG, "{filters: none}", "filters", "unable", "no statement for filters", []),
    (STAMPED, LOG, "{sessions: none}", "sessions", "unable", "no statement for sessions", []),
    (STAMPED, LOG, "{level: error}", "level", "unable", "no statement for severities", []),
    (BARE, "log\n  on on\n", "{collectors: [a]}", "collectors", "unable", "no statement for destinations", []),
    # One format for all cannot be what two collectors expect.
    ("quern", QUERN, "{format: expected, collectors: [a, b]}", "format", "unable", "a expects rfc3164 and b expects rfc5424", []),
    # A default that nobody stated is no fact, and is written where it matters.
    (BARE, "log\n  facility local0\n", "{export: on}", "export", "unknown", "the text says nothing of export, and tansy states no default", []),
    (BARE, "log\n  on on\n", "{facility: {never: [kern]}}", "facility", "unknown", "states no default", []),
    (STAMPED, "log\n  send 198.51.100.21 udp 514\n", "{stamp: {kind: {never: [none]}}}", "stamp", "unknown", "the text says nothing of stamp.kind", []),
    (own(SEND, '{in: log, says: "loud {level}"}'), LOG.replace("  stamp calendar\n", ""), "{level: {from: error}}", "level", "unknown", "says nothing of level", []),
    (own(SEND, '{in: log, says: "face {facility}"}', more="unset: [facility]\n"), LOG.replace("  stamp calendar\n", ""), "{facility: local0}", "facility", "breaks", "as sent, the default of tansy, not local0", []),
    # What stands in a comment over several lines, or goes on in the next one, may be no statement.
    (BARE, "log\n  facility local0\n  on on /* no\n  facility local1\n  */\n", "{facility: local0}", "facility", "unknown", "line 4 is not understood: facility local1", [4, 5]),
    (BARE, "log\n  facility local0\n  note \\\n  facility local1\n", "{facility: local1}", "facility", "unknown", "line 4", [3, 4]),
    (BARE, "log\n  facility local0\ntale <<END\n  facility local1\nEND\n", "{facility: local0}", "facility", "unknown", "line 4", [4]),
    ("skarn", "journal.active = yes\njournal.mute.1 =\n", "{filters: none}", "filters", "unknown", "line 2", [2]),
    # A line that is not understood bears on what the dialect has no statement for, and no further
    # than its entry.
    (BARE, "log\n  on on\n  beacon 198.51.100.21\n", "{trust: {verify: on}}", "trust", "unknown", "line 3", [3]),
    (BARE, "log\n  on on\n  beacon 198.51.100.21\n", "{collectors: [a]}", "collectors", "unknown", "line 3", [3]),
    ("ietf-syslog", IETF % ("", AT_A % (', "odd": 1', ""), ""), "{clock: {zone: UTC}}", "clock", "breaks", "zone is not set", []),
    ("ietf-syslog", IETF % ("", AT_A % (', "odd": 1', ""), ""), "{collectors: [a]}", "collectors", "unknown", "… = 1", [1]),
    # Names of foreign modules stand for nothing that is known.
    ("ietf-syslog", IETF % ("", AT_A % (', "x:port": 5514', ""), ""), "{collectors: [a]}", "collectors", "unknown", "… = 5514", [1]),
    ("ietf-syslog", IETF % ("", AT_A % ("", ""), ', "x:more": {"port": 1}'), "{collectors: [a]}", "collectors", "meets", "", [1]),
    # All entries of an output count; servers that nobody follows set no clock; a family that is off
    # has no address.
    ("ietf-syslog", IETF % ('"console": {"filter": {"facility-list": [{"facility": "all", "severity": "debug"}, {"facility": "all", "severity": "critical"}]}}, ', AT_A % ("", ""), ""), "{console: {at-most: critical}}", "console", "unable", "the console adds error", [1]),
    ("openconfig", '{"openconfig-system:system": {"ntp": {"servers": {"server": [{"address": "198.51.100.5"}]}}, "logging": {}}}', "{clock: {servers: {includes: [198.51.100.5]}}}", "clock", "breaks", "set, but not followed", []),
    ("ietf-syslog", IETF % ("", AT_A % ("", ', "source-interface": "lo0"'), ', "ietf-interfaces:interfaces": {"interface": [{"name": "lo0", "ietf-ip:ipv4": {"enabled": false, "address": [{"ip": "192.0.2.9"}]}}]}'), "{source: identity}", "source", "breaks", "lo0 has no address", [1]),
    ("ietf-syslog", IETF % ("", '{"name": "t", "tls": {"address": "198.51.100.23"}}', ""), "{collectors: [t]}", "collectors", "meets", "", [1]),
    # Comments, spacing and quotes hide nothing.
    ("hollin", HOLLIN, "{source: identity}", "source", "meets", "", [5, 6, 10]),
    ("hollin", HOLLIN, "{rules: {stop: open}}", "rules", "meets", "", []),
    ("hollin", HOLLIN.replace("port loop1 {", "port loop1 { plane keeper;"), "{source: identity}", "source", "breaks", "transit: loop1 carries keeper only", [6, 10]),
    ("skarn", "journal.active = yes\n  journal.screen = debug\n", "{console: none}", "console", "breaks", "debug", [2]),
    ("marl", "[sender] ; main\nactive = yes\n", "{export: on}", "export", "meets", "", [2]),
    ("marl", " [ sender]\nactive = yes\n", "{export: on}", "export", "meets", "", [2]),
    ("marl", "[sender]\nactive = yes\n[collector.3]\ninet = 198.51.100.21\n", "{collectors: [a]}", "collectors", "unknown", "line 3 is not understood", [3, 4]),
    ("quern", QUERN.replace("events\n", "events # export\n"), "{export: on}", "export", "unknown", "line 2 is not understood", [2, 3, 4, 5]),
    ("quern", QUERN + "    state shut\n", "{source: identity}", "source", "unknown", "line 8 is not understood: state shut", [3, 8]),
    ("quern", QUERN.replace("link loop1", "link  loop1"), "{source: identity}", "source", "meets", "", [3, 7]),
    ("quern", QUERN.replace("link loop1", 'link "loop1"'), "{source: identity}", "source", "meets", "", [3, 7]),
    # What is asked of a calendar is not met by another stamp; who must not be there is no judge of
    # the rest.
    ("quern", QUERN, "{stamp: {zone: shown}}", "stamp", "breaks", "stamps count uptime, which reads like a time of day, without zone", []),
    ("quern", QUERN.replace(SENDS, SENDS.splitlines()[0] + "\n"), "{collectors: {never: [b]}, level: {from: error}}", "level", "meets", "", [4]),
    ("skarn", "journal.target.a.inet = 198.51.100.21\njournal.target.a.from = 192.0.2.9\nport.x.inet = 192.0.2.9\nport.y.inet = 192.0.2.9\nport.y.state = down\n", "{source: identity}", "source", "unknown", "several interfaces have the address 192.0.2.9: x and y", [2]),
    ("skarn", "journal.tag = name\njournal.active = x:yes\n", "{export: on}", "export", "unknown", "line 2", [2]),
]  # fmt: skip


@pytest.mark.parametrize(
    ("platform", "text", "require", "setting", "verdict", "why", "lines"), VERDICTS
)
def test_what_is_not_sure_is_not_told_as_if_it_were(
    platform: str | Dialect,
    text: str,
    require: str,
    setting: str,
    verdict: str,
    why: str,
    lines: list[int],
) -> None:
    found = judged(platform, text, require)[setting]
    assert (found[0], found[2]) == (verdict, lines), found
    assert why in found[1]


@pytest.mark.parametrize(
    ("one", "other", "why"),
    [
        ("speak-from v4 {source.interface}", "speak-from v6 {source.interface}", "source.interface is said by the statement in line 7, too"),
        ("stamp {stamp.kind}", "stamp {stamp.kind} {stamp.zone}", "begins like the statement in line 7, and says something else"),
    ],
)  # fmt: skip
def test_one_value_has_one_statement(one: str, other: str, why: str) -> None:
    with pytest.raises(InputError, match=f"tansy.yaml:8:5: {re.escape(why)}"):
        own(f'{{in: log, says: "{one}"}}', f'{{in: log, says: "{other}"}}')
    # Two ways to write one statement are one: to change it leaves no other behind.
    done = corrected("hollin", HOLLIN, "{rules: {stop: both}}")
    assert "record open close" in done.change and "record open;" in done.backout


TWO = own(
    '{in: log, says: "send {destination.address} {destination.transport} {destination.port} {destination.level}"}',
    '{in: log, says: "least {level}"}',
)
SWITCHED = own(
    SEND,
    '{in: log, says: "beacons {export}", removed-by: "beacons {export}"}',
    more="defaults: {export: off}\nspelling: {switch: {on: live, off: dead}}\n",
)
TO_Z = "journal.target.z.inet = 203.0.113.9\njournal.rule.1.severity = error\njournal.rule.1.target = z\n"
NOBODY = '<osier><sinks><sink id="a"/><sink id="c" inet="198.51.100.21"/></sinks><feeds><feed id="f3"><take category="system"/><give sink="c"/></feed><feed id="f1"><take category="change"/><give sink="a"/></feed></feeds></osier>'
TWICE_TO_Z = TO_Z + "journal.rule.2.severity = error\njournal.rule.2.target = z\n"
SPELLED = "events\n    export on\n    send 198.51.100.21 udp 514 through error\n    send 203.0.113.7 udp 0514 through error\n    send Log.Example udp 514 through error\n    send 2001:DB8::9 udp 514 through error\n"
TWICE = "events\n    export off\n    send 203.0.113.7 udp 514 through error\nevents\n    export off\n    send 198.51.100.21 udp 514 through error\n"
COLONS = IETF % (
    "",
    '{"name": "dc1:log", "udp": {"address": "203.0.113.9"}}, {"name": "dc2:log", "udp": {"address": "198.51.100.21"}}',
    "",
)

CORRECTIONS = [
    (TWO, "log\n  least error\n  send 198.51.100.21 udp 514 warning\n", "{level: {from: notice, to: informational}}", ["send 198.51.100.21 udp 514 informational", "least informational"]),
    (SWITCHED, "log\n  send 198.51.100.21 udp 514\n", "{export: on}", ["beacons live"]),
    ("quern", SPELLED, "{collectors: [a]}", ["strike send 203.0.113.7 udp 0514", "strike send Log.Example udp 514", "strike send 2001:DB8::9 udp 514"]),
    ("quern", TWICE, "{export: on, collectors: [a]}", ["strike send 203.0.113.7 udp 514", "export on"]),
    ("quern", QUERN, "{collectors: [a], level: {from: error, to: informational}}", ["strike send 198.51.100.22 tcp 601"]),
    ("quern", QUERN.replace("through error", "through debug"), "{collectors: {includes: [a]}, level: {from: none, to: critical}}", ["send 198.51.100.21 udp 514 through critical"]),
    # What left for the one that goes leaves for the one that comes.
    ("skarn", TO_Z, "{collectors: [a]}", ["journal.target.a.inet = 198.51.100.21", "journal.rule.1.target = a", "forget journal.target.z"]),
    # What leaves for nobody, for want of an address, is inherited last.
    ("osier", NOBODY, "{collectors: {exactly: [b]}}", ["inet = 198.51.100.22", "port = 601", "carry = tcp", "give b", "drop sink a", "drop sink c"]),
    # Of two picks of the same, either could be left alone, but not both: they lead to one that
    # goes.
    ("skarn", TWICE_TO_Z, "{collectors: [a]}", ["journal.target.a.inet = 198.51.100.21", "journal.rule.1.target = a", "forget journal.target.z"]),
    # Nothing is made worse: what clashes is left, what does not is corrected.
    ("skarn", TO_Z, "{collectors: {includes: [a]}, trust: {clear: nowhere}, numbering: off}", ["journal.number = no"]),
    ("skarn", TO_Z.replace("203.0.113.9", "198.51.100.21") + "journal.target.z.from = 192.0.2.9\nport.i.inet = 192.0.2.9\n", "{collectors: {includes: [a, six]}, source: identity}", []),
    ("ietf-syslog", COLONS, "{collectors: [a]}", ["delete destination dc1:log"]),
    ("hollin", 'unit "x" { gates { gate 1 { action stop; } } record { number off; } }', "{rules: {stop: {never: none}}, numbering: on}", ["number on"]),
    ("hollin", 'unit "x" { port l { inet 192.0.2.9/32; plane transit; } record { number off; collector a { inet 198.51.100.21; } keeper { to a; } } }', "{source: identity, numbering: on}", ["number on"]),
]  # fmt: skip


@pytest.mark.parametrize(("platform", "text", "require", "lines"), CORRECTIONS)
def test_corrections_name_what_stands_and_make_nothing_worse(
    platform: str | Dialect, text: str, require: str, lines: list[str]
) -> None:
    done = corrected(platform, text, require)
    assert [c.line for c in done.changes] == lines
    broke = {v.setting for v in done.before.verdicts if v.verdict == "meets"}
    assert not [v for v in done.after.verdicts if v.setting in broke and v.verdict != "meets"]


def test_a_removal_names_what_stands_there() -> None:
    done = corrected(SWITCHED, "log\n  send 198.51.100.21 udp 514\n", "{export: on}")
    assert done.backout == "log\n    no-more beacons live\n"


def test_a_clash_names_both_rules_and_each_line_its_own_setting() -> None:
    done = corrected(
        "skarn", TO_Z, "{collectors: {includes: [a]}, trust: {clear: anywhere}, numbering: off}"
    )
    assert [c.settings for c in done.changes] == [("collectors",)] * len(done.changes[:-1]) + [
        ("numbering",)
    ]
    done = corrected("skarn", TO_Z.replace("203.0.113.9", "198.51.100.23") + "journal.target.z.carry = tcp\n", "{collectors: {includes: [a]}, facility: local6, trust: {clear: nowhere}}")  # fmt: skip
    assert [r.setting for r in done.remains][:1] == ["collectors"]


@pytest.mark.parametrize("text", ['a " x', "#b", "c\\d", "{e", "f;", " g "])
@pytest.mark.parametrize("name", ["quern", "skarn", "hollin"])
def test_filters_of_any_text_are_taken_back(name: str, text: str) -> None:
    quoted = '"' + re.sub(r'(["\\])', r"\\\1", text) + '"'
    whole = {
        "quern": f"events\n    export on\n    mute 1 {quoted}\n",
        "skarn": f'journal.number = yes\njournal.mute.1 = "{text}"\n',
        "hollin": f'unit "x" {{ record {{ number on; mute 1 {quoted}; }} }}\n',
    }[name]
    done = corrected(name, whole, "{filters: none}")
    assert [c.removes for c in done.changes] == [True]


@pytest.mark.parametrize(
    ("platform", "text", "require", "after"),
    [
        ("quern", "events\r\n    export off\n    number off\r\n", "{export: on}", "events\r\n    export on\n    number off\r\n"),
        ("marl", "[sender]\n; why\nactive = no\n\nfacility=user\n", "{export: on}", "[sender]\n; why\nactive = yes\n\nfacility=user\n"),
        ("skarn", 'journal.active="no"\n', "{export: on}", 'journal.active="yes"\n'),
        ("osier", "<?xml version='1.0'?>\n<osier>\n <sinks on='no'/>\n <x a='1'><![CDATA[<]]></x>\n</osier>", "{export: on}", "<?xml version='1.0'?>\n<osier>\n <sinks on=\"yes\"/>\n <x a='1'><![CDATA[<]]></x>\n</osier>"),
        ("ietf-syslog", COLONS, "{collectors: [a]}", IETF % ("", '{"name": "dc2:log", "udp": {"address": "198.51.100.21"}}', "")),
    ],
)  # fmt: skip
def test_bytes_that_a_change_does_not_need_stay(
    platform: str, text: str, require: str, after: str
) -> None:
    assert corrected(platform, text, require).corrected.decode() == after


def test_what_a_platform_cannot_have_together_is_a_remark_on_the_policy() -> None:
    rules = "rules:\n  - {rule: r, require: {collectors: [a, b], format: expected}}\n"
    policy = read_policy(f"policy: p\ncollectors:{COLLECTORS}{rules}", "policy.yaml")
    told = {
        name: [
            r.text
            for r in remarks(
                policy, [Device("d", "router", "near", name)], TODAY, {name: DIALECTS[name]}
            )
        ]
        for name in ("quern", "skarn")
    }
    assert any("quern has one format for all" in text for text in told["quern"])
    assert not any("one format for all" in text for text in told["skarn"])


FRAMED = """<rpc-reply xmlns="urn:ietf:params:xml:ns:netconf:base:1.0"><data>
<syslog xmlns="urn:ietf:params:xml:ns:yang:ietf-syslog"><actions><remote><destination><name>my name</name>
<udp><address x="1">198.51.100.21</address><port><!-- c -->514</port></udp><facility-filter><facility-list>
<facility>all</facility><severity>debug</severity></facility-list></facility-filter></destination></remote></actions>
</syslog></data></rpc-reply>"""


@pytest.mark.parametrize(
    "text", [FRAMED, f"\n#40\n{FRAMED[:40]}\n#{len(FRAMED) - 40}\n{FRAMED[40:]}\n##\n", f"{FRAMED}]]>]]>\n", "\ufeff" + FRAMED]
)  # fmt: skip
def test_documents_are_read_as_sessions_hand_them_over(text: str) -> None:
    found = judged("ietf-syslog", text, "{collectors: [a], level: {from: error}}")
    assert {name: verdict for name, (verdict, _, _) in found.items()} == {
        "collectors": "meets",
        "level": "meets",
    }
    done = corrected("ietf-syslog", FRAMED, "{collectors: [a], level: error}", exact=False)
    # What is new has the name that the document uses, and what goes is removed, which can be sent
    # again.
    assert (
        "<facility-filter>" in done.change
        and 'operation="remove"' in done.change
        and "delete" not in done.change
    )


def test_values_have_the_types_of_the_model() -> None:
    done = corrected(
        "ietf-syslog",
        IETF % ("", '{"name": "1", "udp": {"address": "203.0.113.9", "port": 99}}', ""),
        "{collectors: [a], clock: {servers: {includes: [198.51.100.5]}}}",
        exact=False,
    )
    assert '"name": "1"' in done.change + done.backout and '"port": 99' in done.backout
    assert '"ietf-system:system"' in done.change and "destination=1" in done.change
    text = '{"openconfig-system:system": {"logging": {}}}'
    done = corrected("openconfig", text, "{collectors: [a], level: {from: error}}", exact=False)
    assert "selector=openconfig-system-logging%3AALL,DEBUG" not in done.change
    assert '"facility": "openconfig-system-logging:ALL"' in done.change


def test_names_of_slots_are_declared() -> None:
    fields = {slot.field for slot in SLOTS.values()}
    assert {"stamp-kind", "source-interface", "delivery-queue", "level"} <= fields
    with pytest.raises(ValueError, match="no slot is called 'mood' anywhere"):
        valued("mood", ValuePart("", "mood", SWITCH), what="moods")


@given(data=st.data())
@tried(40)
@pytest.mark.parametrize("name", ["quern", "skarn", "hollin", "osier"])
def test_what_is_remembered_is_what_would_be_found_anew(name: str, data: st.DataObject) -> None:
    """Fleets in which texts recur at other sites, with other identities, judged against two
    policies in one run.
    """
    dialect = DIALECTS[name]
    base = data.draw(policies())
    ways = st.sampled_from(["same-site", "nowhere", "anywhere"])
    some = [
        read_policy(
            f"policy: p\ncollectors:{COLLECTORS.replace('near', site)}rules:\n  - rule: r\n    require:\n"
            f"      trust: {{clear: {data.draw(ways)}}}\n      source: identity\n      origin: name\n"
            "      rules: {stop: open}\n      level: {from: error}\n      format: expected\n",
            "policy.yaml",
        )
        for site in ("near", "elsewhere")
    ]
    texts = [written(dialect, name, data.draw(records(dialect, name))) for _ in range(2)]
    texts.append(
        texts[0].replace(b"pass", b"stop")
    )  # other traffic rules, which are read only when asked for
    fleet = [
        (
            Device(
                f"d{n}",
                "firewall",
                data.draw(st.sampled_from(["near", "far"])),
                name,
                (),
                f"192.0.2.{9 + n % 2}",
            ),
            text,
        )
        for n, text in enumerate(
            data.draw(st.lists(st.sampled_from(texts), min_size=2, max_size=5))
        )
    ]
    for policy in (*some, base):
        auditor = Auditor(policy, TODAY)
        for one, text in fleet:
            assert auditor.audit(one, dialect, text, "x") == audit_text(
                one, dialect, text, policy, TODAY, "x"
            )


@given(data=st.data())
@tried(40)
@pytest.mark.parametrize("name", ["quern", "skarn", "hollin"])
def test_a_question_has_one_answer_whoever_asked_before(name: str, data: st.DataObject) -> None:
    dialect = DIALECTS[name]
    text = written(dialect, name, data.draw(records(dialect, name)))
    text += b"\nport.up0.inet = 192.0.2.9\n" if name == "skarn" else b""
    asks: dict[str, Callable[[Records], object]] = {
        "row": lambda r: r.row("interface", "up0"),
        "with": lambda r: r.rows_with("interface", "interface.address", "192.0.2.9"),
        "rows": lambda r: dict(r.rows("interface")),
        "gates": lambda r: dict(r.rows("gate")),
        "facts": lambda r: read_settings(Scope(device(dialect), r, {})),
    }
    fresh = {what: ask(read_records(dialect, text)) for what, ask in asks.items()}
    one = read_records(dialect, text)
    for what in data.draw(st.lists(st.sampled_from(sorted(asks)), max_size=8)):
        assert asks[what](one) == fresh[what]
        other = one.having("", (), "export", "on")
        assert asks["with"](other) == fresh["with"]


def test_every_setting_is_judged_by_what_it_declares() -> None:
    for name, setting in SETTINGS.items():
        assert {*setting.slots, *setting.hangs_on} and SLOTS.keys() >= {
            *setting.slots,
            *setting.hangs_on,
        }, name
        assert set(setting.reads) <= SETTINGS.keys()
