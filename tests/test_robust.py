"""Whole commands over broken texts, generated fleets, and every form of requirement."""

from __future__ import annotations

import json
import random
import re
import shutil
import sys
from pathlib import Path

import pytest
from conftest import Run
from hypothesis import given
from hypothesis import strategies as st

from ivrel.core.fleet import Device, DeviceSelection, Fleet, choose
from ivrel.core.judging.asking import read_policy
from ivrel.core.policy import effective
from ivrel.core.policy.need import Need
from ivrel.core.vocabulary.severity import SEVERITIES

sys.path.insert(0, str(Path(__file__).parent.parent / "bench"))


def mutated(data: bytes, dice: random.Random) -> bytes:
    """A text with some of what happens to texts: cut, doubled, shuffled, spoiled, moved in."""
    for _ in range(dice.randrange(1, 4)):
        at = dice.randrange(len(data) + 1)
        match dice.randrange(6):
            case 0:
                data = data[:at]
            case 1:
                data = data[:at] + dice.randbytes(dice.randrange(1, 40)) + data[at:]
            case 2:
                lines = data.split(b"\n")
                dice.shuffle(lines)
                data = b"\n".join(lines)
            case 3:
                data = data[:at] + data[at + dice.randrange(200) :]
            case 4:
                data = data.replace(b"\n", dice.choice([b"\r\n", b"\n\n", b"\n\t", b"\n "]))
            case _:
                data = data + data[:at]
    return data


@pytest.mark.parametrize(
    "seed", [0, *(pytest.param(n, marks=pytest.mark.deep) for n in range(1, 6))]
)
def test_whole_commands_over_mutated_texts(
    ivrel: Run, example: Path, tmp_path: Path, seed: int
) -> None:
    shutil.copytree(example, tmp_path / "w")
    dice = random.Random(seed)
    for path in sorted(p for p in (tmp_path / "w" / "configs").rglob("*") if p.is_file()):
        path.write_bytes(mutated(path.read_bytes(), dice))
    done = ivrel("audit", "-w", tmp_path / "w", "--format", "json", code=1)
    audited = json.loads(done.stdout)
    assert len(audited["devices"]) == 40
    corrected = ivrel("correct", "-w", tmp_path / "w", "-o", tmp_path / "out", "--format", "json")
    assert corrected.returncode in (0, 1) and not corrected.stderr
    for device in json.loads(corrected.stdout)["devices"]:
        # What is not proved is not written as if it were.
        good = tmp_path / "out" / device["device"] / "change.txt"
        assert good.exists() == bool(device["proved"] and device["changes"])


def test_a_configuration_of_another_platform_is_recognised(
    ivrel: Run, example: Path, tmp_path: Path
) -> None:
    shutil.copytree(example, tmp_path / "w")
    configs = tmp_path / "w" / "configs"
    for victim, other in (
        ("holmsay-gw1", "tarsk-fw2"),
        ("tarsk-fw2", "brannay-fw2"),
        ("tarsk-sw2", "holmsay-gw1"),
        ("kelby-fw1", "kelby-gw2"),
    ):
        shutil.copy(example / "configs" / f"{other}.conf", configs / f"{victim}.conf")
    found = json.loads(ivrel("audit", "-w", tmp_path / "w", "--format", "json", code=1).stdout)[
        "devices"
    ]
    problems = {d["device"]: d["problem"].partition(": ")[2] for d in found if "problem" in d}
    assert problems == {
        "holmsay-gw1": "none of the statements of quern occur in it; this looks like skarn",
        "tarsk-fw2": "none of the statements of skarn occur in it; this looks like hollin",
        "tarsk-sw2": "none of the statements of marl occur in it; this looks like quern",
        "kelby-fw1": "none of the statements of osier occur in it; this looks like ietf-syslog",
    }


@pytest.mark.deep
def test_large_fleets_are_judged_alike_by_one_process_and_by_several(
    ivrel: Run, tmp_path: Path
) -> None:
    from generate import generate

    generate(tmp_path / "big", 260, 120)
    generate(tmp_path / "same", 260, 120)
    files = sorted(
        p.relative_to(tmp_path / "big") for p in (tmp_path / "big").rglob("*") if p.is_file()
    )
    assert len(files) == 262
    assert all(
        (tmp_path / "big" / f).read_bytes() == (tmp_path / "same" / f).read_bytes() for f in files
    )
    whole = json.loads(ivrel("audit", "-w", tmp_path / "big", "--format", "json", code=1).stdout)[
        "devices"
    ]
    parts = [
        device
        for glob in ("d000*", "d001*", "d002*")
        for device in json.loads(
            ivrel("audit", "-w", tmp_path / "big", glob, "--format", "json", code=1).stdout
        )["devices"]
    ]
    assert whole == parts and [d["device"] for d in whole] == sorted(d["device"] for d in whole)
    table = ivrel("audit", "-w", tmp_path / "big", code=1).stdout
    # So many devices are counted by site, and what is found on several is told once.
    assert re.search(r"^site +devices +as asked", table, re.M) and re.search(
        r"^ +\d+ devices  d0", table, re.M
    )
    assert ivrel("audit", "-w", tmp_path / "big", "--all", code=1).stdout.count("\n") > table.count(
        "\n"
    )


ORDER = ("none", *SEVERITIES)
values = st.sampled_from(ORDER)


@given(
    least=values,
    most=values,
    never=st.lists(values, max_size=2),
    any_of=st.none() | st.lists(values, min_size=1),
    value=values,
    can=st.sets(values),
)
def test_needs_accept_what_they_say_and_choose_what_they_accept(
    least: str, most: str, never: list[str], any_of: list[str] | None, value: str, can: set[str]
) -> None:
    need = Need(None if any_of is None else tuple(any_of), least, most, tuple(never), None, ORDER)
    expected = (
        ORDER.index(least) <= ORDER.index(value) <= ORDER.index(most)
        and value not in never
        and (any_of is None or value in any_of)
    )
    assert need.accepts(value) == expected
    chosen = need.choose(lambda v: v in can)
    assert (chosen is None) == (not any(need.accepts(v) for v in can))
    assert chosen is None or (need.accepts(chosen) and chosen in can)
    assert need.only(value).accepts(value) and not need.only(value).accepts("other")


DEVICES = tuple(
    Device(f"{site}-{kind[:2]}{n}", kind, site, "quern", ("core",) if n == 1 else ("edge", "old"))
    for site in ("tarsk", "kelby")
    for kind in ("router", "switch")
    for n in (1, 2)
)


@given(
    names=st.lists(st.sampled_from(["tarsk-*", "*1", "kelby-ro2", "*"]), max_size=2),
    kinds=st.lists(st.sampled_from(["router", "switch"]), max_size=2),
    sites=st.lists(st.sampled_from(["tarsk", "k*"]), max_size=2),
    groups=st.lists(st.sampled_from(["core", "old"]), max_size=2),
)
def test_devices_are_chosen_by_every_selector_at_once(
    names: list[str], kinds: list[str], sites: list[str], groups: list[str]
) -> None:
    import fnmatch

    chosen = choose(
        Fleet("f", DEVICES, "f"),
        DeviceSelection(tuple(names), tuple(kinds), tuple(sites), tuple(groups)),
    )
    for d in DEVICES:
        fits = [
            not names or any(fnmatch.fnmatch(d.name, n) for n in names),
            not kinds or d.kind in kinds,
            not sites or any(fnmatch.fnmatch(d.site, s) for s in sites),
            not groups or bool(set(groups) & set(d.groups)),
        ]
        assert (d in chosen) == all(fits)


@given(st.permutations(range(4)))
def test_later_rules_win_setting_by_setting(order: list[int]) -> None:
    rules = [
        "  - {rule: a, require: {facility: local1, export: on}}",
        "  - {rule: b, where: {kind: router, site: 't*'}, require: {facility: local2}}",
        "  - {rule: c, where: {group: [core, none]}, require: {facility: local3, level: error}}",
        "  - {rule: d, where: {device: '*2'}, require: {facility: any}}",
    ]
    text = "policy: p\ncollectors: {c: {address: 192.0.2.1}}\nrules:\n" + "\n".join(
        rules[n] for n in order
    )
    policy = read_policy(text, "policy.yaml")
    for device in DEVICES:
        holds = {
            "a": True,
            "b": device.kind == "router" and device.site == "tarsk",
            "c": "core" in device.groups,
            "d": device.name.endswith("2"),
        }
        last = next("abcd"[n] for n in reversed(order) if holds["abcd"[n]])
        asked = effective(policy, device)
        assert ("facility" in asked) == (last != "d")
        if last != "d":
            assert asked["facility"].rule == last
        assert ("level" in asked) == holds["c"] and asked["export"].text == "on"
