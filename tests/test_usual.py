"""What is written where the policy leaves a choice."""

from __future__ import annotations

from pathlib import Path

import pytest
from conftest import TODAY, Run

POLICY = """policy: p
collectors: {{a: {{address: 198.51.100.21}}, b: {{address: 198.51.100.22}}}}
rules:
  - {{rule: r, require: {{export: on, collectors: [a, b], level: {level}, memory: {memory}}}}}
"""
TEXT = "link loop1\n    inet 192.0.2.{n}/32\nevents\n    export on\n    send 198.51.100.21 udp 514 through {one}\n    send 198.51.100.22 udp 514 through {other}\n    memory {size} through notice\n"
OPEN = "{from: error, to: debug}"
SIZE = "{size: {at-least: 1000}}"


def fleet(folder: Path, level: str, *devices: tuple[str, str, int]) -> None:
    (folder / "configs").mkdir()
    (folder / "policy.yaml").write_text(POLICY.format(level=level, memory=SIZE))
    rows = "".join(
        f"  - {{device: d{n}, kind: router, site: s, platform: quern}}\n"
        for n in range(len(devices))
    )
    (folder / "fleet.yaml").write_text(f"fleet: f\ndevices:\n{rows}")
    for n, (one, other, size) in enumerate(devices):
        text = TEXT.format(n=n + 1, one=one, other=other, size=size)
        (folder / "configs" / f"d{n}.conf").write_text(text)


# What the first device says of its two collectors, and what the others do; what is then written.
CASES = {
    "the policy's word": (
        "{from: error, to: debug, write: notice}",
        ("alert", "warning"),
        ("debug", "debug"),
        "notice",
        "",
    ),
    "a list is in the policy's order": (
        "[error, debug]",
        ("alert", "debug"),
        ("debug", "debug"),
        "error",
        "",
    ),
    "its own": (OPEN, ("alert", "warning"), ("debug", "debug"), "warning", "the device has"),
    "the fleet's": (OPEN, ("alert", "alert"), ("notice", "notice"), "notice", "in the fleet"),
    "not what is out of range": (
        OPEN,
        ("alert", "alert"),
        ("alert", "critical"),
        "error",
        "in the fleet",
    ),
}


@pytest.mark.parametrize("name", CASES)
def test_a_range_is_filled_by_the_policy_the_device_the_fleet(
    name: str, tmp_path: Path, ivrel: Run
) -> None:
    level, mine, theirs, written, told = CASES[name]
    fleet(tmp_path, level, (*mine, 500), *[(*theirs, 4096)] * 2, ("error", "error", 9000))
    # One device asks alone for the same as all of them together.
    for chosen in (["d0"], []):
        words = (
            "correct",
            "-w",
            tmp_path,
            *chosen,
            "--setting",
            "level",
            "--all",
            "--width",
            "300",
        )
        said = ivrel(*words, "--today", TODAY.isoformat()).stdout
        first = next(line for line in said.splitlines() if "send 198.51.100.21" in line)
        assert f"through {written} " in f"{first} "
        assert (told in first) if told else ("in the fleet" not in first and "has" not in first)
    both = ivrel("correct", "-w", tmp_path, "d0", code=0).stdout
    # Of numbers, too: what two of the three others have, and none is too small.
    assert "memory 4096 through notice" in both


def test_what_the_text_leaves_to_the_platform_is_nobodys_choice(tmp_path: Path, ivrel: Run) -> None:
    fleet(tmp_path, OPEN, ("alert", "alert", 500), *[("warning", "warning", 2000)] * 3)
    for n in (1, 2):  # the platform's default is another level
        path = tmp_path / "configs" / f"d{n}.conf"
        path.write_text(path.read_text().replace(" through warning", ""))
    assert "through warning" in ivrel("correct", "-w", tmp_path, "d0", code=0).stdout
    explained = ivrel("explain", "-w", tmp_path, "d0", "level", code=1).stdout
    assert "send 198.51.100.21 udp 514 through warning" in explained


@pytest.mark.parametrize(
    ("level", "written"),
    [("{from: warning, to: debug, write: informational}", "informational"), (OPEN, "warning")],
)
def test_a_destination_that_is_new_gets_it_though_the_platforms_own_would_do(
    level: str, written: str, tmp_path: Path, ivrel: Run
) -> None:
    fleet(tmp_path, level, ("warning", "warning", 2000))
    path = tmp_path / "configs" / "d0.conf"
    lines = [x for x in path.read_text().splitlines() if "198.51.100.22" not in x]
    path.write_text("\n".join(lines) + "\n")
    said = ivrel("correct", "-w", tmp_path, code=0).stdout
    assert f"send 198.51.100.22 udp 514 through {written} " in " ".join(said.split())
