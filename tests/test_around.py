"""What is around a delivery: the hours it may take, programs that are called, a rehearsal."""

from __future__ import annotations

import asyncio
import json
from datetime import datetime, timedelta
from pathlib import Path
from random import Random

import pytest
from fleets import call, shown, standins, states, write_fleet
from sshd import SSHD
from test_real_devices import NETCONFD, STRICT, netconfd, seeded, workspace

from ivrel.core.delivery.window import Window
from ivrel.live.links import OutgoingChange, open_link
from ivrel.live.targets import targets_of
from ivrel.sources.workspace import WorkspaceFiles
from ivrel.standin.running import asked

ONE_OF_EACH = "holmsay-gw2 tarsk-fw2 brannay-fw2 mv-gannet-fw1 tarsk-sw2 kelby-gw2 mv-skua-lx1"


def test_a_window_is_open_in_the_minutes_between_its_times() -> None:
    dice = Random(8)
    for _ in range(60):
        begin, length = dice.randrange(1440), dice.randrange(1, 1440)
        end = (begin + length) % 1440
        window = Window.of(*(f"{n // 60:02}:{n % 60:02}" for n in (begin, end)))
        for minute in range(0, 1440, 7):
            now = datetime(2026, 12, 1) + timedelta(minutes=minute, seconds=30)
            into = (minute - begin) % 1440
            left = (length - into) * 60 - 30 if into < length else 0
            assert window.left(now) == left, (window, now)
    for wrong in (("24:00", "1:00"), ("1:60", "2:00"), ("x", "2:00"), ("3:00", "3:00")):
        with pytest.raises(ValueError, match=r"no time|not a time of day"):
            Window.of(*wrong)


@pytest.mark.deep
def test_nothing_is_begun_outside_of_the_window_and_the_rest_comes_with_resume(
    tmp_path: Path,
) -> None:
    folder, out = tmp_path / "w", tmp_path / "corrections"
    write_fleet(folder, 2, only="holmsay-gw2 tarsk-fw2", patience=3, trial=2)
    now = datetime.now()
    clock = [f"{now + timedelta(hours=n):%H:%M}" for n in (2, 4)]
    with standins(folder):
        call("gather", "-w", folder)
        call("correct", "-w", folder, "-o", out, code=None)
        words = ("deliver", "-w", folder, out, "--no-ask", "--no-last-look")
        said = call(*words, "--between", clock[0], "--and", clock[1], code=1).stdout
        assert f"window {clock[0]} to {clock[1]}" in said and "--resume" in said
        # A window that is shut before a device could be done begins none, either.
        ends = f"{now + timedelta(minutes=4):%H:%M}"
        fleet = (folder / "fleet.yaml").read_text()
        (folder / "fleet.yaml").write_text(fleet.replace("trial: 2", "trial: 300"))
        begin = f"{now - timedelta(hours=1):%H:%M}"
        said = call(*words, "--between", begin, "--and", ends, code=1).stdout
        assert "a device can take 306 s" in said
        assert set(states(folder).values()) == {"waiting"}
        (folder / "fleet.yaml").write_text(fleet)
        call(*words, "--between", begin, "--and", clock[0])
        assert set(states(folder).values()) == {"delivered"}
        for wrong in (("--between", "22:00"), ("--between", "22", "--and", "4:00")):
            assert "ivrel: --between" in call(*words, *wrong, code=2).stderr


@pytest.mark.deep
def test_programs_are_called_for_the_whole_delivery_and_can_stop_it(tmp_path: Path) -> None:
    folder, out, told = tmp_path / "w", tmp_path / "corrections", tmp_path / "told"
    write_fleet(folder, 2, only="holmsay-gw2 tarsk-gw1", patience=3, trial=2)
    program = tmp_path / "ticket"
    program.write_text(f'#!/bin/sh\ncat >> {told}\necho "ticket 47"\nexit $1\n')
    program.chmod(0o755)
    fleet = (folder / "fleet.yaml").read_text()
    words = ("deliver", "-w", folder, out, "--no-ask", "--no-last-look", "--stop-after", "3")

    def called(codes: str, code: int) -> list[dict[str, object]]:
        moments = zip(("begin", "wave", "failure", "end"), codes, strict=True)
        on = "".join(f"  {moment}: ['{program}', '{n}']\n" for moment, n in moments)
        (folder / "fleet.yaml").write_text(f"{fleet}on:\n{on}")
        told.write_text("")
        said = " ".join(call(*words, code=code).stdout.split())
        assert ("said no: ticket 47" in said) == (codes[:2] != "00"), said
        return [json.loads(line) for line in told.read_text().splitlines()]

    with standins(folder):
        call("gather", "-w", folder)
        call("correct", "-w", folder, "--waves", "--first", "1", "-o", out, code=None)
        assert [one["moment"] for one in called("3000", 1)] == ["begin", "end"]
        assert set(states(folder).values()) == {"waiting"}
        assert [one["moment"] for one in called("0300", 1)] == ["begin", "wave", "end"]
        assert set(states(folder).values()) == {"waiting"}
        asked(folder, ["fault", "holmsay-gw2", "refuse"])
        found = called("0044", 1)
        moments = [one["moment"] for one in found]
        assert sorted(map(str, moments)) == ["begin", "end", "failure", "wave", "wave"]
        assert moments[0] == "begin" and moments[-1] == "end"
        failure = found[moments.index("failure")]
        assert (failure["device"], failure["state"]) == ("holmsay-gw2", "as before")
        ends = found[-1]["devices"]
        assert isinstance(ends, list)
        assert {one["device"]: one["state"] for one in ends} == states(folder)
        record = json.loads(call("deliver", "-w", folder, "--record", "--format", "json").stdout)
        assert [one["step"] for one in record["called"]] == moments
        # A rehearsal calls nobody.
        told.write_text("")
        call("deliver", "-w", folder, out, "--dry-run", code=None)
        assert not told.read_text()


async def _typed(folder: Path, out: Path, name: str) -> list[str]:
    """Rehearse on one device, and return what was typed."""
    whole = WorkspaceFiles(folder)
    (target,) = targets_of(whole, [d for d in whole.fleet.devices if d.name == name])
    link = await open_link(target)
    try:
        change = (out / name / "change.txt").read_text()
        await link.rehearse(OutgoingChange(change, b"", b""))
        return [one.typed for one in link.exchanges]
    finally:
        await link.close()


@pytest.mark.deep
def test_a_rehearsal_leaves_each_platform_as_it_was(tmp_path: Path) -> None:
    folder, out = tmp_path / "w", tmp_path / "corrections"
    names = [d.name for d in write_fleet(folder, 7, only=ONE_OF_EACH, patience=5, trial=2)]
    with standins(folder):
        call("gather", "-w", folder)
        call("correct", "-w", folder, "-o", out, code=None)
        before = {name: shown(folder, name) for name in names}
        said = " ".join(call("deliver", "-w", folder, out, "--rehearse").stdout.split())
        assert said.count("would be sent") == 8 and said.count("not tried: on this platform") == 2
        assert said.count("read as proved, dropped") == 2 and "its own check takes" in said
        typed = asyncio.run(_typed(folder, out, "holmsay-gw2"))
        assert typed[-2:] == ["weigh", "crumple"], typed
        # What a device refuses, or takes otherwise than was proved, is told before it is sent.
        for name in names:
            asked(folder, ["fault", name, "refuse"])
        said = " ".join(call("deliver", "-w", folder, out, "--rehearse", code=1).stdout.split())
        assert said.count("the device refuses the change") >= 3
        asked(folder, ["fault", "holmsay-gw2", "ignore:3"])
        words = ("--device", "holmsay-gw2", "--rehearse")
        said = " ".join(call("deliver", "-w", folder, out, *words, code=1).stdout.split())
        assert "another configuration than proved" in said
        assert {name: shown(folder, name) for name in names} == before
        for name in names:
            asked(folder, ["fault", name, "none"])
        call("deliver", "-w", folder, out, "--no-ask", "--no-last-look")


@pytest.mark.deep
@pytest.mark.skipif(not SSHD and not STRICT, reason="needs sshd")
@pytest.mark.skipif(not NETCONFD and not STRICT, reason="needs netconfd")
def test_a_candidate_of_a_real_server_is_dropped_after_a_rehearsal(tmp_path: Path) -> None:
    from ncclient import manager

    with netconfd(tmp_path / "server") as sshd:
        seeded(tmp_path, sshd)
        folder = workspace(tmp_path / "w", "ietf-syslog", f"via: netconf, {sshd.way}, trial: 4")
        out = tmp_path / "corrections"
        call("gather", "-w", folder)
        call("correct", "-w", folder, "-o", out)
        with manager.connect_ssh(
            "127.0.0.1", sshd.port, username="root", key_filename=str(sshd.key),
            hostkey_verify=False, allow_agent=False, look_for_keys=False,
        ) as other:  # fmt: skip
            before = str(other.get_config("running"))
            said = " ".join(call("deliver", "-w", folder, out, "--rehearse").stdout.split())
            assert "validated in its candidate, read as proved, dropped" in said
            for store in ("running", "candidate"):
                config = str(other.get_config(store)).partition("<data")[2]
                assert config == before.partition("<data")[2]
            other.lock("candidate")  # nobody holds it any more
            other.unlock("candidate")
