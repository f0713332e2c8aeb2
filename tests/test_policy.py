"""Policies that fit real fleets: files that include others, negation, sites, relays, and what is
idle in them.
"""

from __future__ import annotations

import json
from datetime import date, timedelta
from pathlib import Path

import pytest
from conftest import TODAY, Run, script

from ivrel.core import Device, InputError, audit_text, correct
from ivrel.core.fleet import read_fleet
from ivrel.core.judging.asking import read_policy
from ivrel.core.judging.remarks import remarks
from ivrel.core.policy import Policy, effective
from ivrel.core.settings import SETTINGS
from ivrel.core.vocabulary.errors import Unreadable
from ivrel.sources.dialects import Dialects

QUERN = Dialects()["quern"]
HEAD = """policy: p
collectors:
  a: {address: 198.51.100.21, site: north}
  b: {address: 198.51.100.22, site: north}
  far: {address: 198.51.100.23, site: south}
  relay: {address: 192.0.2.200, forwards: [a, b]}
  second: {address: 192.0.2.201, forwards: relay}
sites:
  ship: {collectors: relay, zone: UTC}
  moor: {zone: UTC}
"""


def policy(rules: str, head: str = HEAD) -> Policy:
    return read_policy(f"{head}rules:\n{rules}", "policy.yaml")


def device(name: str = "x1", kind: str = "router", site: str = "ship", *groups: str) -> Device:
    return Device(name, kind, site, "quern", groups, "192.0.2.9")


def text(*addresses: str) -> bytes:
    sends = "".join(f"    send {a} udp 514 through informational\n" for a in addresses)
    return f"link loop1\n    inet 192.0.2.9/32\nclock\n    zone UTC\nevents\n    export on\n{sends}".encode()


def why(rules: str, *addresses: str, site: str = "ship") -> dict[str, tuple[str, str]]:
    result = audit_text(device(site=site), QUERN, text(*addresses), policy(rules), TODAY, "x1.conf")
    return {v.setting: (v.verdict, v.why) for v in result.verdicts}


def test_rules_are_about_what_is_selected_and_not_taken_out() -> None:
    read = policy(
        "  - rule: all but small switches\n    where: {not: {kind: switch, group: [small, tiny*]}}\n    require: {export: on}\n"
        "  - rule: routers but those of the ships\n    where: {kind: router, not: {site: 'ship*'}}\n    require: {facility: local4}\n"
    )
    first, second = read.rules
    assert not first.holds_for(device(kind="switch")) and not first.holds_for(
        device("x", "router", "main", "tiny1")
    )
    assert first.holds_for(device("x", "router", "main", "large"))
    assert not second.holds_for(device(site="ship2")) and second.holds_for(device(site="main"))
    assert second.about == "kind router, not site ship*"


def test_a_relay_stands_for_those_that_it_forwards_to() -> None:
    both = "  - rule: r\n    require: {collectors: {exactly: [a, b]}, level: {from: warning}}\n"
    assert why(both, "198.51.100.21", "198.51.100.22")["collectors"][0] == "meets"
    # By a relay, or by one that forwards to a relay; what leaves for it is judged as well.
    for relay in ("192.0.2.200", "192.0.2.201"):
        found = why(both, relay)
        assert found["collectors"][0] == found["level"][0] == "meets"
    assert why(both.replace("[a, b]", "[a, far]"), "192.0.2.200")["collectors"] == (
        "breaks",
        "far (198.51.100.23 udp 514) is missing",
    )
    wanted = correct(device(), QUERN, text("192.0.2.200"), policy(both), TODAY, "x1.conf")
    assert wanted.changes == () and wanted.remains == ()


def test_sites_give_their_own_collectors_and_zone() -> None:
    rule = "  - rule: r\n    require: {collectors: {exactly: site}, clock: {zone: site}}\n"
    found = why(rule, "192.0.2.200")
    assert found["collectors"][0] == found["clock"][0] == "meets"
    assert why(rule, "198.51.100.21")["collectors"][0] == "breaks"
    # A site that the table does not know leaves in doubt what is asked; nothing is corrected there.
    unknown = why(rule, "198.51.100.21", site="pier")
    assert unknown["collectors"] == (
        "unknown",
        "the policy's table of sites gives no collectors for pier",
    )
    done = correct(
        device(site="pier"), QUERN, text("198.51.100.21"), policy(rule), TODAY, "x1.conf"
    )
    assert not done.changes and {r.verdict for r in done.remains} == {"unknown"}


def test_collectors_that_share_a_site_are_not_apart() -> None:
    rule = "  - rule: r\n    require: {collectors: {includes: [a, %s], apart: site}}\n"
    assert why(rule % "far", "198.51.100.21", "198.51.100.23")["collectors"][0] == "meets"
    verdict, told = why(rule % "b", "198.51.100.21", "198.51.100.22")["collectors"]
    assert verdict == "breaks" and told.startswith("all collectors stand at north")
    # Two collectors behind one relay, or behind one line, have one path.
    rule = rule.replace("site", "path") % "b"
    assert why(rule, "192.0.2.200")["collectors"][1].startswith("everything goes by relay")
    assert why(rule, "198.51.100.21", "192.0.2.200")["collectors"][0] == "meets"
    head = HEAD.replace("site: north", "site: north, path: ring")
    both = audit_text(
        device(), QUERN, text("198.51.100.21", "198.51.100.22"), policy(rule, head), TODAY, "f"
    )
    assert both.verdicts[0].why.startswith("everything goes by ring")


CLASHES = [
    ("{export: off, collectors: [a, b]}", "contradicts itself in export and collectors", "nothing leaves for a, b while"),
    ("{collectors: [safe], trust: {clear: nowhere}}", "", ""),
    ("{collectors: [a], trust: {clear: nowhere}}}\n  - {rule: later, require: {trust: any}", "", ""),
    ("{collectors: [a, safe], trust: {clear: nowhere}}", "contradicts itself in trust and collectors", "a takes clear text (udp)"),
    ("{collectors: [behind], trust: {clear: nowhere}}", "", ""),
    ("{collectors: [far], trust: {clear: same-site}}", "contradicts itself in trust and", "far takes clear text (udp) and stands at south, not at ship"),
    ("{collectors: [safe], format: rfc3164}", "contradicts itself in format and", "safe expects rfc5424"),
    ("{collectors: [safe], format: expected, stamp: {kind: calendar, year: hidden}}", "contradicts itself in stamp and format", "shows the year"),
    ("{collectors: [safe], format: expected, stamp: {kind: uptime}}", "contradicts itself in stamp and format", "does not count uptime"),
    ("{collectors: [safe], format: expected, stamp: {kind: calendar, year: shown}}", "", ""),
    ("{collectors: [], level: {from: warning}}", "contradicts itself in collectors and level", "sends nothing"),
    ("{collectors: {exactly: [safe, a], apart: site}}", "contradicts itself in collectors:", "all collectors stand at north"),
    ("{collectors: {exactly: [safe, a], apart: [path, site]}}", "contradicts itself in collectors:", "apart by site"),
]  # fmt: skip


@pytest.mark.parametrize(("require", "said", "because"), CLASHES)
def test_requirements_that_cannot_be_had_together_are_told(
    require: str, said: str, because: str
) -> None:
    head = HEAD.replace("sites:\n", "  safe: {address: 198.51.100.24, port: 6514, transport: tls, format: rfc5424, site: north}\n"
        "  behind: {address: 198.51.100.25}\n  gate: {address: 192.0.2.202, port: 6514, transport: tls, forwards: behind}\nsites:\n")  # fmt: skip
    read = policy(f"  - {{rule: r, require: {require}}}\n", head)
    told = [
        r.text for r in remarks(read, [device(), device("x2")], TODAY) if "contradicts" in r.text
    ]
    assert len(told) == bool(said) and all(f"rule 'r' {said}" in t and because in t for t in told)
    assert all(t.endswith("; on 2 devices, x1 for one") for t in told)
    # Without a fleet the same is told, at the sites that the policy knows of.
    alone = [r.text for r in remarks(read, [], TODAY) if "contradicts" in r.text]
    assert len(alone) == bool(said)


def test_rules_alone_tell_what_can_never_hold() -> None:
    read = policy(
        "  - rule: routers\n    where: {kind: router, site: [a, b]}\n    require: {facility: local1, export: on}\n"
        "  - rule: two sites\n    where: {site: [a, b, c], not: {group: old}}\n    require: {facility: local2}\n"
        "  - rule: new routers\n    where: {kind: router, site: a, not: {group: [old, odd]}}\n    require: {facility: local3}\n"
        "  - rule: none\n    where: {kind: router, not: {kind: [router, switch]}}\n    require: {export: off}\n"
        "  - rule: two sites again\n    where: {site: [c, b, a], not: {group: old}}\n    require: {facility: local4}\n"
    )
    told = [r.text for r in remarks(read, [], TODAY) if "no rule asks" not in r.text]
    assert told == [
        "what rule 'two sites' asks of facility holds nowhere: rule 'two sites again' always replaces it",
        "what rule 'new routers' asks of facility holds nowhere: rule 'two sites again' always replaces it",
        "rule 'none' is about no device: its `not` leaves nothing",
    ]


FILES = {
    "common.yaml": "collectors:\n  a: {address: 198.51.100.21}\nrules:\n  - rule: base\n    require: {export: on, facility: local4}\n",
    "sub/more.yaml": "include: waivers.yaml\nrules:\n  - rule: more\n    require: {facility: local5}\n",
    "sub/waivers.yaml": "waivers:\n  - {device: x1, setting: export, until: 2026-12-01, because: refit, who: the board}\n",
}


def opened(name: str) -> str:
    if name not in FILES:
        raise Unreadable(f"{name}: no such file or directory")
    return FILES[name]


def test_included_files_come_first_and_are_told_by_name() -> None:
    main = "policy: p\ninclude: [common.yaml, sub/more.yaml]\nrules:\n  - rule: own\n    require: {facility: local6}\n"
    read = read_policy(main, "policy.yaml", opened)
    assert [(r.name, r.file) for r in read.rules] == [
        ("base", "common.yaml"),
        ("more", "sub/more.yaml"),
        ("own", "policy.yaml"),
    ]
    asked = effective(read, device())
    assert (asked["export"].file, asked["export"].line) == ("common.yaml", 5)
    assert asked["facility"].text == "local6" and read.waivers[0].who == "the board"


@pytest.mark.parametrize(
    ("main", "expected"),
    [
        ("policy: p\ninclude: policy.yaml\n", "policy.yaml:1:1: includes 'policy.yaml', which includes this file again"),
        ("policy: p\ninclude: gone.yaml\n", "policy.yaml:1:1: included file gone.yaml: no such file or directory"),
        ("policy: p\ninclude: common.yaml\ncollectors: {a: {address: 192.0.2.1}}\n", "policy.yaml:1:1: collector 'a' stands in an included file, too"),
        ("include: common.yaml\n", "policy.yaml:1:1: a policy without 'policy'"),
        ("policy: p\ninclude: common.yaml\nrules:\n  - {rule: base, require: {export: on}}\n", "policy.yaml:4:5: rule 'base' stands twice; the first is in line 4 of common.yaml"),
        (HEAD.replace("forwards: [a, b]", "forwards: [a, second]") + "rules: [{rule: r, require: {export: on}}]\n", "policy.yaml:1:1: relay 'relay' forwards to itself, by a and second"),
        (HEAD.replace("forwards: [a, b]", "forwards: []") + "rules: [{rule: r, require: {export: on}}]\n", "policy.yaml:6:43: the list is empty; expected at least one entry"),
        (HEAD.replace("forwards: [a, b]", "forwards: [a, c]") + "rules: [{rule: r, require: {export: on}}]\n", "policy.yaml:1:1: relay 'relay' forwards to a collector that 'c' is not known"),
        (HEAD.replace("collectors: relay", "collectors: rely") + "rules: [{rule: r, require: {export: on}}]\n", "policy.yaml:9:9: collector 'rely' is not known; did you mean 'relay'?"),
    ],
)  # fmt: skip
def test_policies_of_several_files_have_mistakes_too(main: str, expected: str) -> None:
    with pytest.raises(InputError) as problem:
        read_policy(main, "policy.yaml", opened)
    assert expected in "\n".join(map(str, problem.value.mistakes))


def test_what_is_idle_or_runs_out_is_told(ivrel: Run, example: Path, tmp_path: Path) -> None:
    assert (
        ivrel("policy", "-w", example, "--today", "2026-11-23", code=0).stdout.count("to look at")
        == 0
    )
    read = policy(
        "  - rule: nobody\n    where: {site: moon}\n    require: {export: on}\n"
        "  - rule: first\n    require: {facility: local4, collectors: [a, b, far]}\n"
        "  - rule: last\n    require: {facility: local5, collectors: {exactly: site}}\n"
        "waivers:\n"
        "  - {device: 'y*', setting: export, until: 2030-01-01, because: x}\n"
        "  - {device: x1, setting: stamp, until: 2030-01-01, because: x}\n"
        "  - {device: x1, setting: facility, until: 2026-11-22, because: x}\n"
        "  - {device: x1, setting: facility, until: 2026-12-23, because: x}\n"
    )
    devices = [device(), device("x2", "router", "pier")]
    told = [(r.text, r.wrong) for r in remarks(read, devices, TODAY)]
    assert told == [
        ("a rule asks for `site`, and the table of sites says nothing of it for pier", True),
        ("the table of sites tells of moor, where no device is", True),
        ("rule 'nobody' is about no device", True),
        (
            "what rule 'first' asks of collectors holds nowhere: later rules replace it on every device",
            True,
        ),
        (
            "what rule 'first' asks of facility holds nowhere: later rules replace it on every device",
            True,
        ),
        ("the waiver for 'y*' is about no device", True),
        ("the waiver for 'x1' is idle: nothing asks stamp of it", True),
        ("the waiver of facility for x1 ran out on 2026-11-22", True),
        ("the waiver of facility for x1 runs out in 30 days, on 2026-12-23", False),
    ]
    # The day before, it does not yet run out soon; without devices, only what needs none is told.
    assert not any("in 3" in r.text for r in remarks(read, [], date(2026, 11, 23) - timedelta(1)))
    (tmp_path / "policy.yaml").write_text(
        (example / "policy.yaml").read_text().replace("until: 2027-03-31", "until: 2026-12-01")
    )
    alone = json.loads(
        ivrel("policy", "-w", tmp_path, "--today", "2026-11-23", "--format", "json", code=0).stdout
    )
    assert [r["text"] for r in alone["to_look_at"]] == [
        "the waiver of stamp for mv-petrel-gw1 runs out in 8 days, on 2026-12-01"
    ]


def test_rules_are_also_about_devices_whose_platform_has_no_dialect(
    ivrel: Run, tmp_path: Path
) -> None:
    (tmp_path / "fleet.yaml").write_text(
        "fleet: f\ndevices:\n  - {device: x1, kind: router, site: s, platform: dunlin}\n"
    )
    (tmp_path / "policy.yaml").write_text(
        "policy: p\ncollectors: {a: {address: 198.51.100.21}}\nrules:\n  - rule: dunlins\n    where: {platform: dunlin}\n"
        "    require: {collectors: [a]}\n"
    )
    done = ivrel("policy", "-w", tmp_path, code=0)
    assert "about no device" not in done.stdout
    assert "platform 'dunlin' has no dialect; 1 device: x1" in done.stderr


def test_devices_whose_platform_has_no_dialect_stop_no_other(ivrel: Run, tmp_path: Path) -> None:
    devices = ("{device: x1, platform: dunlin}", "{device: x2, platform: quern}")
    rows = "".join(f"  - {d[:-1]}, kind: router, site: s}}\n" for d in devices)
    (tmp_path / "fleet.yaml").write_text(f"fleet: f\ndevices:\n{rows}")
    done = ivrel("gather", "-w", tmp_path, code=1)
    assert "platform 'dunlin' has no dialect; 1 device: x1" in done.stderr
    assert "x2" in done.stdout
    assert "has no dialect" in ivrel("gather", "-w", tmp_path, "x1", code=2).stderr


def test_a_waiver_that_ran_out_is_a_finding_of_its_own(ivrel: Run, example: Path) -> None:
    call = ("audit", "-w", example, "mv-petrel-gw1", "--setting", "facility", "--today")
    assert "policy.yaml" not in ivrel(*call, "2027-02-28", code=0).stdout
    assert "runs out in 16 days, on 2027-03-31" in ivrel(*call, "2027-03-15", code=0).stdout
    assert (
        "the waiver of stamp for mv-petrel-gw1 ran out on 2027-03-31"
        in ivrel(*call, "2027-04-01", code=1).stdout
    )
    ivrel(*call, "2027-04-01", "--format", "jsonl", code=1)
    ivrel("audit", "-w", example, "holmsay-gw1", "--today", "2027-04-01", code=0)


def test_one_host_under_two_names_is_there_twice() -> None:
    head = HEAD.replace(
        "address: 198.51.100.21, site", "address: 198.51.100.21, names: beacon.example, site"
    )
    read = policy("  - rule: r\n    require: {collectors: {exactly: [a]}}\n", head)
    for addresses, verdict in (
        (("beacon.example",), "meets"),
        (("beacon.example", "198.51.100.21"), "breaks"),
    ):
        result = audit_text(device(), QUERN, text(*addresses), read, TODAY, "x1.conf")
        assert result.verdicts[0].verdict == verdict and (
            "once more" in result.verdicts[0].why
        ) == (verdict == "breaks")


def test_devices_that_claim_one_identity_are_findings_and_stop_nobody() -> None:
    rows = [
        "device,kind,site,platform,identity",
        *(f"x{n},router,ship,quern,192.0.2.9" for n in range(1, 7)),
    ]
    fleet = read_fleet("\n".join([*rows, "y,router,ship,quern,192.0.2.10"]), "fleet.csv")
    read = policy(
        "  - rule: r\n    require: {source: [identity, loop1]}\n  - rule: named\n    where: {device: x2}\n    require: {source: loop1}\n"
    )
    conf = text("198.51.100.21") + b"    leave-from loop1\n"
    given = [audit_text(d, QUERN, conf, read, TODAY, "f").verdicts[0] for d in fleet.devices]
    assert [v.verdict for v in given] == ["breaks", "meets", *["breaks"] * 4, "meets"]
    assert (
        given[0].why
        == "the fleet gives 192.0.2.9 to x2, x3, x4 and 2 more as well, so a collector takes them for one"
    )
    done = correct(fleet.devices[0], QUERN, conf, read, TODAY, "f")
    assert not done.changes and [r.why for r in done.remains] == [
        f"{given[0].why}; the fleet has to give each device an identity of its own"
    ]


def test_the_page_on_policies_is_current_and_asks_something_of_every_setting() -> None:
    schemas = script("schemas")
    page = Path(schemas.__file__).with_name("write-a-policy.md").read_text()
    assert page == schemas.settings(page)
    read = read_policy(page.split("```yaml\n")[1].split("```")[0], "policy.yaml")
    assert {name for rule in read.rules for name in rule.require} == set(SETTINGS)
    assert remarks(read, [], TODAY) == []
    oldest = Device("pier-fw0", "firewall", "holmsay", "skarn")
    asked = effective(read, oldest)
    assert (
        asked["collectors"].text == "exactly beacon-s"
        and not {"rules", "categories"} & asked.keys()
    )
    assert effective(read, Device("p", "router", "mv-petrel", "quern"))["clock"].text.startswith(
        "zone UTC"
    )
