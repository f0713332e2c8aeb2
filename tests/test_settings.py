"""Each setting, judged and corrected: small texts of both languages against one requirement."""

from __future__ import annotations

from importlib import import_module
from pathlib import Path

import pytest
from conftest import TODAY

import ivrel.core.settings as package
from ivrel.core import audit_text, correct, read_policy
from ivrel.core.dialects.slots import SLOTS
from ivrel.core.fleet import Device
from ivrel.core.reading import read_records
from ivrel.sources.dialects import Dialects

DIALECTS = Dialects()
PAGE = Path(__file__).parent.parent / "docs" / "write-a-policy.md"
POLICY = """policy: p
collectors:
  a: {{address: 198.51.100.21}}
  b: {{address: 198.51.100.22, port: 601, transport: tcp}}
  s: {{address: 198.51.100.23, port: 6514, transport: tls}}
  twin: {{address: 198.51.100.21, port: 1514, transport: tcp}}
  six: {{address: 2001:db8::21}}
rules:
  - rule: r
    require: {{{require}}}
"""
QUERN = """link loop1
    inet 192.0.2.9/32
    inet6 2001:db8::9/128
link up0
    inet 203.0.113.1/30
    state down
link bare
events
    {export}
"""
SKARN = "port.ident.inet = 192.0.2.9/32\nport.up0.inet = 203.0.113.1/30\n"
BODIES = {
    "skarn": SKARN + "TEXT",
    "hollin": "unit x { port ident { inet 192.0.2.9/32; }\nrecord { TEXT } }\n",
    "marl": "TEXT[port.ident]\ninet = 192.0.2.9/32\n",
    "osier": "<osier><ports/>\n<sinks/>\n<feeds>TEXT</feeds></osier>\n",
    "openconfig": '{"openconfig-system:system": {"logging": {TEXT}}}',
}
CONSOLE = (
    '"console": {"selectors": {"selector": [{"facility": "ALL", "severity": "DEBUG", '
    '"config": {"facility": "ALL", "severity": "DEBUG"}}]}}'
)
TO_A = "send 198.51.100.21 udp 514 through notice"
SIX = "journal.target.z.inet = 2001:db8::21\n"
TARGET_A = "journal.target.a.inet = 198.51.100.21\n"


def rules(*severities: str, name: str = "a") -> str:
    return "".join(
        f"journal.rule.{n}.severity = {s}\njournal.rule.{n}.target = {name}\n"
        for n, s in enumerate(severities, 1)
    )


# platform, what the text says, what is asked, verdict, why, the deciding lines, the correction
CASES = [
    ("quern", "", "export: on", "breaks", "export is off, the default of quern", [], "export on"),
    ("quern", f"export off/{TO_A}", "export: on", "breaks", "so nothing leaves for a", [9], "export on"),
    ("skarn", TARGET_A, "export: on", "meets", "", [], ""),
    ("skarn", "journal.active = no\njournal.active = yes", "export: on", "meets", "", [4], ""),
    ("quern", "export on", "export: off", "breaks", "export is on", [9], "export off"),
    ("quern", TO_A, "collectors: [a]", "meets", "", [9], ""),
    ("quern", "send 198.51.100.21 udp 5514 through debug", "collectors: [a]", "breaks", "but port 5514, not 514", [9],
     "send 198.51.100.21 udp 514 through debug/strike send 198.51.100.21 udp 5514"),
    ("quern", "send 198.51.100.21 tcp 99 through debug", "collectors: [twin]", "breaks", "but port 99, not 1514", [9],
     "send 198.51.100.21 tcp 1514 through debug/strike send 198.51.100.21 tcp 99"),
    ("skarn", TARGET_A + "journal.target.a.carry = tcp", "collectors: [a]", "breaks", "transport tcp, not udp", [4],
     "journal.target.a.carry = udp"),
    ("quern", "", "collectors: [a]", "breaks", "a (198.51.100.21 udp 514) is missing", [],
     "send 198.51.100.21 udp 514 through notice"),
    ("quern", TO_A, "collectors: {never: a}", "breaks", "is a, which is not asked for here", [9],
     "strike send 198.51.100.21 udp 514"),
    ("quern", "send 203.0.113.7 udp 514 through error", "collectors: {includes: []}", "meets", "", [9], ""),
    ("quern", "send 203.0.113.7 udp 514 through error", "collectors: []", "breaks", "203.0.113.7 is a stranger", [9],
     "strike send 203.0.113.7 udp 514"),
    ("quern", "", "collectors: [s]", "unable", "quern cannot send by transport tls", [], ""),
    ("skarn", TARGET_A + TARGET_A.replace(".a.", ".z."), "collectors: [a]", "breaks",
     "z (198.51.100.21 udp 514) is a once more", [4], "forget journal.target.z"),
    ("quern", TO_A, "level: {from: warning, to: informational}", "meets", "", [9], ""),
    ("quern", TO_A, "level: {from: debug}", "breaks", "a misses informational, debug", [9],
     "send 198.51.100.21 udp 514 through debug"),
    ("quern", TO_A, "level: {to: error, write: alert}", "breaks", "adds warning, notice", [9],
     "send 198.51.100.21 udp 514 through alert"),
    ("quern", TO_A, "level: [error, debug]", "breaks", "gets through notice, not error or debug", [9],
     "send 198.51.100.21 udp 514 through error"),
    ("quern", "send 198.51.100.21 udp 514 through nothing", "level: error", "breaks", "gets nothing at all", [9],
     "send 198.51.100.21 udp 514 through error"),
    ("skarn", TARGET_A + rules("emergency", "critical"), "level: {from: critical, to: error}", "breaks",
     "a misses alert", [4, 6], "journal.rule.3.severity = alert/journal.rule.3.target = a"),
    ("skarn", TARGET_A + rules("emergency", "critical"), "level: {from: emergency, to: error}", "breaks",
     "a has a hole at alert", [4, 6], "forget journal.rule.2"),
    ("skarn", TARGET_A + rules("emergency", "debug"), "level: emergency", "breaks", "a adds debug", [6],
     "forget journal.rule.2"),
    ("skarn", TARGET_A + rules("emergency", name="gone"), "level: {to: debug}", "breaks", "rule 1 feeds 'gone'", [5],
     "forget journal.rule.1"),
    ("skarn", "", "level: error", "unknown", "there is nothing to judge", [], ""),
    ("quern", "", "facility: local3", "breaks", "local0, the default of quern, not local3", [], "facility local3"),
    ("quern", "facility local1", "facility: {never: local1}", "breaks", "local1, not never local1", [9], ""),
    ("skarn", TARGET_A, "facility: [local4, user]", "meets", "", [], ""),
    ("skarn", TARGET_A, "facility: local4", "breaks", "a: user, the default of skarn", [],
     "journal.target.a.facility = local4"),
    ("quern", "stamp off", "stamp: {kind: calendar}", "breaks", "messages bear no stamp", [9], "stamp calendar"),
    ("quern", "", "stamp: {kind: calendar, year: shown}", "breaks", "stamps count uptime", [], "stamp calendar year"),
    ("quern", "stamp calendar micros", "stamp: {precision: {at-least: milliseconds}}", "meets", "", [9], ""),
    ("quern", "stamp calendar year", "stamp: {precision: {between: [milliseconds, microseconds]}}", "breaks",
     "the precision is in seconds, the default of quern, not from milli", [9], "stamp calendar micros year"),
    ("skarn", "journal.stamp.zone = yes", "stamp: {zone: hidden}", "breaks", "the zone is shown, not hidden", [3],
     "journal.stamp.zone = no"),
    ("skarn", "journal.stamp.grain = milli", "stamp: {precision: microseconds}", "unable",
     "skarn cannot say microseconds; it can say seconds, milliseconds", [3], ""),
    ("quern", "leave-from loop1", "source: identity", "meets", "", [2, 3, 9], ""),
    ("quern", "", "source: identity", "breaks", "whatever interface is nearest", [], "leave-from loop1"),
    ("quern", "leave-from gone0", "source: identity", "breaks", "interface gone0 does not exist", [9],
     "leave-from loop1"),
    ("quern", "leave-from bare", "source: loop1", "breaks", "bare has no address", [9], "leave-from loop1"),
    ("quern", "leave-from up0", "source: up0", "breaks", "up0 is down", [6, 9], ""),
    ("quern", "leave-from loop1", "source: up0", "breaks", "leaves from loop1 (192.0.2.9, 2001:db8::9), not up0",
     [2, 3, 9], ""),
    ("quern", "leave-from loop1", "source: {never: loop1, write: 192.0.2.9}", "breaks", "never to be the source",
     [2, 3, 9], ""),
    ("skarn", TARGET_A + "journal.target.a.from = 203.0.113.1", "source: identity", "breaks",
     "a: leaves from up0 (203.0.113.1), not 192.0.2.9 (its identity)", [2, 4], "journal.target.a.from = 192.0.2.9"),
    ("skarn", TARGET_A + "journal.target.a.from = 203.0.113.9", "source: ident", "breaks",
     "no interface has the address 203.0.113.9", [4], "journal.target.a.from = 192.0.2.9"),
    # An address of the collector's family: the identity's own, or one beside it.
    ("skarn", SIX + "journal.target.z.from = 192.0.2.9", "source: identity", "breaks",
     "z: 192.0.2.9 is no IPv6 address, and z is at 2001:db8::21", [1, 4], ""),
    ("skarn", SIX + "port.ident.inet6 = 2001:db8::9/128\njournal.target.z.from = 192.0.2.9", "source: identity", "breaks",
     "192.0.2.9 is no IPv6 address", [1, 5], "journal.target.z.from = 2001:db8::9"),
    ("skarn", SIX + "port.ident.inet6 = 2001:db8::9/128\njournal.target.z.from = 2001:db8::9", "source: identity", "meets",
     "", [4, 5], ""),
    ("quern", "send 2001:db8::21 udp 514 through error/leave-from up1\nlink up1\n    inet 203.0.113.5", "source: identity",
     "breaks", "up1 has no IPv6 address, and six is at 2001:db8::21", [10, 12], "leave-from loop1"),
    ("quern", "send 2001:db8::21 udp 514 through error/leave-from loop1", "source: identity", "meets", "", [2, 3, 10], ""),
    ("hollin", "keeper { severity notice; to a; } transit { to a; } collector a { inet 198.51.100.21; }",
     "level: {from: warning}", "meets", "", [2], ""),
    ("hollin", "keeper { severity error; to a; } transit { to a; } collector a { inet 198.51.100.21; }",
     "level: {from: warning}", "breaks", "a misses warning of keeper", [2], "severity warning"),
    ("hollin", "keeper { to a; } collector a { inet 198.51.100.21; }", "level: {from: warning, to: notice}", "breaks",
     "a gets nothing at all of transit", [2], "to a"),
    ("hollin", "keeper { to a; to z; } transit { to a; } collector a { inet 198.51.100.21; }", "level: {to: notice}",
     "breaks", "feed keeper feeds 'z', which is not set", [2], "drop to z"),
    ("hollin", "keeper { to a; } transit { facility local3; to a; } collector a { inet 198.51.100.21; }",
     "facility: local3", "breaks", "keeper: daemon, the default of hollin, not local3", [], "facility local3"),
    ("hollin", "collector a { inet 198.51.100.21; }", "source: identity", "unknown", "nothing to judge", [], ""),
    ("hollin", "mark dated micro", "stamp: {year: hidden}", "unable", "hollin cannot say hidden", [2], ""),
    ("hollin", "", "export: off", "unable", "export is on, the default of hollin", [], ""),
    ("marl", "[collector.1]\ninet = 198.51.100.21\n", "collectors: {includes: [b]}", "unable", "cannot send by transport tcp", [2], ""),
    ("marl", "[collector.1]\ninet = 203.0.113.1\n[collector.2]\ninet = 203.0.113.2\n", "collectors: [a]", "breaks",
     "a (198.51.100.21 udp 514) is missing", [2, 4], "inet = 198.51.100.21/without collector.1"),
    ("marl", "[collector.1]\ninet = 198.51.100.21\nleast = alert\n", "level: error", "breaks", "a misses critical, error",
     [3], "least = error"),
    ("osier", '<feed id="f"><take category="system" least="alert"/></feed>', "level: alert", "unknown",
     "no collector that is asked for is set", [], ""),
    ("openconfig", "", "facility: local1", "unable", "openconfig has no statement for the facility", [], ""),
    ("openconfig", CONSOLE, "console: none", "unable", "its entries are only read", [1], ""),
    ("openconfig", "", "stamp: {kind: calendar}", "unable", "openconfig has no statement for the kind of stamps", [], ""),
    ("quern", "whistle twice", "facility: local0", "unknown", "line 9 is not understood: …", [9], ""),
    ("quern", "export twice", "facility: local0", "meets", "", [], ""),
]  # fmt: skip


@pytest.mark.parametrize(
    ("platform", "text", "require", "verdict", "why", "lines", "change"),
    CASES,
    ids=[f"{c[0]} {c[2]}" for c in CASES],
)
def test_verdict_and_correction(
    platform: str, text: str, require: str, verdict: str, why: str, lines: list[int], change: str
) -> None:
    if platform == "quern":
        body = (
            QUERN.format(export="\n    ".join(text.split("/")))
            if text
            else QUERN.format(export="screen off")
        )
    else:
        body = BODIES[platform].replace("TEXT", text)
    policy = read_policy(POLICY.format(require=require), "policy.yaml")
    device = Device("x", "router", "s", platform, (), "192.0.2.9")
    done = correct(device, DIALECTS[platform], body.encode(), policy, TODAY, "x.conf")
    found = done.before.verdicts[0]
    assert (found.verdict, [p.line for p in found.where]) == (verdict, lines), found
    assert why in found.why
    assert "/".join(c.line for c in done.changes) == change
    assert all(p.holds for p in done.proof), done.proof
    assert (done.after.verdicts[0].verdict == "meets") == (verdict == "meets" or bool(change))
    for left in done.remains:
        parts = left.why.split("; ")
        assert len(set(parts)) == len(parts), "something is told twice"


def test_a_fact_tells_whether_the_text_says_it_or_the_platform() -> None:
    text = BODIES["hollin"].replace(
        "TEXT",
        "keeper { to a; } transit { severity error; to a; } collector a { inet 198.51.100.21; }",
    )
    records = read_records(DIALECTS["hollin"], text.encode())
    facts = package.SETTINGS["level"].facts(package.Scope(None, records, {}))
    told = {fact.part: (fact.value, fact.default) for fact in facts}
    assert told == {"keeper": ("through notice", True), "transit": ("through error", False)}


def test_collectors_are_told_by_name_and_others_by_their_endpoint() -> None:
    policy = read_policy(POLICY.format(require="collectors: [a]"), "policy.yaml")
    text = QUERN.format(export=f"{TO_A}\n    send 203.0.113.7 udp 514 through error")
    records = read_records(DIALECTS["quern"], text.encode())
    collectors = package.SETTINGS["collectors"]
    facts = collectors.facts(package.Scope(None, records, policy.collectors))
    assert collectors.say(facts) == "a, 203.0.113.7 udp 514" and collectors.say([]) == "none"


def test_a_full_platform_falls_silent_and_says_so() -> None:
    policy = read_policy(POLICY.format(require="collectors: [a, b]"), "policy.yaml")
    device, dialect = Device("x", "router", "s", "quern"), DIALECTS["quern"]
    full = "export on\n    " + "\n    ".join(
        f"send 203.0.113.{n} udp 514 through error" for n in range(1, 5)
    )
    text = QUERN.format(export=full).encode()
    done = correct(device, dialect, text, policy, TODAY, "x.conf")
    # Nothing right was there before, so nothing is lost on the way: two go, two come, two go.
    assert done.proved and [c.removes for c in done.changes] == [
        True,
        True,
        False,
        False,
        True,
        True,
    ]
    wrong = full.replace("203.0.113.1 udp 514", "198.51.100.21 udp 514").replace(
        "203.0.113.2 udp", "198.51.100.21 tcp"
    )
    done = correct(device, dialect, QUERN.format(export=wrong).encode(), policy, TODAY, "x.conf")
    assert done.proved and done.changes[0].line.startswith("strike send")


@pytest.mark.parametrize(
    ("platform", "before", "change", "after"),
    [
        (
            "quern",
            "events\n  export off\nroute x\n",
            "events\n    export on\n",
            "events\n  export on\nroute x\n",
        ),
        (
            "quern",
            "events\n\tsend a\n",
            "events\n    facility local1\n",
            "events\n\tsend a\n\tfacility local1\n",
        ),
        ("quern", "unit x", "events\n    export on\n", "unit x\nevents\n    export on"),
        (
            "quern",
            "unit x\r\nevents\r\n",
            "events\n    export on\n",
            "unit x\r\nevents\r\n    export on\r\n",
        ),
        (
            "quern",
            "events\n    facility local1\nlink a\nevents\n    export off\n",
            "events\n    facility local2\n    strike export\n",
            "events\n    facility local2\nlink a\nevents\n",
        ),
        ("quern", "# note\nunit x\n", "unit y\n", "# note\nunit y\n"),
        ("skarn", "a.b = 1\n", "journal.active = no\n", "a.b = 1\njournal.active = no\n"),
        (
            "skarn",
            "journal.rule.1.severity = debug\njournal.rule.10.severity = alert\nz.a = 1\n",
            "forget journal.rule.1\njournal.rule.10.target = b\n",
            "journal.rule.10.severity = alert\njournal.rule.10.target = b\nz.a = 1\n",
        ),
    ],
)
def test_changes_are_applied_as_the_platform_would(
    platform: str, before: str, change: str, after: str
) -> None:
    from ivrel.core.correcting.changes import apply_change

    assert apply_change(DIALECTS[platform], before.encode(), change, "change").decode() == after


def test_a_zone_that_a_platform_describes_nowhere_is_unable() -> None:
    policy = read_policy(POLICY.format(require="clock: {zone: UTC}"), "policy.yaml")
    device = Device("x", "server", "s", "rsyslog")
    text = b"*.* @198.51.100.21\n"
    (verdict,) = audit_text(device, DIALECTS["rsyslog"], text, policy, TODAY, "x").verdicts
    assert (verdict.verdict, verdict.why) == ("unable", "rsyslog has no statement for the zone")
    assert [f.kind for f in verdict.findings] == ["silent"]


@pytest.mark.parametrize(("platform", "whole"), [("quern", False), ("openconfig", True)])
def test_a_change_that_is_carried_out_as_a_whole_says_so(platform: str, whole: bool) -> None:
    policy = read_policy(POLICY.format(require="collectors: [a]"), "policy.yaml")
    text = BODIES.get(platform, QUERN.format(export="export on")).replace("TEXT", CONSOLE)
    device = Device("x", "router", "s", platform)
    done = correct(device, DIALECTS[platform], text.encode(), policy, TODAY, "x")
    assert done.changes and done.whole is whole


def test_nothing_of_a_setting_is_forgotten() -> None:
    """Says in plain words what a setting lacks, for whoever adds one."""
    missing: list[str] = []
    folder = Path(package.__file__).parent
    for name in sorted(path.stem for path in folder.glob("*.py")):
        one = getattr(import_module(f"{package.__name__}.{name}"), "SETTING", None)
        if one is not None and package.SETTINGS.get(one.name) is not one:
            missing.append(f"{name}.py: its SETTING is not in the table of settings/__init__.py")
    owners: dict[str, list[str]] = {}
    for setting in package.SETTINGS.values():
        own, texts = setting.name, ("kind", "meaning", "matters", "meets", "breaks")
        for slot in setting.slots:
            owners.setdefault(slot, []).append(own)
        unknown = {*setting.slots, *setting.hangs_on} - SLOTS.keys()
        missing += [f"{own}: no slot is called '{slot}' in slots.py" for slot in unknown]
        strangers = set(setting.reads) - package.SETTINGS.keys()
        missing += [f"{own}: it reads '{other}', which is no setting" for other in strangers]
        missing += [f"{own}: its '{text}' is empty" for text in texts if not getattr(setting, text)]
        if f"| `{own}` |" not in PAGE.read_text():
            missing.append(f"{own}: docs/write-a-policy.md has no row of it; run docs/schemas.py")
    for said in SLOTS.values():
        found, needed = len(owners.get(said.name, ())), 0 if said.idle else 1
        if found != needed:
            missing.append(f"slot '{said.name}' belongs to {found} settings, not to {needed}")
    assert not missing, "\n".join(missing)
