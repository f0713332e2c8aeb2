"""What gathering and delivering never do: to devices that nobody here wrote, where one is at hand."""

from __future__ import annotations

import asyncio
import resource
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest
from conftest import TODAY
from fleets import PROGRAM, call, proved_texts, standins, states, third_states, write_fleet
from rsyslogd import PROGRAM as RSYSLOGD
from sshd import SSHD, running_sshd
from test_real_devices import NETCONFD, STRICT, netconfd, seeded, workspace

from ivrel.core import Device, correct, read_policy
from ivrel.core.correcting.changes import write_change
from ivrel.core.delivery.standing import BEFORE as BEFORE_CHANGE
from ivrel.core.delivery.standing import BETWEEN, standing, way_back
from ivrel.core.shapes.shape import Edit
from ivrel.core.text.text import Text
from ivrel.core.vocabulary.errors import Refused
from ivrel.live.journal import Journal
from ivrel.live.links import OutgoingChange, Target, open_link
from ivrel.live.targets import targets_of
from ivrel.sources.dialects import Dialects
from ivrel.sources.workspace import WorkspaceFiles

HAS_SSHD = pytest.mark.skipif(not SSHD and not STRICT, reason="needs sshd")
BEFORE = '*.err action(type="omfwd" target="127.0.0.1" port="5514" protocol="udp")\n'
AFTER = BEFORE.replace("*.err", "*.info")


def target(folder: Path) -> Target:
    """The only device of a workspace."""
    whole = WorkspaceFiles(folder)
    return targets_of(whole, whole.fleet.devices)[0]


@pytest.mark.deep
@HAS_SSHD
@pytest.mark.skipif(not RSYSLOGD and not STRICT, reason="needs rsyslogd")
@pytest.mark.parametrize("is_link", [False, True])
def test_a_file_that_somebody_else_has_written_is_not_written_over(
    tmp_path: Path, is_link: bool
) -> None:
    real, restarted = tmp_path / "real.conf", tmp_path / "restarted"
    real.write_text(BEFORE)
    main = tmp_path / "rsyslog.conf" if is_link else real
    if is_link:
        main.symlink_to(real)
    with running_sshd(tmp_path / "ssh") as sshd:
        way = f"via: ssh, {sshd.way}, files: '{main}', restart: 'touch {restarted}'"
        one = target(workspace(tmp_path / "w", "rsyslog", way))

        async def deliver(*, meanwhile: str = "") -> None:
            link = await open_link(one)
            try:
                found = await link.fetch()
                real.write_text(found.decode() + meanwhile)
                await link.send(OutgoingChange("", found, AFTER.encode()))
            finally:
                await link.close()
                assert link.untouched == bool(meanwhile)

        with pytest.raises(Refused, match="changed since it was read"):
            asyncio.run(deliver(meanwhile="# two lines\n# of a colleague\n"))
        assert real.read_text().endswith("of a colleague\n") and not restarted.exists()
        real.write_text(BEFORE)
        asyncio.run(deliver())
    assert real.read_text() == AFTER and main.is_symlink() == is_link and restarted.exists()
    left = {path.name for path in tmp_path.iterdir() if path.is_file()}
    assert left == {"real.conf", "restarted", *(["rsyslog.conf"] if is_link else [])}


@pytest.mark.deep
@HAS_SSHD
@pytest.mark.skipif(not NETCONFD and not STRICT, reason="needs netconfd")
def test_edits_of_somebody_else_are_not_thrown_away(tmp_path: Path) -> None:
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
            space = "urn:ietf:params:xml:ns:yang:ietf-system"
            config = '<config xmlns="urn:ietf:params:xml:ns:netconf:base:1.0">'
            config += f'<system xmlns="{space}"><location>quay 7</location></system></config>'
            other.edit_config(config, target="candidate")
            said = call("deliver", "-w", folder, out, code=1).stdout
            assert "lock" in said and states(folder) == {"orrin-gw9": "not begun"}
            assert "quay 7" in str(other.get_config("candidate"))
            other.discard_changes()
        call("deliver", "-w", folder, out)


# The command line of a device, behind the line editor of a real terminal.
SHELL = """import sys, time
def say(text):
    sys.stdout.write(text)
    sys.stdout.flush()
say("pier-ap1> ")
for line in sys.stdin:
    open(%r, "a").write(line)
    if line.strip() == "print all":
        for part in %r:
            say(part)
            time.sleep(0.3)
    elif line.strip() == "leave":
        break
    say("pier-ap1> ")
"""
PLOVER = """dialect: plover
about: x
shape: blocks
change: {remove: hush}
rows: {destination: {key: [address]}}
defaults: {export: off}
statements:
  - {in: events, says: "export {export}"}
  - {in: events, says: "send {destination.address}"}
  - {in: events, says: "leave-from {source.interface}"}
  - {says: "unit {unit.name}"}
session: {prompt: '[\\w.-]+> $', show: print all, leave: leave}
"""
TEXT = 'unit orrin-gw9\nmotd "pier-ap1> "\nevents\n    export on\n    send 127.0.0.1\n'


@pytest.mark.deep
@HAS_SSHD
@pytest.mark.parametrize(
    ("parts", "told"),
    [
        ([TEXT], ""),
        # The text stops for a while behind what is the prompt to the letter.
        ([TEXT[: TEXT.index("> ") + 2], TEXT[TEXT.index("> ") + 2 :]], ""),
        ([TEXT[:30], TEXT[30:60], TEXT[60:]], ""),
        (
            [f"{TEXT}pier-ap1> ", "hush export\n", "    export off\n"],
            "line 6 of what 'print all' prints",
        ),
        ([TEXT + "pier-ap1> hush export\n"], "line 6 of what 'print all' prints starts"),
    ],
)
def test_a_part_of_a_configuration_is_not_taken_for_the_whole(
    tmp_path: Path, parts: list[str], told: str
) -> None:
    program, typed = tmp_path / "device.py", tmp_path / "typed"
    program.write_text(SHELL % (str(typed), parts))
    (tmp_path / "w" / "dialects").mkdir(parents=True)
    (tmp_path / "w" / "dialects" / "plover.yaml").write_text(PLOVER)
    with running_sshd(tmp_path / "ssh", shell=f"{sys.executable} -u {program}") as sshd:
        folder = workspace(tmp_path / "w", "plover", f"via: ssh, {sshd.way}, patience: 3")
        done = call("gather", "-w", folder, code=1 if told else 0).stdout
        assert told in " ".join(done.split())
        file = folder / "configs" / "orrin-gw9.conf"
        assert file.read_text() == TEXT if not told else not file.exists()


@pytest.mark.deep
def test_the_configuration_of_another_device_is_neither_kept_nor_changed(tmp_path: Path) -> None:
    folder, out = tmp_path / "w", tmp_path / "corrections"
    first, second = write_fleet(folder, 2, only="holmsay-gw1 holmsay-gw2", patience=3, trial=2)
    with standins(folder):
        call("gather", "-w", folder)
        call("correct", "-w", folder, "-o", out, code=None)
        known = {path.name: path.read_bytes() for path in (folder / "configs").iterdir()}
        fleet, crossed = (folder / "fleet.yaml").read_text(), {}
        for one, other in ((first, second), (second, first)):
            way = f"identity: {one.identity}"
            crossed[way] = f"{way}, reach: {{address: {other.identity}}}"
        for way, new in crossed.items():
            fleet = fleet.replace(way, new)
        (folder / "fleet.yaml").write_text(fleet)
        call("gather", "-w", folder, "--learn-keys", code=None)
        done = " ".join(call("gather", "-w", folder, code=1).stdout.split())
        assert "its configuration names 'holmsay-gw2', as the fleet calls holmsay-gw2" in done
        assert {path.name: path.read_bytes() for path in (folder / "configs").iterdir()} == known
        sent = " ".join(call("deliver", "-w", folder, out, "--no-ask", code=1).stdout.split())
        assert "this may be another device: its configuration names 'holmsay-gw" in sent
        assert set(states(folder).values()) == {"not begun"}
        call("gather", "-w", folder, "--rename-ok")
        # A name of its own may be on purpose, addresses of another device are not.
        both = "names: [holmsay-gw1, holmsay-gw2]"
        for path in (folder / "configs").iterdir():
            path.unlink()  # what is there already was taken once
        (folder / "fleet.yaml").write_text(fleet.replace("kind:", f"{both}, kind:"))
        done = " ".join(call("gather", "-w", folder, code=1).stdout.split())
        assert "it has the identity of holmsay-gw2, and not its own" in done
        for way, new in crossed.items():
            fleet = fleet.replace(new, way)
        (folder / "fleet.yaml").write_text(fleet.replace("kind:", f"{both}, kind:"))
        call("gather", "-w", folder)


@pytest.mark.deep
def test_what_is_fetched_and_lost_most_is_kept_beside(tmp_path: Path) -> None:
    folder = tmp_path / "w"
    write_fleet(folder, 1, only="holmsay-gw1", patience=3)
    file = folder / "configs" / "holmsay-gw1.conf"
    with standins(folder):
        file.unlink()
        call("gather", "-w", folder)
        assert file.stat().st_mode & 0o777 == 0o600
        more = file.read_bytes() * 3
        file.write_bytes(more)
        done = " ".join(call("gather", "-w", folder, code=1).stdout.split())
        assert "are left; saved as .ivrel/kept-beside/holmsay-gw1.conf" in done
        assert file.read_bytes() == more
        beside = folder / ".ivrel" / "kept-beside" / "holmsay-gw1.conf"
        assert beside.read_bytes() * 3 == more and beside.stat().st_mode & 0o777 == 0o600
        assert (folder / ".ivrel").stat().st_mode & 0o777 == 0o700
        call("gather", "-w", folder, "--shrunk-ok")
        assert file.read_bytes() * 3 == more


HOSTILE = 'link "eth0{}reload-now"\n    inet 192.0.2.9/32\nevents\n    export off\n    send 198.51.100.21 udp 514 through error\n'


@pytest.mark.parametrize("sign", ["\x15", "\x1b", "\x85", "\u2028"])
def test_no_value_becomes_a_command(sign: str) -> None:
    device = Device("x1", "router", "main", "quern", (), "192.0.2.9")
    asks = read_policy(
        "policy: p\ncollectors: {a: {address: 198.51.100.21}}\n"
        "rules: [{rule: r, require: {source: identity, export: on}}]\n",
        "policy.yaml",
    )
    data = HOSTILE.format(sign).encode()
    done = correct(device, Dialects()["quern"], data, asks, TODAY, "x")
    assert done.proved and done.change == "events\n    export on\n"
    assert [(r.setting, "cannot be written" in r.why) for r in done.remains] == [("source", True)]
    # Neither is what stands in a text taken over into a change that takes it away.
    quern = Dialects()["quern"]
    with pytest.raises(Refused, match="control character"):
        write_change(quern, Text(data), [Edit((("events",),), ("mute", f"1{sign}x"), removes=True)])


@pytest.mark.deep
@HAS_SSHD
@pytest.mark.skipif(not RSYSLOGD and not STRICT, reason="needs rsyslogd")
@pytest.mark.parametrize(
    ("restart", "running", "state", "told", "times"),
    [
        ("exit 3", "true", "in doubt", "the files are as before, but the service may not run", 2),
        ("sleep 60", "true", "in doubt", "the files are as before, but the service may not run", 1),
        ("exit 0", "runs again", "as before", "the service does not run with the change", 2),
        ("exit 0", "false", "in doubt", "the files are as before, but the service may not run", 2),
        ("exit 0", "true", "delivered", "", 1),
    ],
)
def test_a_service_that_does_not_run_is_told_as_that(
    tmp_path: Path, restart: str, running: str, state: str, told: str, times: int
) -> None:
    main, log, script = tmp_path / "rsyslog.conf", tmp_path / "log", tmp_path / "restart"
    main.write_text(BEFORE)
    script.write_text(f"#!/bin/sh\necho restarted >> {log}\n{restart}\n")
    script.chmod(0o755)
    if running == "runs again":  # with what was there before, which is restarted second
        running = f"grep -c restarted {log} | grep -q 2"
    out = tmp_path / "corrections"
    with running_sshd(tmp_path / "ssh") as sshd:
        way = f"via: ssh, {sshd.way}, files: '{main}', restart: '{script}', running: '{running}', patience: 3"
        folder = workspace(tmp_path / "w", "rsyslog", way)
        call("gather", "-w", folder)
        call("correct", "-w", folder, "-o", out)
        done = call("deliver", "-w", folder, out, code=0 if state == "delivered" else 1).stdout
    assert states(folder) == {"orrin-gw9": state}, done
    assert told in " ".join(done.split())
    assert (main.read_text() == BEFORE) == (state != "delivered")
    assert log.read_text().count("restarted") == times


@pytest.mark.deep
def test_a_device_in_doubt_has_a_way_out(tmp_path: Path) -> None:
    quern = Dialects()["quern"]
    before = b"unit old\nevents\n    export off\n"
    proved = before.replace(b"off", b"on")
    # Somebody renamed it beside an export setting that is as before: that is left to him.
    found = standing(quern, before.replace(b"old", b"new"), before, proved)
    assert found.where == BEFORE_CHANGE and found.why
    assert standing(quern, proved.replace(b"old", b"new"), before, proved).where == BETWEEN
    way = way_back(quern, proved.replace(b"old", b"new"), before)
    assert way.target == before.replace(b"old", b"new") and "unit" not in way.change
    folder = tmp_path / "w"
    write_fleet(folder, 1, only="holmsay-gw1")
    journal = Journal(folder / ".ivrel")
    number = journal.begin("corrections", "{}", [("holmsay-gw1", 1, "quern")])
    assert not journal.hold(number, "holmsay-gw1")
    journal.settle(number, "holmsay-gw1", "in doubt", "not reached since")
    assert "busy" in call("deliver", "-w", folder, "--release", "holmsay-gw1", "--because", "x", code=2).stderr  # fmt: skip
    journal.end(number)
    journal.close()
    words = ("deliver", "-w", folder, "--release", "holmsay-gw1")
    assert "belong together" in call(*words, code=2).stderr
    assert "leave the folder out" in call(*words, "out", "--because", "x", code=2).stderr
    assert f"delivery {number}" in call(*words, "--because", "by hand\x1b[31m").stdout
    record = call("deliver", "-w", folder, "--record", "--format", "json").stdout
    assert '"state": "released"' in record and "by hand·[31m" in record
    assert (
        "no delivery left 'holmsay-gw1' in doubt" in call(*words, "--because", "x", code=2).stderr
    )


@pytest.mark.deep
def test_stand_ins_show_keys_of_their_own_and_end_with_the_first_process(tmp_path: Path) -> None:
    folder = tmp_path / "w"
    write_fleet(folder, 3, only="holmsay-gw1 holmsay-gw2 tarsk-fw2")
    for ends in (signal.SIGTERM, signal.SIGKILL):
        with standins(folder, "--processes", "2") as process:
            keys = (folder / ".ivrel" / "host-keys").read_text().splitlines()
            assert len({line.split()[-1] for line in keys}) == len(keys) == 3
            children = Path(f"/proc/{process.pid}/task/{process.pid}/children").read_text().split()
            process.send_signal(ends)
            process.wait(10)
            until = time.monotonic() + 10
            while any(Path(f"/proc/{child}").exists() for child in children):
                assert time.monotonic() < until, children
                time.sleep(0.05)
        assert len(children) == 2


@HAS_SSHD
@pytest.mark.parametrize(
    "prompt",
    [
        'f"12:00:{n:02} ap1> "',
        pytest.param('f"{n:03}/ap1> "', marks=pytest.mark.deep),
        pytest.param('f"{chr(97 + n)}> "', marks=pytest.mark.deep),
    ],
)
def test_a_prompt_that_is_another_each_time_is_known_again(tmp_path: Path, prompt: str) -> None:
    program = tmp_path / "device.py"
    counting = SHELL.replace('say("pier-ap1> ")\nfor', f"n = 0\nsay({prompt})\nfor")
    counting = counting.replace('    say("pier-ap1> ")', f"    n += 1\n    say({prompt})")
    program.write_text(counting % (str(tmp_path / "typed"), [TEXT[:40], TEXT[40:]]))
    (tmp_path / "w" / "dialects").mkdir(parents=True)
    (tmp_path / "w" / "dialects" / "plover.yaml").write_text(PLOVER)
    with running_sshd(tmp_path / "ssh", shell=f"{sys.executable} -u {program}") as sshd:
        folder = workspace(tmp_path / "w", "plover", f"via: ssh, {sshd.way}, patience: 3")
        call("gather", "-w", folder)
        assert (folder / "configs" / "orrin-gw9.conf").read_text() == TEXT


@pytest.mark.deep
@pytest.mark.parametrize("most", [4, 40, 60, 90, 120])
def test_a_full_disk_leaves_what_is_gone_on_with(tmp_path: Path, most: int) -> None:
    folder, out = tmp_path / "w", tmp_path / "corrections"
    write_fleet(folder, 4, only="holmsay-gw2 tarsk-fw2 kelby-gw2 mv-skua-lx1", patience=3, trial=2)
    words = ("--no-ask", "--no-last-look", "--stop-after", "9")
    with standins(folder):
        call("gather", "-w", folder)
        call("correct", "-w", folder, "-o", out, code=None)
        befores, proved = proved_texts(folder, out)

        def full() -> None:  # no file grows beyond so many KiB
            resource.setrlimit(resource.RLIMIT_FSIZE, (most << 10, most << 10))

        done = subprocess.run(
            [PROGRAM, "deliver", "-w", folder, out, *words],
            capture_output=True, text=True, check=False, preexec_fn=full,
        )  # fmt: skip
        assert "Traceback" not in done.stderr and done.returncode in (0, 1, 2), done
        again = ("--resume",) if states(folder) else (out,)
        call("deliver", "-w", folder, *again, *words, code=None)
        assert not third_states(folder, befores, proved)
        call("deliver", "-w", folder, out, *words)
        assert set(states(folder).values()) <= {"delivered", "there already"}
