"""Gathering and delivering, on stand-ins with every way to be reached and with every fault."""

from __future__ import annotations

import json
import os
import re
import shutil
import signal
import socket
import sqlite3
import subprocess
import threading
import time
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from random import Random

import asyncssh
import pytest
from fleets import (
    PROGRAM,
    SECRET,
    call,
    kill,
    proved_texts,
    shown,
    standins,
    states,
    third_states,
    write_fleet,
)
from hypothesis import given
from hypothesis import strategies as st
from test_output import keys

from ivrel.core.correcting.changes import apply_edits
from ivrel.core.delivery import course
from ivrel.core.delivery.dialog import Hider, answer, cleaned, error_in, waits
from ivrel.core.delivery.standing import BEFORE, BETWEEN, PROVED, UNREADABLE, standing, way_back
from ivrel.core.settings import SETTINGS
from ivrel.core.text.text import Text
from ivrel.core.vocabulary.errors import InputError
from ivrel.sources.workspace import WorkspaceFiles
from ivrel.standin.faults import FAULTS, Chance
from ivrel.standin.running import asked
from ivrel.standin.speaking import Mouth
from ivrel.standin.talk import Talker
from ivrel.standin.unit import Unit

# One of each platform, and of each way of taking a change.
ONE_OF_EACH = (
    "holmsay-gw2 tarsk-fw2 brannay-fw2 mv-gannet-fw1 tarsk-sw2 kelby-gw2 orrin-gw2 mv-petrel-lx1"
)
FORMATS = Path(__file__).parent.parent / "docs" / "formats.md"
CAREFUL = ("--no-ask", "--stop-after", "100", "--at-once", "20")


class Fleet:
    """A workspace with corrections, whose stand-ins run."""

    def __init__(self, folder: Path) -> None:
        self.folder, self.out = folder / "w", folder / "corrections"
        self.befores: dict[str, bytes] = {}
        self.proved: dict[str, bytes] = {}

    def deliver(self, *words: str, code: int | None = 0) -> subprocess.CompletedProcess[str]:
        return call("deliver", "-w", self.folder, self.out, *CAREFUL, *words, code=code)

    def corrected(self) -> None:
        call("gather", "-w", self.folder)
        call("correct", "-w", self.folder, "--waves", "--first", "3", "-o", self.out, code=None)
        self.befores, self.proved = proved_texts(self.folder, self.out)
        assert self.proved

    def third_states(self, number: int = 0) -> list[str]:
        return third_states(self.folder, self.befores, self.proved, number)


@pytest.fixture
def fleet(tmp_path: Path) -> Iterator[Fleet]:
    one = Fleet(tmp_path)
    write_fleet(one.folder, 8, only=ONE_OF_EACH, patience=3, trial=2)
    with standins(one.folder):
        one.corrected()
        yield one


@pytest.mark.deep
def test_what_was_delivered_reads_as_proved_and_is_told(fleet: Fleet) -> None:
    assert re.search("8 devices +would be sent", fleet.deliver("--dry-run").stdout)
    assert all(shown(fleet.folder, name) == text for name, text in fleet.befores.items() if "lx" not in name and "gw2" not in name)  # fmt: skip
    assert re.search("8 devices +delivered", fleet.deliver().stdout)
    assert not fleet.third_states()
    # What is kept outlasts a restart.
    for name in fleet.proved:
        asked(fleet.folder, ["restart", name])
    assert not fleet.third_states()
    gathered = call("gather", "-w", fleet.folder, "--since").stdout
    assert "changed 8" in gathered and "- events / export off" in gathered
    assert "as before 8" in call("gather", "-w", fleet.folder).stdout
    call("audit", "-w", fleet.folder)
    assert re.search("8 devices +there already", fleet.deliver("--prove-again").stdout)
    record = call("deliver", "-w", fleet.folder, "--record", "1000", code=2).stderr
    assert "no delivery 1000" in record
    said = call("deliver", "-w", fleet.folder, "--record", "2", "--format", "md").stdout
    assert said != call("deliver", "-w", fleet.folder, "--record", "--format", "md").stdout
    assert "| export | breaks | meets |" in said and "`    export on`" in said
    whole = call("deliver", "-w", fleet.folder, "--record", "2", "--format", "json").stdout
    said += whole
    # Machines get what the page about formats says.
    for name, found in (
        ("deliver", whole),
        ("gather", call("gather", "-w", fleet.folder, "--format", "json").stdout),
    ):
        row = next(one for one in FORMATS.read_text().splitlines() if one.startswith(f"| `{name}`"))
        documented = set(re.findall(r'"([a-z_]+)"', row)) - SETTINGS.keys()
        assert (
            documented
            == {key for key in keys(json.loads(found)) if "-" not in key} - SETTINGS.keys()
        )
    said += call("deliver", "-w", fleet.folder, "--record", "2").stdout + gathered
    # A secret is in the configurations, and nowhere else.
    assert SECRET.search(fleet.befores["holmsay-gw2"].decode())
    assert not SECRET.search(said)
    for path in fleet.folder.joinpath(".ivrel").glob("deliveries*"):
        assert not SECRET.search(path.read_bytes().decode("latin-1"))
    assert not list(fleet.folder.glob(".ivrel/delivery-texts/*"))


@pytest.mark.deep
def test_each_fault_leaves_each_platform_as_before_or_as_proved(fleet: Fleet) -> None:
    # What does not keep a change from being delivered.
    lasting = ("slow", "late", "silent", "drip", "chat", "clock", "fold", "stuck", "down")
    for fault in sorted(FAULTS, key=lambda fault: fault in lasting):
        for name in fleet.proved:
            asked(fleet.folder, ["fault", name, fault])
        fleet.deliver(code=None)
        found = states(fleet.folder)
        for name in fleet.proved:
            asked(fleet.folder, ["fault", name, "none"])
        # What is folded is not begun, and stays as the fault before has left it.
        assert fault == "fold" or not (wrong := fleet.third_states()), (fault, wrong)
        ends = {"delivered", "as before", "there already"}
        assert set(found.values()) <= (ends | {"not begun"} if fault == "fold" else ends), (
            fault,
            found,
        )
        if fault in lasting:
            continue
        # A device that refuses, or is lost in the middle of it, is as before; files have no middle.
        talks = [name for name in found if "lx" not in name]
        assert {found[name] for name in talks} == {"as before"}, (fault, found)
    shutil.rmtree(fleet.folder / ".ivrel" / "delivery-texts", ignore_errors=True)


@pytest.mark.deep
def test_what_does_not_confirm_a_change_is_waited_for_until_it_lasts(tmp_path: Path) -> None:
    fleet = Fleet(tmp_path)
    write_fleet(fleet.folder, 2, only="holmsay-gw2 brannay-fw2", trial=4)
    with standins(fleet.folder):
        fleet.corrected()
        lines = len((fleet.out / "brannay-fw2" / "change.txt").read_text().splitlines())
        # One refuses to confirm; the other says that it did. Opened, the lines, the end of a text,
        # checked, held on trial: then it is confirmed.
        asked(fleet.folder, ["fault", "holmsay-gw2", "refuse:6"])
        asked(fleet.folder, ["fault", "brannay-fw2", f"ignore:{lines + 5}"])
        done = " ".join(fleet.deliver(code=1).stdout.split())
        assert "it refuses to confirm the change: no: this is not possible now" in done
        assert "it confirmed the change but did not keep it" in done
        assert set(states(fleet.folder).values()) == {"as before"} and not fleet.third_states()
        # Whoever is killed before the last look comes back to it.
        asked(fleet.folder, ["fault", "holmsay-gw2", "none"])
        words = ["deliver", "-w", str(fleet.folder), str(fleet.out), *CAREFUL]
        process = subprocess.Popen([PROGRAM, *words], stdout=subprocess.DEVNULL)
        for _ in range(600):
            if set(states(fleet.folder, 2).values()) == {"kept"}:
                break
            time.sleep(0.01)
        kill(process)
        assert "last check follows" in call("deliver", "-w", fleet.folder, "--record").stdout
        call("deliver", "-w", fleet.folder, "--resume", code=1)
        assert states(fleet.folder) == {"holmsay-gw2": "delivered", "brannay-fw2": "as before"}
        assert not fleet.third_states()


def test_only_what_comes_after_a_change_counts_as_heard(workspace: WorkspaceFiles) -> None:
    import asyncio
    from datetime import UTC, datetime

    from conftest import TODAY

    from ivrel.core.syslog import parse
    from ivrel.core.syslog.record import Record
    from ivrel.live.hearing import Hearing
    from ivrel.work.messages import directory_of

    fleet = workspace.fleet.devices
    hearing = Hearing(fleet, workspace.policy, directory_of(workspace), TODAY)
    right, wrong = (
        f"<{pri}>Nov 23 2026 10:00:00.123 +00:00 192.0.2.11 link: port 3 up".encode()
        for pri in (166, 134)
    )

    def take(data: bytes) -> None:
        now = datetime.now(UTC)
        hearing.take(Record(parse(data), data, "x", 1, now, "192.0.2.11", 514, "udp", "datagram"))

    async def heard(*, first: bytes, then: bytes) -> str:
        hearing.begin("holmsay-gw1")
        take(first)
        since = time.monotonic()
        if then:
            take(then)
        return await hearing.heard("holmsay-gw1", since, 0.2)

    assert "no message of it arrived" in asyncio.run(heard(first=right, then=b""))
    assert "facility" in asyncio.run(heard(first=right, then=wrong))
    assert asyncio.run(heard(first=wrong, then=right)) == ""


def test_recordings_are_followed_when_they_are_compressed(tmp_path: Path) -> None:
    import asyncio
    import gzip

    from ivrel.core.syslog.record import Record, kept_line
    from ivrel.live.hearing import LOOK, following

    def line(n: int) -> bytes:
        return kept_line(f"<13>a: {n}".encode(), 1.0 * n, "192.0.2.1", 514, "udp", "datagram")

    heard: list[str] = []

    def take(record: Record) -> None:
        heard.append(record.message.text)

    async def go() -> None:
        path = tmp_path / "heard-20261123T100000Z-000.jsonl"
        path.write_bytes(line(1))
        task = asyncio.create_task(following(tmp_path, take))
        await asyncio.sleep(LOOK)
        path.write_bytes(line(1) + line(2) + line(3)[:20])
        await asyncio.sleep(2 * LOOK)
        with gzip.open(f"{path}.gz", "wb") as file:
            file.write(line(1) + line(2) + line(3))
        path.unlink()
        (tmp_path / "heard-20261123T100001Z-000.jsonl").write_bytes(line(4))
        await asyncio.sleep(2 * LOOK)
        task.cancel()

    asyncio.run(go())
    assert heard == ["2", "3", "4"]


@pytest.mark.deep
def test_a_silent_device_is_taken_back_where_messages_are_expected(tmp_path: Path) -> None:
    fleet = Fleet(tmp_path)
    write_fleet(fleet.folder, 2, only="tarsk-gw1 holmsay-gw2", trial=3)
    policy = fleet.folder / "policy.yaml"
    policy.write_text(policy.read_text().replace("5514", str(port := _free(socket.SOCK_DGRAM))))
    with standins(fleet.folder, "--fault", "tarsk-gw1=silent"):
        fleet.corrected()
        words = (
            "--no-last-look",
            "--expect",
            "--within",
            "2s",
            "--udp",
            str(port),
            "--on",
            "127.51.100.21",
        )
        # A port that another one has is told before anything is sent, and leaves no delivery.
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as taken:
            taken.bind(("127.51.100.21", port))
            assert str(port) in fleet.deliver(*words, code=2).stderr
        assert states(fleet.folder) == {}
        done = fleet.deliver(*words, code=1)
        assert "no message of it arrived within 2 s" in done.stdout
        assert states(fleet.folder) == {"tarsk-gw1": "as before", "holmsay-gw2": "delivered"}
        assert not fleet.third_states()
        # The recording of another will do as well.
        asked(fleet.folder, ["fault", "tarsk-gw1", "none"])
        heard = tmp_path / "heard"
        other = subprocess.Popen(
            [PROGRAM, "listen", "--udp", str(port), "--on", "127.51.100.21", "-o", str(heard)],
            stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
        )  # fmt: skip
        for _ in range(100):
            if list(heard.glob("heard-*")):
                break
            time.sleep(0.05)
        fleet.deliver("--no-last-look", "--expect", "--heard", str(heard), "--within", "5s")
        other.send_signal(signal.SIGINT)
        other.wait(10)
        assert states(fleet.folder)["tarsk-gw1"] == "delivered" and not fleet.third_states()


@pytest.mark.deep
def test_what_is_killed_is_resumed_and_nothing_is_done_twice(tmp_path: Path) -> None:
    fleet, dice = Fleet(tmp_path), Random(7)
    write_fleet(fleet.folder, 16, only=ONE_OF_EACH)
    with standins(fleet.folder, "--faults", "0.1", "--seed", "5"):
        fleet.corrected()
        words = ["deliver", "-w", str(fleet.folder), str(fleet.out), *CAREFUL]
        for n in range(4):
            process = subprocess.Popen(
                [PROGRAM, *words], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
            )
            _wait_for_steps(fleet.folder, dice.randrange(4, 12) * (n + 1))
            if n == 0 and process.poll() is None:
                # Another one, at the same time, is told to keep away; and it cannot be resumed.
                _stop_between_writes(process, fleet.folder)
                held = [d for d, s in states(fleet.folder).items() if s == "in flight"]
                if held:
                    other = fleet.deliver("--device", held[0], code=1)
                    assert "is working on it" in other.stdout or "there already" in other.stdout
                process.send_signal(signal.SIGCONT)
            kill(process)
            words = ["deliver", "-w", str(fleet.folder), "--resume", *CAREFUL]
        call(*words, code=None)
        assert "No delivery was interrupted" in call(*words).stdout
        found = states(fleet.folder, 1)
        assert not fleet.third_states(1) and "delivered" in found.values()
        assert "kept" not in found.values()
    with sqlite3.connect(fleet.folder / ".ivrel" / "deliveries.sqlite") as base:
        kept = base.execute(
            "SELECT name, count(*) FROM step WHERE step = 'kept' GROUP BY delivery, name"
        )
        assert all(number == 1 for _, number in kept.fetchall())


def _wait_for_steps(folder: Path, number: int) -> None:
    path = folder / ".ivrel" / "deliveries.sqlite"
    for _ in range(400):
        if path.exists():
            with sqlite3.connect(path) as base:
                try:
                    if base.execute("SELECT count(*) FROM step").fetchone()[0] >= number:
                        return
                except sqlite3.OperationalError:
                    pass
        time.sleep(0.01)


def _stop_between_writes(process: subprocess.Popen[bytes], folder: Path) -> None:
    """Stop a delivery where it does not hold the journal; others could not write it."""
    with sqlite3.connect(folder / ".ivrel" / "deliveries.sqlite", timeout=0) as base:
        while True:
            process.send_signal(signal.SIGSTOP)
            os.waitid(os.P_PID, process.pid, os.WSTOPPED | os.WEXITED | os.WNOWAIT)
            try:
                base.execute("BEGIN IMMEDIATE")
                return
            except sqlite3.OperationalError:
                process.send_signal(signal.SIGCONT)
                time.sleep(0.01)


@pytest.mark.deep
def test_a_device_that_says_something_else_is_refused_or_proved_again(tmp_path: Path) -> None:
    fleet = Fleet(tmp_path)
    write_fleet(fleet.folder, 1, only="holmsay-gw2")
    with standins(fleet.folder):
        fleet.corrected()
        change = fleet.out / "holmsay-gw2" / "change.txt"
        own = change.read_text()
        change.write_text(own + "    stamp calendar millis\n")
        assert "not begun" in fleet.deliver(code=1).stdout  # it would be no better
        change.write_text(own)
        edited = fleet.folder / "configs" / "holmsay-gw2.conf"
        edited.write_text(edited.read_text().replace("through notice", "through error"))
        call("correct", "-w", fleet.folder, "-o", fleet.out, "--replace", code=None)
        stale = " ".join(fleet.deliver(code=1).stdout.split())
        assert "its configuration has changed since the correction was written" in stale
        assert shown(fleet.folder, "holmsay-gw2") == fleet.befores["holmsay-gw2"]
        again = fleet.deliver("--prove-again", "--no-last-look").stdout
        assert "delivered" in again
        call("gather", "-w", fleet.folder)
        call("audit", "-w", fleet.folder)


@pytest.mark.deep
def test_between_waves_one_is_asked_and_may_end_it(fleet: Fleet) -> None:
    words = ["deliver", "-w", str(fleet.folder), str(fleet.out), "--ask"]
    done = subprocess.run([PROGRAM, *words], input="n\n", capture_output=True, text=True, timeout=60, check=False)  # fmt: skip
    assert re.search("So far: (1 delivered, 2 kept|2 kept, 1 delivered). Go on with wave 2", done.stdout)  # fmt: skip
    assert "you chose not to continue" in done.stdout and done.returncode == 1
    assert sorted(states(fleet.folder).values()) == ["delivered"] * 3 + ["waiting"] * 5
    # Those that wait are gone on with, as long as no later delivery has begun.
    call("deliver", "-w", fleet.folder, "--resume", "--no-ask")
    assert set(states(fleet.folder).values()) == {"delivered"}
    assert "No delivery was interrupted" in call("deliver", "-w", fleet.folder, "--resume").stdout


def _free(kind: int) -> int:
    with socket.socket(socket.AF_INET, kind) as one:
        one.bind(("127.51.100.21", 0))
        return int(one.getsockname()[1])


# What a device does that is none, and what is told of it.
ENDLESS = "the answer to 'print all' does not end"
ODD = {
    "holmsay-gw1": (b"", b"", "no prompt within 1 s after the login"),
    "holmsay-gw2": (b"holmsay-gw2> ", b"x" * 65536, ENDLESS),
    "holmsay-sw1": (b"holmsay-sw1> ", b"unit \xff\xfe\nholmsay-sw1> ", "is not utf-8 at byte 5"),
    "tarsk-gw1": (b"tarsk-gw1> ", b"no: not for you\ntarsk-gw1> ", "'print all' is refused"),
    "tarsk-sw1": (b"tarsk-sw1> ", b"\ntarsk-sw1> ", "'print all' prints nothing"),
}


async def _odd(process: asyncssh.SSHServerProcess[bytes], prompt: bytes, said: bytes) -> None:
    process.stdout.write(prompt)
    async for line in process.stdin:
        if line.strip() in (b"pages off", b""):
            process.stdout.write(line + prompt)
            continue
        process.stdout.write(line + said)
        while len(said) > 1000:
            process.stdout.write(said)
            await process.stdout.drain()


@pytest.fixture
def odd(tmp_path: Path) -> Iterator[Path]:
    """A fleet of devices each of which does something else than a device, and one that is right."""
    import asyncio
    import threading

    folder = tmp_path / "w"
    devices = write_fleet(folder, 9, only=" ".join((*ODD, "kelby-sw1 orrin-sw1 brannay-sw1 brannay-gw1")), patience=1)  # fmt: skip
    loop, key = asyncio.new_event_loop(), asyncssh.generate_private_key("ssh-ed25519")

    class Open(asyncssh.SSHServer):
        def begin_auth(self, username: str) -> bool:
            return False

    class Shut(asyncssh.SSHServer):
        def password_auth_supported(self) -> bool:
            return True

        def validate_password(self, username: str, password: str) -> bool:
            return password == "right"

    servers: list[asyncssh.SSHAcceptor] = []

    async def begin() -> None:
        for device in devices:
            prompt, said, _ = ODD.get(device.name, (b"", b"", ""))
            if not prompt and device.name not in ODD and device.name != "kelby-sw1":
                continue

            async def serve(process: asyncssh.SSHServerProcess[bytes], prompt: bytes = prompt, said: bytes = said) -> None:  # fmt: skip
                await _odd(process, prompt, said)

            servers.append(await asyncssh.listen(
                device.identity or "", 2222, server_host_keys=[key], process_factory=serve,
                server_factory=Shut if device.name == "kelby-sw1" else Open, encoding=None, line_editor=False,
            ))  # fmt: skip

    threading.Thread(target=loop.run_forever, daemon=True).start()
    asyncio.run_coroutine_threadsafe(begin(), loop).result(20)
    with standins(folder, "brannay-sw1", "brannay-gw1"):
        yield folder

    async def end() -> None:
        # Their addresses are wanted again.
        for server in servers:
            server.close()
            await server.wait_closed()

    asyncio.run_coroutine_threadsafe(end(), loop).result(20)
    loop.call_soon_threadsafe(loop.stop)


@pytest.mark.deep
def test_each_thing_that_goes_wrong_is_told_in_a_line_and_the_others_are_done(odd: Path) -> None:
    call("gather", "-w", odd, "--learn-keys", code=None)
    keys = odd / ".ivrel" / "host-keys"
    lines = keys.read_text().splitlines()
    own, gone = (
        next(d for d in WorkspaceFiles(odd).fleet.devices if d.name == name).identity
        for name in ("brannay-gw1", "orrin-sw1")
    )
    lines.append(lines[0].replace(lines[0].split()[0], f"[{gone}]:2222"))
    other = asyncssh.generate_private_key("ssh-ed25519").export_public_key().decode().split()[1]
    keys.write_text("\n".join(re.sub(r"\S+$", other, one) if f"[{own}]" in one else one for one in lines) + "\n")  # fmt: skip
    done = call("gather", "-w", odd, code=1).stdout
    said = " ".join(done.split())
    wanted = [told for _, _, told in ODD.values()] + [
        "the login of keeper by key is refused",
        "connection refused",
        "the host key differs from the recorded one; nothing was sent",
    ]
    for told in wanted:
        assert told in said, (told, done)
    assert "not gathered 8 as before 1" in re.sub(" +", " ", said)
    assert "another than recorded" in call("gather", "-w", odd, "--learn-keys", code=1).stdout
    out = odd.parent / "corrections"
    call("correct", "-w", odd, "-o", out, code=None)
    delivered = call("deliver", "-w", odd, out, *CAREFUL, code=1)
    assert states(odd)["brannay-sw1"] == "delivered"
    assert set(states(odd).values()) == {"delivered", "not begun"}
    assert len(re.findall("not begun", delivered.stdout)) >= 7


@pytest.mark.deep
def test_passwords_stand_in_no_file_and_programs_are_called_without_a_shell(tmp_path: Path) -> None:
    folder = tmp_path / "w"
    write_fleet(folder, 1, only="holmsay-gw2")
    fleet = folder / "fleet.yaml"
    text = fleet.read_text()
    fleet.write_text(re.sub(r"key: '[^']*'", "password: hunter2", text))
    assert "no password stands in a file" in call("gather", "-w", folder, code=2).stderr
    fleet.write_text(re.sub(r"key: '[^']*'", "password: IVREL_TEST_NONE", text))
    assert "in the variable IVREL_TEST_NONE" in call("gather", "-w", folder, code=2).stderr
    config = folder / "configs" / "holmsay-gw2.conf"
    before = config.read_text()
    stored = folder / "stored"
    stored.write_text(before)
    (folder / "put").write_text(
        f"#!{shutil.which('python3')}\nimport sys\nfrom pathlib import Path\n"
        "path = Path(sys.argv[1])\nif sys.argv[2:]:\n    print('saved', sys.argv[2])\n    sys.exit()\n"
        "change = sys.stdin.read()\npath.write_text(path.read_text().replace('export off', 'export on')"
        " if 'export on' in change else path.read_text().replace('export on', 'export off'))\n"
    )
    (folder / "put").chmod(0o755)
    put = f"['{folder / 'put'}', '{stored}'"
    way = f"{{via: command, fetch: [cat, '{stored}'], change: {put}], keep: {put}, '{{device}};true']}}"
    fleet.write_text(re.sub(r"reach:\n(  - .*\n)*", f"reach:\n  - {way}\n", text))
    out = tmp_path / "corrections"
    assert "as before 1" in call("gather", "-w", folder).stdout
    call("correct", "-w", folder, "--setting", "export", "-o", out, code=None)
    call("deliver", "-w", folder, out, "--setting", "export")
    assert stored.read_text() == before.replace("export off", "export on")
    assert "command" in call("fleet", "-w", folder, code=None).stdout
    # A fleet that is a table has its ways in a file of their own.
    ways = re.search(r"reach:\n(  - .*\n)", fleet.read_text())
    assert ways
    (folder / "reach.yaml").write_text(ways[0])
    assert "stands beside fleet.yaml" in call("fleet", "-w", folder, code=2).stderr
    moved = fleet.read_text()
    fleet.unlink()
    table = folder / "fleet.csv"
    table.write_text("device,kind,site,platform\nholmsay-gw2,router,holmsay,quern\n")
    assert "changed 1" in call("gather", "-w", folder).stdout
    (folder / "reach.yaml").write_text(f"{ways[0]}  - {{where: {{kind: switch}}, via: ssh}}\n")
    told = call("gather", "-w", folder, code=2).stderr
    assert "reach.yaml:3:5: this way is for no device of the fleet" in told
    (folder / "reach.yaml").unlink()
    table.unlink()
    fleet.write_text(moved.replace("{device}", "{colour}"))
    assert "no field is called 'colour'" in call("gather", "-w", folder, code=2).stderr


def test_one_device_goes_the_whole_way(tmp_path: Path) -> None:
    """The short form of the deep tests: gathered, corrected, delivered to, and as proved then."""
    folder, out = tmp_path / "w", tmp_path / "corrections"
    write_fleet(folder, 1, only="holmsay-gw2", patience=3, trial=2)
    with standins(folder):
        call("gather", "-w", folder)
        call("correct", "-w", folder, "-o", out, code=None)
        _, proved = proved_texts(folder, out)
        call("deliver", "-w", folder, out, "--no-ask", "--no-last-look")
        assert states(folder) == {"holmsay-gw2": "delivered"}
        assert shown(folder, "holmsay-gw2") == proved["holmsay-gw2"]


@pytest.mark.deep
def test_a_password_of_the_environment_lets_in(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    folder = tmp_path / "w"
    write_fleet(folder, 2, only="holmsay-gw2 kelby-gw2")
    fleet = folder / "fleet.yaml"
    fleet.write_text(re.sub(r"key: '[^']*'", "password: IVREL_STANDIN_PASSWORD", fleet.read_text()))
    monkeypatch.setenv("IVREL_STANDIN_PASSWORD", "a wide berth")
    with standins(folder):
        call("gather", "-w", folder)
        monkeypatch.setenv("IVREL_STANDIN_PASSWORD", "a narrow berth")
        done = call("gather", "-w", folder, code=1).stdout
        assert " ".join(done.split()).count("by password is refused") == 2
        assert "narrow" not in done


# Properties of what decides without doing.


@pytest.mark.parametrize("name", ONE_OF_EACH.split())
def test_from_wherever_a_change_is_cut_off_a_way_leads_back(
    name: str, workspace: WorkspaceFiles
) -> None:
    from ivrel.core import correct

    device = next(d for d in workspace.fleet.devices if d.name == name)
    dialect, (data, _) = workspace.dialects[device.platform], workspace.text(device)
    from conftest import TODAY

    found = correct(device, dialect, data, workspace.policy, TODAY, "x")
    edits = dialect.shape.read_change(found.change, "x")
    wheres = []
    for n in range(len(edits) + 1):
        now = apply_edits(dialect, Text(data), edits[:n]).data
        wheres.append(standing(dialect, now, data, found.corrected).where)
        back = way_back(dialect, now, data)
        assert not back.problem
        assert standing(dialect, back.target, data, found.corrected).where == BEFORE
    assert wheres[0] == BEFORE and wheres[-1] == PROVED
    assert set(wheres[1:-1]) <= {BETWEEN, BEFORE}
    assert standing(dialect, b"\x00", data, found.corrected).where in (UNREADABLE, BETWEEN)


def test_what_somebody_else_changes_meanwhile_is_left_to_him(workspace: WorkspaceFiles) -> None:
    dialect = workspace.dialects["quern"]
    before = workspace.text(next(d for d in workspace.fleet.devices if d.name == "holmsay-gw2"))[0]
    proved = before.replace(b"export off", b"export on")
    now = proved.replace(b"place holmsay", b"place elsewhere")
    assert proved != before and now != proved
    assert standing(dialect, now, before, proved).where == BETWEEN
    back = way_back(dialect, now, before)
    assert back.target == before.replace(b"place holmsay", b"place elsewhere")
    assert "place" not in back.change


def test_whatever_was_written_last_something_is_to_be_done() -> None:
    for step in course.STEPS[1:]:
        for where in (PROVED, BEFORE, BETWEEN, UNREADABLE):
            move = course.next_move(step, where)
            # Nothing that was to be taken back is gone on with, and nothing unclear is left.
            assert move != course.BEGIN
            assert (move == course.TAKE_BACK) == (
                where in (BETWEEN, UNREADABLE) or (where == PROVED and step.startswith("tak"))
            )
    assert course.next_move(course.REACHED, BETWEEN) == course.BEGIN


@given(
    lines=st.lists(st.from_regex(r"[a-z0-9 .>/-]{0,20}", fullmatch=True), max_size=6),
    colour=st.sampled_from([b"", b"\x1b[1m", b"\x1b[0;32m"]),
    echo=st.booleans(),
)
def test_answers_are_what_stands_between_echo_and_prompt(
    lines: list[str], colour: bytes, echo: bool
) -> None:
    session = WorkspaceFiles(Path(__file__).parent).dialects["quern"].session
    assert session is not None
    said = "".join(f"{line}\r\n" for line in lines).encode()
    whole = (b"weigh\r\n" if echo else b"") + said + colour + b"holmsay-gw1> "
    assert waits(session, whole)
    out = answer(session, "weigh", whole)
    if echo or not lines or lines[0].strip() != "weigh":
        assert out == said.replace(b"\r\n", b"\n")
    assert b"\x1b" not in cleaned(whole)
    # A device that has not come to its prompt is waited for.
    assert not waits(session, whole[:-1]) or whole[:-1].endswith(b"> ")


@pytest.mark.parametrize(
    ("name", "lines", "told"),
    [
        ("holmsay-gw2", ["draft", "events", "    whistle on"], "is not understood"),
        ("holmsay-gw2", ["draft", "events", *(f"    send 127.0.0.{n} udp 514 through alert" for n in range(1, 4))], "holds 4 rows"),
        ("holmsay-gw2", ["export on"], "that is no command"),
        ("holmsay-gw2", ["let it stand"], "nothing is on trial"),
        ("tarsk-fw2", ["forget journal.rule.99"], "there is no"),
        ("tarsk-sw2", ["load", *(f"[collector.{n}]\ninet = 127.0.0.{n}" for n in (2, 3)), ";;"], "not"),
        ("mv-gannet-fw1", ["graft", "<alter><feeds>", "%%"], "XML"),
    ],
)  # fmt: skip
def test_a_stand_in_refuses_what_its_platform_refuses(
    name: str, lines: list[str], told: str, workspace: WorkspaceFiles
) -> None:
    device = next(d for d in workspace.fleet.devices if d.name == name)
    dialect, (text, _) = workspace.dialects[device.platform], workspace.text(device)
    unit = Unit(device, dialect, text, {}, Mouth({}), Chance(0, 1))
    talker = Talker(unit)
    said = [talker.typed(line).said for whole in lines for line in whole.split("\n")]
    session = dialect.session
    assert session is not None and error_in(session, said[-1]) and told.encode() in said[-1]
    assert unit.running == text and unit.saved == text


@pytest.mark.parametrize("name", ONE_OF_EACH.split())
def test_answers_are_shown_without_what_a_configuration_holds_beyond_export(
    name: str, workspace: WorkspaceFiles
) -> None:
    device = next(d for d in workspace.fleet.devices if d.name == name)
    dialect, (text, _) = workspace.dialects[device.platform], workspace.text(device)
    hider = Hider(dialect, "send 198.51.100.21", ["a wide berth"])
    hider.know(text)
    secrets = SECRET.findall(text.decode())
    assert secrets
    for line in text.decode().splitlines():
        if SECRET.search(line):
            told = hider.shown(f"no: not now: {line}\nlogged in by a wide berth\n".encode())
            assert told[0].startswith("no: not now") and "…" in told[0]
            assert not any(secret in " ".join(told) for secret in (*secrets, "berth"))
    # What was typed, and the words of the platform, are shown; a long answer is cut.
    assert hider.hidden("send 198.51.100.21: 5 of 4") == "send 198.51.100.21: 5 of 4"
    assert hider.shown(b"line\n" * 9)[-1] == "… 6 more"


@pytest.mark.deep
def test_the_whole_circle_is_shown_on_living_devices(tmp_path: Path) -> None:
    done = call("demo", "--live", tmp_path / "skerry")
    said = " ".join(done.stdout.split())
    assert "holmsay-gw2 quern as before" in said and "no message of it arrived within 5 s" in said
    assert "34 of 34 devices heard as the policy asks" in said
    assert "40 of 40 devices as asked" in said and "Every device is as asked" in said


def test_a_new_journal_may_be_made_by_several_at_once(tmp_path: Path) -> None:
    from ivrel.live.journal import Journal

    start = threading.Barrier(4)

    def begun(folder: Path) -> int:
        start.wait()
        return Journal(folder).begin("x", "{}", [("a", 1, "quern")])

    with ThreadPoolExecutor(4) as several:
        for n in range(20):
            numbers = several.map(begun, [tmp_path / str(n)] * 4)
            assert sorted(numbers) == [1, 2, 3, 4]


def test_the_journal_is_of_one_writer_and_outlives_it(tmp_path: Path) -> None:
    from ivrel.live.journal import Journal

    one, other = Journal(tmp_path), Journal(tmp_path)
    number = one.begin("x", "{}", [("a", 1, "quern")])
    assert one.hold(number, "a") == ""
    second = other.begin("x", "{}", [("a", 1, "quern")])
    assert f"delivery {number} did not finish it" in other.hold(second, "a")
    one.prepared(number, "a", "change", (b"before", b"proved"), (("export", "breaks"),))
    one._do("BEGIN IMMEDIATE")  # whoever is stopped here holds up others, and not readers
    late = Journal(tmp_path, patience=0.1)
    assert late.steps(number, "a") == []
    with pytest.raises(InputError, match="another delivery has been writing"):
        late.note(number, "a", "sending")
    one._do("COMMIT")
    mode = next(tmp_path.glob("delivery-texts/*")).stat().st_mode
    assert mode & 0o077 == 0
    one.note(number, "a", "sending")
    one.close()
    entry = Journal(tmp_path).entry(number, "a")
    assert other.text(entry.before) == b"before" and entry.verdicts == (("export", "breaks"),)
    assert [s.step for s in other.steps(number, "a")] == ["sending"]
    other.settle(number, "a", "as before")
    assert not list(tmp_path.glob("delivery-texts/*")) and other.hold(second, "a") == ""
