"""The whole job on the example, with the installed program, as a user meets it."""

from __future__ import annotations

import json
import re
import shutil
from pathlib import Path
from typing import Any

import pytest
from conftest import Run

from ivrel.core.correcting.changes import apply_change
from ivrel.core.reading.records import read_records
from ivrel.core.settings import SETTINGS, Scope, read_settings
from ivrel.demo.day import STRANGER, TROUBLES, write_day
from ivrel.demo.workspace import ExampleDevice, entries
from ivrel.sources.dialects import Dialects
from ivrel.sources.files import read_configuration, write_configuration
from ivrel.sources.workspace import WorkspaceFiles

CONFIGS = {e.device: e.device if e.files else f"{e.device}.conf" for e in entries()}


def audited(ivrel: Run, folder: Path, *more: str, code: int) -> dict[str, Any]:
    done = ivrel(
        "audit", "-w", folder, "--today", "2026-11-23", "--format", "json", *more, code=code
    )
    found: dict[str, Any] = json.loads(done.stdout)
    return found


def test_demo_tells_the_whole_job(ivrel: Run, tmp_path: Path) -> None:
    done = ivrel("demo", "here", cwd=tmp_path, code=0)
    assert "Every fault was found, corrected and proved" in done.stdout
    for step in ("ivrel fleet", "ivrel audit", "ivrel explain", "ivrel correct", "ivrel heard"):
        assert f"$ {step} " in done.stdout
    # Secrets of the configurations never leave them.
    texts = [
        path.read_text() for path in (tmp_path / "here" / "configs").rglob("*") if path.is_file()
    ]
    secrets = [secret for text in texts for secret in re.findall(r"\b[0-9a-f]{24}\b", text)]
    written = [p.read_text() for p in (tmp_path / "here" / "corrections").rglob("*") if p.is_file()]
    assert len(secrets) == 3 * len(entries())
    assert not any(secret in text for secret in secrets for text in (done.stdout, *written))
    again = ivrel("demo", "here", cwd=tmp_path, code=2)
    assert again.stderr.count("\n") == 1 and "--replace" in again.stderr


@pytest.mark.deep
def test_the_messages_of_a_day_show_what_is_wrong_and_nothing_else(
    ivrel: Run, example: Path, tmp_path: Path
) -> None:
    write_day(tmp_path)
    names = ("beacon-a", "beacon-b", "beacon-s")
    files = [f"--at={name}={tmp_path / name}.jsonl" for name in names]

    def heard(*files: str) -> tuple[dict[tuple[str, str], str], dict[str, set[str]]]:
        done = ivrel("heard", "-w", example, *files, "--format", "json")
        found = json.loads(done.stdout)
        claims = {
            (d["device"], c["setting"]): c["claim"] for d in found["devices"] for c in d["claims"]
        }
        odd: dict[str, set[str]] = {}
        for one in found["oddities"]:
            odd.setdefault(one["kind"], set()).add(one["about"])
        return claims, odd

    claims, odd = heard(*files)
    on_paper = {
        (d["device"], v["setting"]): v["verdict"]
        for d in audited(ivrel, example, code=1)["devices"]
        for v in d["verdicts"]
    }
    contradicted = {at for at, claim in claims.items() if claim == "contradicted"}
    seeded = {
        ("holmsay-gw1", "facility"),
        ("kelby-gw1", "stamp"),
        ("orrin-gw3", "clock"),
    }
    assert {at for at in contradicted if on_paper[at] == "meets"} == seeded
    assert len(contradicted) > 20 and contradicted <= on_paper.keys()
    # What each message bears cannot be proved where the configuration says otherwise.
    borne = {
        at
        for at, claim in claims.items()
        if claim == "proved" and at[1] in ("stamp", "format", "origin", "numbering")
    }
    assert borne and all(on_paper[at] == "meets" for at in borne)
    # Side by side: what is right on paper and wrong in what arrives has a verdict of its own, and
    # comes first; all else is as it was.
    both = audited(ivrel, example, *files, code=1)
    side = {(d["device"], v["setting"]): v for d in both["devices"] for v in d["verdicts"]}
    assert {at for at, v in side.items() if v["verdict"] == "contradicted"} == seeded
    assert all(v["verdict"] == on_paper[at] for at, v in side.items() if at not in seeded)
    assert both["totals"]["contradicted"] == len(seeded)
    decides = side["holmsay-gw1", "facility"]["where"]
    assert decides[0]["file"].startswith(str(tmp_path)) and len(decides) == 2
    table = ivrel("audit", "-w", example, *files, "--today", "2026-11-23", code=1).stdout
    first = re.findall(r"^(\S+)  \w+ at ", table, re.M)[: len(seeded)]
    assert set(first) == {device for device, _ in seeded}
    assert "local1 was heard, not local4; right on paper" in " ".join(table.split())
    # One verdict from all three ends: the rule, the line, and the message.
    words = ("explain", "-w", example, "holmsay-gw1", "facility", *files, "--today", "2026-11-23")
    explained = " ".join(ivrel(*words, code=1).stdout.split())
    for said in ("'everywhere' (all devices): local4", "facility local4", "local1 was heard, not local4",
                 "<139>", "what is wrong is not in this text"):  # fmt: skip
        assert said in explained
    (verdict,) = json.loads(ivrel(*words, "--format", "json", code=1).stdout)["verdicts"]
    assert (verdict["verdict"], verdict["heard"]["claim"]) == ("contradicted", "contradicted")
    # What it sends from an address that nobody knows proves nothing, and is reported.
    assert "orrin-fw1" in odd["unknown address"] and STRANGER in odd["stranger"]
    assert set(TROUBLES) <= {e.device for e in entries()}
    # A capture of the same datagrams says the same; a collector's file, which has no PRI, proves
    # less and contradicts nothing that the recording does not.
    of_capture, _ = heard(str(tmp_path / "beacon-a.pcap"))
    of_recording, _ = heard(f"--at=beacon-a={tmp_path / 'beacon-a.jsonl'}")
    assert of_capture == of_recording
    of_file, _ = heard(str(tmp_path / "beacon-a.log"))
    assert {at for at, claim in of_file.items() if claim == "contradicted"} <= contradicted
    assert "proved" in of_file.values()


def test_audit_finds_every_seed_on_its_line_and_nothing_else(ivrel: Run, example: Path) -> None:
    found = audited(ivrel, example, code=1)
    assert found["fleet"] == "Skerry Line" and len(found["devices"]) == len(entries()) == 40
    by_device = {d["device"]: {v["setting"]: v for v in d["verdicts"]} for d in found["devices"]}
    totals = dict.fromkeys(found["totals"], 0)
    for entry in entries():
        verdicts = by_device[entry.device]
        config = f"configs/{CONFIGS[entry.device]}"
        seeded = {seed.setting for seed in entry.seeds}
        for verdict in verdicts.values():
            totals[verdict["verdict"]] += 1
            good = verdict["verdict"] == "meets"
            assert good == (verdict["setting"] not in seeded), (entry.device, verdict)
            assert verdict["rule"] and verdict["wanted"] and verdict["found"]
        for seed in entry.seeds:
            where = verdicts[seed.setting]["where"]
            assert all(f"{place['file']}/".startswith(f"{config}/") for place in where)
            lines = [
                (example / p["file"]).read_text().splitlines()[p["line"] - 1].strip() for p in where
            ]
            assert seed.line in lines or (not seed.line and not lines), (entry.device, seed, lines)
    assert totals == found["totals"] and totals["waived"] == 2
    # Every setting is broken somewhere and met somewhere.
    broken = {seed.setting for e in entries() for seed in e.seeds}
    met = {
        name
        for verdicts in by_device.values()
        for name, v in verdicts.items()
        if v["verdict"] == "meets"
    }
    assert broken == met == set(SETTINGS)
    assert {e.platform for e in entries()} == set(Dialects().files)


def readings(folder: Path) -> dict[str, list[tuple[str, str, str, bool]]]:
    """What the configuration of each device says, and whether the text says so."""
    workspace = WorkspaceFiles(folder)
    return {
        device.name: sorted(
            (fact.setting, fact.key, fact.value, fact.default)
            for fact in read_settings(
                Scope(
                    device,
                    read_records(workspace.dialects[device.platform], workspace.text(device)[0]),
                    {},
                )
            )
        )
        for device in workspace.fleet.devices
    }


def test_the_reason_of_a_line_is_what_is_wrong_with_its_own_row(ivrel: Run, example: Path) -> None:
    done = ivrel("correct", "-w", example, "tarsk-gw1", "orrin-gw1", "--format", "json", code=0)
    reasons = {
        (d["device"], c["line"]): c["reason"]
        for d in json.loads(done.stdout)["devices"]
        for c in d["changes"]
    }
    new = "send 198.51.100.22 tcp 601 through informational"
    level = "'everywhere' asks level: from warning to informational"
    lacks = "'everywhere' asks collectors: exactly beacon-a, beacon-b; beacon-b (198.51.100.22 tcp 601) is missing"  # fmt: skip
    assert reasons["tarsk-gw1", new] == f"{lacks}; {level}"
    quiet = "send 198.51.100.21 udp 514 through informational"
    assert reasons["tarsk-gw1", quiet] == f"{level}; beacon-a misses warning"
    assert reasons["orrin-gw1", "forget journal.target.spare"].endswith("is beacon-b once more")
    assert reasons["orrin-gw1", "forget journal.rule.30"].endswith("'beacon-x', which is not set")


def applied(ivrel: Run, folder: Path, entry: ExampleDevice, change: Path) -> None:
    """Apply a change to the configuration of a device: of one by the program, else by what it
    calls.
    """
    config = folder / "configs" / CONFIGS[entry.device]
    if entry.device == "tarsk-fw2":
        ivrel("dialect", "apply", entry.platform, config, change, "-o", config, code=0)
        return
    before = read_configuration(config, "x")
    after = apply_change(Dialects()[entry.platform], before, change.read_text(), "x")
    write_configuration(config, after, before)


def test_corrections_lead_to_a_clean_audit_and_back(
    ivrel: Run, example: Path, tmp_path: Path
) -> None:
    folder, out = tmp_path / "work", tmp_path / "out"
    shutil.copytree(example, folder)
    ivrel("correct", "-w", folder, "-o", out, "--today", "2026-11-23", code=0)
    sheet = (out / "change-sheet.md").read_text()
    data = json.loads((out / "corrections.json").read_text())
    by_device = {d["device"]: d for d in data["devices"]}
    before = readings(folder)
    for entry in entries():
        c = by_device[entry.device]
        changes = [out / entry.device / name for name in ("change.txt", "backout.txt")]
        assert all(p.exists() == bool(c["changes"]) for p in changes)
        if not c["changes"]:
            continue
        assert len(c["proof"]) >= 7 and all(p["holds"] for p in c["proof"]) and c["proved"]
        assert all(change["reason"] and change["settings"] for change in c["changes"])
        assert f"## {entry.device}" in sheet and c["fingerprint"].removeprefix("sha256:") in sheet
        applied(ivrel, folder, entry, changes[0])
    found = audited(ivrel, folder, code=0)
    assert found["totals"]["breaks"] == 0 and found["totals"]["waived"] == 2
    again = ivrel("correct", "-w", folder, "--today", "2026-11-23", code=0)
    assert "nothing to correct on 40 devices" in again.stdout
    for entry in entries():
        backout = out / entry.device / "backout.txt"
        if backout.exists():
            applied(ivrel, folder, entry, backout)
    assert readings(folder) == before


def test_a_folder_that_holds_something_is_kept(ivrel: Run, example: Path, tmp_path: Path) -> None:
    (tmp_path / "letter.txt").write_text("keep me")
    done = ivrel("correct", "-w", example, "tarsk-fw2", "-o", tmp_path, code=2)
    assert "--replace" in done.stderr and [p.name for p in tmp_path.iterdir()] == ["letter.txt"]
    ivrel("correct", "-w", example, "tarsk-fw2", "-o", tmp_path, "--replace", code=0)
    assert (tmp_path / "letter.txt").read_text() == "keep me"
    change = (tmp_path / "tarsk-fw2" / "change.txt").read_text()
    assert change == "journal.rule.16.severity = critical\njournal.rule.16.target = beacon-a\n"


def test_a_correction_can_be_about_one_setting(ivrel: Run, example: Path) -> None:
    done = ivrel(
        "correct", "-w", example, "orrin-gw1", "--setting", "source", "--format", "json", code=0
    )
    (device,) = json.loads(done.stdout)["devices"]
    assert [c["line"] for c in device["changes"]] == ["journal.target.beacon-a.from = 192.0.2.91"]
    assert device["proved"] and not device["remains"]
    shown = ivrel("correct", "-w", example, "orrin-gw1", "--setting", "source", code=0).stdout
    assert shown.endswith(f"ivrel correct -w {example} orrin-gw1 --setting source -o corrections\n")


def test_selection_formats_and_exit_codes(ivrel: Run, example: Path) -> None:
    some = audited(
        ivrel, example, "*1", "--kind", "switch", "--site", "tarsk", "--setting", "level", code=0
    )
    assert [d["device"] for d in some["devices"]] == ["tarsk-sw1"] and some["totals"]["meets"] == 1
    globbed = audited(ivrel, example, "mv-*", "--group", "vessel", code=1)
    assert [d["device"] for d in globbed["devices"]] == [
        *(
            "mv-petrel-gw1",
            "mv-fulmar-fw1",
            "mv-gannet-fw1",
            "mv-petrel-lx1",
            "mv-fulmar-lx1",
            "mv-gannet-lx1",
        )
    ]
    table = ivrel("audit", "-w", example, "holmsay-gw1", code=0).stdout
    assert "1 of 1 device as asked" in table and "next" not in table and "\x1b" not in table
    assert all(len(line) <= 120 and line == line.rstrip() for line in table.splitlines())
    narrow = ivrel("audit", "-w", example, "--width", "90", code=1).stdout
    assert max(len(line) for line in narrow.splitlines()) <= 90
    slim = ivrel("audit", "-w", example, "--width", "70", code=1).stdout.splitlines()
    # Many settings stand on steps above columns of one letter.
    steps = slim[2 : 2 + len(SETTINGS)]
    assert [step.strip(" │┐") for step in steps] == list(SETTINGS)
    first = slim[2 + len(SETTINGS)]
    assert first.split()[0] == "kelby-gw3" and first[steps[8].index("clock")] == "B"
    fleet = json.loads(ivrel("fleet", "-w", example, "--format", "json", code=0).stdout)
    assert fleet["devices"][5]["configuration"] == "configs/tarsk-fw2.conf"
    dialects = json.loads(ivrel("dialect", "list", "--format", "json", code=0).stdout)["dialects"]
    assert {"quern": "blocks", "skarn": "paths"}.items() <= {
        d["dialect"]: d["shape"] for d in dialects
    }.items()


def test_read_tells_defaults_and_what_it_did_not_understand(
    ivrel: Run, example: Path, tmp_path: Path
) -> None:
    shutil.copytree(example, tmp_path / "w")
    config = tmp_path / "w" / "configs" / "tarsk-sw1.conf"
    config.write_text(
        config.read_text().replace("    export on\n", "    export on\n    send whistle twice\n")
    )
    read = json.loads(
        ivrel("read", "-w", tmp_path / "w", "tarsk-sw1", "--format", "json", code=0).stdout
    )
    said = {(s["setting"], s["key"]): s for s in read["settings"]}
    assert said["stamp", "year"]["from"] == "default" and said["export", ""]["from"] == "text"
    assert said["collectors", "203.0.113.77"]["value"] == "203.0.113.77 udp 514"
    assert [s["text"] for s in read["not_understood"]] == ["send …"]
    found = audited(ivrel, tmp_path / "w", "tarsk-sw1", code=1)["devices"][0]["verdicts"]
    verdicts = {v["setting"]: v for v in found}
    # What begins like a destination bears on destinations, and on nothing else.
    assert verdicts["collectors"]["verdict"] == verdicts["level"]["verdict"] == "unknown"
    assert verdicts["export"]["verdict"] == verdicts["stamp"]["verdict"] == "meets"
    assert verdicts["collectors"]["where"][0]["line"] == read["not_understood"][0]["line"]
    done = ivrel("correct", "-w", tmp_path / "w", "tarsk-sw1", code=1)
    assert "nothing to correct" in done.stdout and "is not understood: send …" in done.stdout


def test_explain_walks_a_verdict_from_both_ends(ivrel: Run, example: Path) -> None:
    told = ivrel("explain", "-w", example, "brannay-fw1", "facility", code=1).stdout
    for part in (
        "policy.yaml:16  'everywhere' (all devices): local4  replaced by a later rule",
        "policy.yaml:23  'firewalls speak as local6' (kind firewall): local6  holds",
        "journal.target.beacon-a.facility = local4",
        "beacon-a: local4, not local6",
        "journal.target.beacon-a.facility = local6",
        "next  ivrel correct",
    ):
        assert part in told, told
    whole = json.loads(
        ivrel("explain", "-w", example, "holmsay-gw2", "--format", "json", code=1).stdout
    )
    export = whole["verdicts"][0]
    assert export["verdict"] == "breaks" and [c["line"] for c in export["correction"]] == [
        "export on"
    ]
    assert [r["holds"] for r in export["rules"]] == [True]
    policy = json.loads(
        ivrel("policy", "-w", example, "brannay-fw1", "--format", "json", code=0).stdout
    )
    assert {r["setting"]: r["line"] for r in policy["requirements"]}["facility"] == 23
    checked = ivrel("policy", "-w", example, "--today", "2027-04-01", code=1).stdout
    assert "2027-03-31 (ran out)" in checked and "has no mistakes" in checked


def test_waivers_end_with_their_last_day(ivrel: Run, example: Path) -> None:
    def stamp(day: str) -> str:
        words = (
            "audit",
            "-w",
            example,
            "mv-petrel-gw1",
            "--setting",
            "stamp",
            "--format",
            "json",
            "--today",
            day,
        )
        verdict: str = json.loads(ivrel(*words).stdout)["devices"][0]["verdicts"][0]["verdict"]
        return verdict

    assert [stamp(day) for day in ("2027-03-31", "2027-04-01")] == ["waived", "breaks"]


def test_a_new_workspace_works_at_once(ivrel: Run, tmp_path: Path) -> None:
    ivrel("new", tmp_path / "n", code=0)
    ivrel("policy", "-w", tmp_path / "n", code=0)
    found = audited(ivrel, tmp_path / "n", code=1)["devices"][0]["verdicts"]
    assert {v["setting"]: v["verdict"] for v in found}["stamp"] == "breaks"
    ivrel("new", tmp_path / "n", code=2)
