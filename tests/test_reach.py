"""How devices are reached: through other hosts, with passwords that a program prints."""

from __future__ import annotations

import getpass
import json
import subprocess
import sys
from pathlib import Path
from typing import Any

import pytest
from fleets import call, standins, states, write_fleet
from sshd import SSHD, Sshd, running_sshd
from test_never import PLOVER, SHELL, TEXT
from test_real_devices import NETCONFD, STRICT, netconfd, seeded

from ivrel.core import InputError, read_fleet
from ivrel.sources.files import write_text

pytestmark = pytest.mark.skipif(not SSHD and not STRICT, reason="needs sshd")
DEVICE = "device: orrin-gw9, kind: router, site: orrin, identity: 127.0.0.1, names: kelby-gw2"


def workspace(folder: Path, platform: str, way: str, hosts: list[Sshd]) -> Path:
    """Write a workspace of one device behind hosts, and learn their keys."""
    lines = [f"  - {{host: quay-{n}, {one.way}}}\n" for n, one in enumerate(hosts)]
    through = f"through: [{', '.join(f'quay-{n}' for n in range(len(hosts)))}]"
    write_text(
        folder / "fleet.yaml",
        f"fleet: one\nhosts:\n{''.join(lines)}devices:\n"
        f"  - {{{DEVICE}, platform: {platform}, reach: {{{way}, {through}}}}}\n",
    )
    shown = call("gather", "-w", folder, "--learn-keys").stdout
    assert shown.index("quay-0") < shown.index("quay-1") < shown.index("orrin-gw9")
    return folder


def seen(sshd: Sshd) -> str:
    """What a host wrote of who came in, and of what went through it."""
    return (sshd.key.parent / "sshd.log").read_text()


@pytest.mark.deep
def test_a_session_goes_through_two_hosts(tmp_path: Path) -> None:
    program = tmp_path / "device.py"
    program.write_text(SHELL % (str(tmp_path / "typed"), [TEXT]))
    (tmp_path / "w" / "dialects").mkdir(parents=True)
    (tmp_path / "w" / "dialects" / "plover.yaml").write_text(PLOVER)
    shell = f"{sys.executable} -u {program}"
    with (
        running_sshd(tmp_path / "first") as first,
        running_sshd(tmp_path / "second") as second,
        running_sshd(tmp_path / "device", shell=shell) as device,
    ):
        way = f"via: ssh, {device.way}, patience: 5"
        folder = workspace(tmp_path / "w", "plover", way, [first, second])
        call("gather", "-w", folder)
        assert (folder / "configs" / "orrin-gw9.conf").read_text() == TEXT
        # Each host was logged in to with the key of its own, the second from the first.
        for one in (first, second):
            assert "Accepted publickey" in seen(one)
        fleet = (folder / "fleet.yaml").read_text()
        (folder / "fleet.yaml").write_text(fleet.replace(f"port: {second.port}", "port: 9"))
        said = call("gather", "-w", folder, code=1).stdout
        assert "reaching 127.0.0.1 port" in " ".join(said.split())
        # A host whose key is another is told nothing.
        (folder / "fleet.yaml").write_text(fleet)
        known = folder / ".ivrel" / "host-keys"
        lines = known.read_text().splitlines()
        keys = {line.split()[0]: line.split()[-1] for line in lines}
        other = keys[f"[127.0.0.1]:{device.port}"]
        mine = keys[f"[127.0.0.1]:{second.port}"]
        known.write_text(known.read_text().replace(mine, other))
        said = call("gather", "-w", folder, code=1).stdout
        assert "the host key differs from the recorded one" in " ".join(said.split())


@pytest.mark.skipif(not NETCONFD and not STRICT, reason="needs netconfd")
@pytest.mark.deep
def test_netconf_goes_through_two_hosts(tmp_path: Path) -> None:
    with (
        running_sshd(tmp_path / "first") as first,
        running_sshd(tmp_path / "second") as second,
        netconfd(tmp_path / "server") as server,
    ):
        seeded(tmp_path, server)
        way = f"via: netconf, {server.way}, trial: 4"
        folder = workspace(tmp_path / "w", "ietf-syslog", way, [first, second])
        call("gather", "-w", folder)
        assert "198.51.100.21" in (folder / "configs" / "orrin-gw9.conf").read_text()


def test_a_password_that_a_program_prints_is_used_and_shown_nowhere(tmp_path: Path) -> None:
    secret, keeper = "correct-horse-battery", tmp_path / "keeper"
    keeper.write_text(f'#!/bin/sh\n[ "$1" = orrin-gw9 ] && echo {secret} || exit 4\n')
    keeper.chmod(0o755)
    server = tmp_path / "server.py"
    server.write_text(PASSWORD_SERVER)
    with subprocess.Popen(
        [sys.executable, "-u", str(server), secret], stdout=subprocess.PIPE, text=True
    ) as process:
        assert process.stdout is not None
        port = int(process.stdout.readline())
        folder = tmp_path / "w"
        (folder / "dialects").mkdir(parents=True)
        (folder / "dialects" / "plover.yaml").write_text(PLOVER)
        way = f"via: ssh, address: 127.0.0.1, port: {port}, user: {getpass.getuser()}, patience: 5"
        fleet = f"fleet: one\ndevices:\n  - {{{DEVICE}, platform: plover, reach: {{{way}, password: {{from: ['{keeper}', '{{device}}']}}}}}}\n"
        write_text(folder / "fleet.yaml", fleet)
        call("gather", "-w", folder, "--learn-keys")
        done = call("gather", "-w", folder, "--format", "json")
        # The device prints the password: it is not kept from what it says of itself.
        assert secret not in done.stdout + done.stderr
        assert (folder / "configs" / "orrin-gw9.conf").read_text() == TEXT
        (folder / "fleet.yaml").write_text(fleet.replace("'{device}'", "nobody"))
        said = " ".join(call("gather", "-w", folder, code=1).stdout.split())
        assert "which gives the password, ended with 4" in said
        process.kill()


PASSWORD_SERVER = """import asyncio, sys
import asyncssh
class Door(asyncssh.SSHServer):
    def password_auth_supported(self): return True
    def validate_password(self, user, password): return password == sys.argv[1]
async def talk(process):
    process.stdout.write("pier-ap1> ")
    async for line in process.stdin:
        if line.strip() == "leave": break
        said = TEXT if line.strip() == "print all" else ""
        process.stdout.write(said + "pier-ap1> ")
    process.exit(0)
async def main():
    key = asyncssh.generate_private_key("ssh-ed25519")
    server = await asyncssh.listen("127.0.0.1", 0, server_host_keys=[key], server_factory=Door, process_factory=talk)
    print(server.get_port())
    await asyncio.sleep(60)
asyncio.run(main())
""".replace("TEXT", repr(TEXT))


@pytest.mark.parametrize(
    ("reach", "hosts", "wrong"),
    [
        ("via: ssh, through: quay", "", "host 'quay'"),
        ("via: ssh, through: quay", "{host: quai, address: 192.0.2.1}", "host 'quay'"),
        ("via: ssh", "{host: a}, {host: a}", "host 'a' stands twice"),
        ("via: ssh, password: hunter2", "{host: a}", "no password stands in a file"),
        ("via: ssh, password: {from: []}", "{host: a}", "the list is empty"),
        ("via: ssh, password: {of: [x]}", "{host: a}", "key 'of'"),
        ("via: ssh, password: {from: ['{devise}']}", "{host: a}", "no field is called 'devise'"),
    ],
)
def test_a_way_that_cannot_be_is_refused_with_its_line(reach: str, hosts: str, wrong: str) -> None:
    text = f"fleet: one\nhosts: [{hosts}]\nreach: [{{{reach}}}]\ndevices:\n  - {{{DEVICE}, platform: quern}}\n"
    with pytest.raises(InputError) as told:
        read_fleet(text, "fleet.yaml")
    assert wrong in str(told.value) and "fleet.yaml:" in str(told.value)


# A device that shows its text in pages, wants a second password, and asks before it saves.
ASKING = """import sys, termios, time, tty
text = open(%(file)r).read()
prompt = "pier-ap1> "
def say(said):
    sys.stdout.write(said)
    sys.stdout.flush()
def silent(read):
    old = termios.tcgetattr(0)
    new = termios.tcgetattr(0)
    new[3] &= ~(termios.ECHO | termios.ICANON)
    termios.tcsetattr(0, termios.TCSANOW, new)
    try:
        return read()
    finally:
        termios.tcsetattr(0, termios.TCSANOW, old)
def sign():
    return sys.stdin.buffer.raw.read(1)
def line():
    out = b""
    while not out.endswith((b"\\n", b"\\r")):
        out += sys.stdin.buffer.raw.read(1)
    return out.decode().strip()
say(prompt)
while True:
    word = line()
    open(%(typed)r, "a").write(word + "\\n")
    if word == "print all":
        lines = text.splitlines(True)
        for n, one in enumerate(lines):
            say(one)
            if n %% 2 and n + 1 < len(lines):
                say("-- more --")
                time.sleep(0.05 * (n < 4))  # the answer may be echoed, or not
                assert silent(sign) == b" "
                say("\\r          \\r")
    elif word == "rise":
        say("second password: ")
        if silent(line) == "tide-and-time":
            prompt = "pier-ap1# "
        else:
            say("\\nno: not for you\\n")
        say("\\n")
    elif word in ("conf", "done", "events", ""):
        pass
    elif word == "export on" and prompt.endswith("# "):
        text = text.replace("export off", "export on")
    elif word == "write":
        say("overwrite what was saved? [y/n] ")
        if line() == "y":
            open(%(file)r, "w").write(text)
    elif word == "leave":
        break
    else:
        say("no: what is that\\n")
    say(prompt)
"""
TERN = PLOVER.replace("plover", "tern").replace(
    "session: {prompt: '[\\w.-]+> $', show: print all, leave: leave}",
    """session:
  prompt: '[\\w.-]+[>#] $'
  errors: ['^no: ']
  show: print all
  rise: {say: rise, ask: 'second password: $'}
  pages: {seen: '-- more --$', say: ' '}
  questions: [{seen: '\\? \\[y/n\\] $', say: y}]
  open: conf
  hold: done
  save: write
  leave: leave""",
)


@pytest.mark.deep
def test_pages_questions_and_a_second_password(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    program, saved, typed = tmp_path / "device.py", tmp_path / "saved", tmp_path / "typed"
    text = TEXT.replace("export on", "export off")
    saved.write_text(text)
    program.write_text(ASKING % {"file": str(saved), "typed": str(typed)})
    folder, out = tmp_path / "w", tmp_path / "corrections"
    (folder / "dialects").mkdir(parents=True)
    assert "rise:" in TERN
    (folder / "dialects" / "tern.yaml").write_text(TERN)
    write_text(
        folder / "policy.yaml",
        "policy: one\ncollectors: {a: {address: 127.0.0.1}}\n"
        "rules: [{rule: r, require: {export: on, collectors: {includes: [a]}}}]\n",
    )
    with running_sshd(tmp_path / "device", shell=f"{sys.executable} -u {program}") as device:
        way = f"via: ssh, {device.way}, patience: 5, second-password: TIDE"
        fleet = f"fleet: one\ndevices:\n  - {{{DEVICE}, platform: tern, reach: {{{way}}}}}\n"
        write_text(folder / "fleet.yaml", fleet)
        monkeypatch.setenv("TIDE", "tide-and-money")
        call("gather", "-w", folder, "--learn-keys")
        said = call("gather", "-w", folder, code=1).stdout
        assert "the second password was refused" in " ".join(said.split())
        monkeypatch.setenv("TIDE", "tide-and-time")
        call("gather", "-w", folder)
        assert (folder / "configs" / "orrin-gw9.conf").read_text() == text
        call("correct", "-w", folder, "-o", out, code=None)
        call("deliver", "-w", folder, out)
        assert saved.read_text() == TEXT and typed.read_text().count("write\n") == 1
        record = call("deliver", "-w", folder, "--record", "--format", "json").stdout
        assert "rise" in typed.read_text() and "tide-and-time" not in record + said
        # A device that does not ask is told no password: it would take it for a command.
        program.write_text(
            program.read_text().replace('elif word == "rise":', 'elif word == "rose":')
        )
        typed.write_text("")
        said = call("gather", "-w", folder, code=1).stdout
        assert "no: what is that" in said and "tide" not in typed.read_text()
        (folder / "fleet.yaml").write_text(fleet.replace(", second-password: TIDE", ""))
        said = call("gather", "-w", folder, code=1).stdout
        assert "the fleet names none (second-password)" in " ".join(said.split())


@pytest.mark.deep
def test_programs_before_and_after_a_change_can_say_no(tmp_path: Path) -> None:
    folder, out, told = tmp_path / "w", tmp_path / "corrections", tmp_path / "told"
    write_fleet(folder, 1, only="holmsay-gw2", patience=3, trial=2)
    program = tmp_path / "ticket"
    program.write_text(
        f"#!/bin/sh\ncat >> {told}\necho >> {told}\necho the window is shut >&2\nexit $2\n"
    )
    program.chmod(0o755)
    fleet = (folder / "fleet.yaml").read_text()
    words = ("deliver", "-w", folder, out, "--no-ask", "--no-last-look")
    with standins(folder):
        call("gather", "-w", folder)
        call("correct", "-w", folder, "-o", out, code=None)
        before = (folder / "configs" / "holmsay-gw2.conf").read_text()

        def hooked(codes: str) -> list[dict[str, Any]]:
            one, other = (f"['{program}', '{{device}}', '{code}']" for code in codes)
            (folder / "fleet.yaml").write_text(
                fleet.replace("via: ssh,", f"via: ssh, before: {one}, after: {other},")
            )
            told.write_text("")
            code = 0 if codes == "00" else 1
            done = " ".join(call(*words, code=code).stdout.split())
            assert not code or "the window is shut" in done
            return [json.loads(line) for line in told.read_text().splitlines()]

        (first,) = hooked("30")
        assert states(folder) == {"holmsay-gw2": "not begun"}
        assert (first["step"], first["device"], first["platform"]) == (
            "before",
            "holmsay-gw2",
            "quern",
        )
        assert first["change"] == (out / "holmsay-gw2" / "change.txt").read_text()
        assert [one["step"] for one in hooked("04")] == ["before", "after"]
        assert states(folder) == {"holmsay-gw2": "as before"}
        call("gather", "-w", folder)
        assert (folder / "configs" / "holmsay-gw2.conf").read_text() == before
        assert [one["step"] for one in hooked("00")] == ["before", "after"]
        assert states(folder) == {"holmsay-gw2": "delivered"}
