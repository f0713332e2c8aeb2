"""What a correction writes where the policy leaves a choice, and that a fleet is gone through once
for it.
"""

from __future__ import annotations

import json
from pathlib import Path

import pytest
from conftest import TODAY, Run, tried
from generated import BASES, device, policies, records, written
from hypothesis import given
from hypothesis import strategies as st

from ivrel.core import Corrector, read_records
from ivrel.core.correcting.fleet_defaults import DefaultsCounter, Surveyor, open_settings, votes
from ivrel.core.judging.judge import scope_of
from ivrel.core.policy import effective
from ivrel.core.text.text import Text
from ivrel.core.vocabulary.errors import Undecided
from ivrel.sources.dialects import Dialects

DIALECTS = Dialects()


@pytest.mark.parametrize("base", sorted(BASES))
def test_what_is_decided_without_the_fleet_is_what_it_would_be_with_it(base: str) -> None:
    @given(data=st.data())
    @tried(12)
    def hold(data: st.DataObject) -> None:
        dialect, policy = DIALECTS[base.partition(".")[0]], data.draw(policies())
        one, left = device(dialect), sorted(open_settings(policy))
        surveyor, fleet = Surveyor(policy, left), [DefaultsCounter(), DefaultsCounter()]
        for n in range(4):
            text = Text(written(dialect, base, data.draw(records(dialect, base))))
            found = surveyor.votes(one, dialect, text)
            scope = scope_of(one, read_records(dialect, text), policy, effective(policy, one))
            assert found == votes(scope, left)  # whatever was surveyed before
            fleet[n % 2].add(found)
        correctors = [Corrector(policy, TODAY, (), tally.usual()) for tally in fleet]
        known = [one_of.correct(one, dialect, text, "x") for one_of in correctors]
        try:
            alone = Corrector(policy, TODAY, (), None).correct(one, dialect, text, "x")
        except Undecided:
            return
        assert known == [alone, alone]

    hold()


POLICY = """policy: p
collectors: {a: {address: 198.51.100.21}}
rules:
  - {rule: all, require: {collectors: [a], stamp: {kind: calendar, precision: {at-least: milliseconds}}}}
"""
SENDS = "events\n    export on\n    send 198.51.100.21 udp 514 through informational\n"
PRECISIONS = ("uptime", "calendar micros", "calendar micros", "calendar millis")


def _fleet(folder: Path, precisions: dict[str, str]) -> Path:
    (folder / "configs").mkdir()
    (folder / "policy.yaml").write_text(POLICY)
    rows = ["device,kind,site,platform", *(f"{name},switch,s,quern" for name in precisions)]
    (folder / "fleet.csv").write_text("\n".join(rows) + "\n")
    for name, said in precisions.items():
        (folder / "configs" / f"{name}.conf").write_text(f"{SENDS}    stamp {said}\n")
    return folder


def test_the_most_common_value_of_the_fleet_is_written_in_the_fleets_order(
    ivrel: Run, tmp_path: Path
) -> None:
    # So many that some wait in the temporary file; the first of those that wait comes early.
    every = {f"d{n:03}": PRECISIONS[n % 4] for n in range(3, 400)}
    fleet = _fleet(tmp_path, every)
    out = ivrel("correct", "-w", fleet, "--format", "json", code=0).stdout
    found = {d["device"]: d for d in json.loads(out)["devices"]}
    assert list(found) == list(every)
    for name, said in every.items():
        lines = [(c["line"], c["reason"]) for c in found[name]["changes"]]
        if said != "uptime":
            assert not lines
            continue
        ((line, reason),) = lines
        assert line == "stamp calendar micros", name
        assert reason.endswith("of what is asked for, microseconds is most common in the fleet")
    # For some devices as for all, and as it is explained.
    some = ivrel("correct", "-w", fleet, "d004", "d008", "--format", "json", code=0).stdout
    assert json.loads(some)["devices"] == [found["d004"], found["d008"]]
    explained = ivrel("explain", "-w", fleet, "d008", "stamp", code=1).stdout
    assert "stamp calendar micros" in explained


def test_the_other_policy_chooses_by_the_fleet_too(ivrel: Run, tmp_path: Path) -> None:
    fleet = _fleet(tmp_path, {f"d{n:03}": PRECISIONS[n % 4] for n in range(8)})
    plain = POLICY.replace("precision: {at-least: milliseconds}", "zone: hidden")
    (fleet / "other.yaml").write_text(POLICY)
    (fleet / "policy.yaml").write_text(plain)
    compare = "--compare", fleet / "other.yaml", "--format", "json"
    out = ivrel("policy", "-w", fleet, *compare, code=1).stdout
    told = {d["device"]: d for d in json.loads(out)["devices"]}
    assert [c["line"] for c in told["d004"]["added"]] == ["stamp calendar micros"]
