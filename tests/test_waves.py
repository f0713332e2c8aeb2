"""Waves: what they heed, on generated fleets, worked out anew here."""

from __future__ import annotations

import json
from collections import Counter
from pathlib import Path

from conftest import TODAY, Run, tried
from hypothesis import given
from hypothesis import strategies as st

from ivrel.core.delivery import Order, WaveCandidate, in_waves
from ivrel.core.fleet import Device
from ivrel.sources.workspace import WorkspaceFiles

SITES = ("holmsay", "tarsk", "kelby")


@st.composite
def fleets(draw: st.DrawFn) -> tuple[list[WaveCandidate], Order]:
    candidates = []
    for n in range(draw(st.integers(1, 40))):
        groups = draw(st.sampled_from(((), ("pair-a",), ("pair-b", "edge"), ("edge",))))
        platform, site = draw(st.sampled_from("pqr")), draw(st.sampled_from(SITES))
        device = Device(f"d{n}", draw(st.sampled_from("kl")), site, platform, groups)
        sends = draw(st.booleans())
        candidates.append(
            WaveCandidate(device, draw(st.integers(0, 3)), sends, draw(st.booleans()) or sends)
        )
    last = frozenset(draw(st.sets(st.sampled_from(SITES), max_size=2)))
    return candidates, Order(draw(st.integers(1, 6)), ("pair-*",), last)


@tried(300)
@given(fleets())
def test_waves_heed_pairs_sites_and_sizes(fleet: tuple[list[WaveCandidate], Order]) -> None:
    candidates, order = fleet
    waves = in_waves(candidates, order)
    assert waves == in_waves(candidates, order)
    of = {c.device.name: c for c in candidates}
    done = [name for wave in waves for name in wave.devices]
    assert sorted(done) == sorted(c.device.name for c in candidates if c.lines)
    is_last = [[of[n].device.site in order.last for n in wave.devices] for wave in waves]
    assert all(len(set(row)) == 1 for row in is_last)
    assert [row[0] for row in is_last] == sorted(row[0] for row in is_last)
    heard = {c.device.name for c in candidates if c.sends}
    for number, wave in enumerate(waves):
        assert wave.number == number + 1 and 0 < len(wave.devices) <= order.first * 2**number
        pairs = [g for n in wave.devices for g in of[n].device.groups if g.startswith("pair-")]
        assert max(Counter(pairs).values(), default=1) == 1
        later = {n for w in waves[number:] for n in w.devices}
        for site in SITES:
            before = {n for n in heard if of[n].device.site == site}
            changing = before & set(wave.devices)
            if changing and changing == before:
                # No way around: it is the only one, and nobody else would be heard before it.
                assert len(before) == 1
                others = {n for n in later - before if of[n].device.site == site}
                assert not any(of[n].would_send for n in others)
        for name in wave.devices:
            (heard.add if of[name].would_send else heard.discard)(name)
        held = {h.device for h in wave.held}
        assert held <= {n for w in waves[number + 1 :] for n in w.devices}


@tried(100)
@given(fleets())
def test_the_first_wave_differs_as_far_as_the_fleet_does(
    fleet: tuple[list[WaveCandidate], Order],
) -> None:
    candidates, order = fleet
    free = [WaveCandidate(c.device, c.lines, False, False) for c in candidates]
    waves = in_waves(free, Order(order.first))
    changing = [c.device for c in candidates if c.lines]
    of = {d.name: d.platform for d in changing}
    first = {of[name] for name in waves[0].devices} if waves else set()
    assert len(first) == min(len(set(of.values())), order.first if changing else 0)


def test_waves_stand_in_all_outputs(example: Path, tmp_path: Path, ivrel: Run) -> None:
    on = ("-w", example, "--today", TODAY.isoformat(), "--waves", "--first", "2")
    out = tmp_path / "corrections"
    table = ivrel("correct", *on, "--apart", "vessel", "-o", out).stdout
    written = json.loads((out / "corrections.json").read_text())
    waves = written["waves"]
    assert [w["wave"] for w in waves] == list(range(1, len(waves) + 1)) and len(
        waves[0]["devices"]
    ) == 2
    changed = {d["device"] for d in written["devices"] if d["changes"]}
    assert {n for w in waves for n in w["devices"]} == changed
    of_group = {d.name for d in WorkspaceFiles(example).fleet.devices if "vessel" in d.groups}
    vessels = [sum(n in of_group for n in w["devices"]) for w in waves]
    assert max(vessels) == 1 < sum(vessels)
    sheet = (out / "change-sheet.md").read_text()
    for wave in waves:
        assert ", ".join(wave["devices"]) in sheet
    # Its pair, and the sites of the collectors, by the fleet's own word.
    assert {w["wave"] for w in waves if "holmsay" in " ".join(w["devices"])} == {
        w["wave"] for w in waves[-2:]
    } or "holmsay-fw1 of pair-holmsay-fw is in this wave" in table
    plain = ivrel("correct", "-w", example, "--format", "json").stdout
    assert "waves" not in json.loads(plain)


def test_what_cannot_be_heeded_is_told(example: Path, tmp_path: Path, ivrel: Run) -> None:
    text = (example / "fleet.yaml").read_text().replace("[pair-*]", "[core, pear-*]")
    (tmp_path / "fleet.yaml").write_text(text)
    (tmp_path / "policy.yaml").write_text((example / "policy.yaml").read_text())
    done = ivrel("correct", "--waves", "-w", tmp_path, code=2)
    assert "fleet.yaml:2:15: group 'pear-*' is not known; expected access, core" in done.stderr
    assert "expected 1 or more" in ivrel("correct", "--first", "0", code=2).stderr
    for words, said in (
        (("--first", "2"), "give it with --waves"),
        (("--waves", "--apart", "pear-*"), "group 'pear-*' is not known; expected access"),
        (("--as", "patch", "--format", "json"), "--as patch writes a diff, not json"),
    ):
        assert said in ivrel("correct", "-w", example, *words, code=2).stderr
