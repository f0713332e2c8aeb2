"""What is said in a session: its prompt, its pages, what stands in between; and what is learned."""

from __future__ import annotations

import contextlib
import os
import pty
import re
import subprocess
import sys
import time
from pathlib import Path
from random import Random

import pytest
import yaml
from fleets import PROGRAM, call, shown, standins, states, write_fleet
from sshd import SSHD, running_sshd
from test_never import PLOVER, SHELL, TEXT
from test_reach import ASKING
from test_real_devices import STRICT, workspace

from ivrel.core.authoring.dialogs import Turn, proposed
from ivrel.core.authoring.steering import steering_values
from ivrel.core.delivery.printed import Prompt, doubts_of
from ivrel.core.dialects.session import Session
from ivrel.core.reading.records import read_records
from ivrel.core.text.text import Text
from ivrel.sources.dialects import Dialects
from ivrel.standin.running import asked
from ivrel.standin.terminal import Editor

HAS_SSHD = pytest.mark.skipif(not SSHD and not STRICT, reason="needs sshd")
TALKING = {"holmsay-gw2": "quern", "tarsk-fw2": "skarn", "brannay-fw2": "hollin", "mv-gannet-fw1": "osier", "tarsk-sw2": "marl"}  # fmt: skip
SAID: dict[str, list[str]] = {
    "quern": ["pages off", "print all", "nonsense", "go ashore"],
    "skarn": ["list", "nonsense", "close"],
    "hollin": ["hand me the chisel", "*", "tell everything", "nonsense", "farewell"],
    "osier": ["tree", " ", "nonsense", "harden", "y", "out"],
    "marl": ["dump", "nonsense", "bye"],
}


@pytest.mark.deep
def test_a_session_is_learned_from_a_dialog_with_each_platform(tmp_path: Path) -> None:
    folder, texts = tmp_path / "w", {}
    write_fleet(folder, 5, only=" ".join(TALKING), patience=5)
    (folder / "dialects").mkdir()
    with standins(folder):
        fleet = (folder / "fleet.yaml").read_text()
        for device, name in TALKING.items():
            words = [PROGRAM, "dialect", "session", device, "-w", str(folder)]
            typed = "\n".join(["", "", *SAID[name], ""])
            done = subprocess.run(words, input=typed, capture_output=True, text=True, check=True)
            # Neither what is hidden nor what may be a configuration is shown.
            second = (folder / ".ivrel/standin/second-password").read_text().strip()
            assert second not in done.stdout and not re.search(r"\b[0-9a-f]{24}\b", done.stdout)
            found = done.stdout.partition("\nsession:")[2].partition("\nnext")[0]
            session = yaml.safe_load(f"session:{found}")["session"]
            own = Dialects(folder)[name].session
            assert isinstance(own, Session)
            assert session["show"] == own.show and session["leave"] == own.leave
            assert session.get("start", []) == list(own.start)
            texts[device] = found
            # A dialect of one's own that has nothing else says as much of a device.
            source = Path("src/ivrel/platforms") / f"{name}.yaml"
            old = re.search(r"(?ms)^session:.*?(?=^\w)", source.read_text())
            assert old is not None
            mine = source.read_text().replace(old[0], f"session:{found}\n")
            mine = mine.replace(f"dialect: {name}", f"dialect: my-{name}", 1)
            (folder / "dialects" / f"my-{name}.yaml").write_text(mine)
            fleet = fleet.replace(f"platform: {name},", f"platform: my-{name},")
        before = {device: shown(folder, device) for device in TALKING}
        (folder / "fleet.yaml").write_text(fleet.replace("[hollin]", "[my-hollin]").replace("platform: hollin}", "platform: my-hollin}"))  # fmt: skip
        assert "not gathered" not in call("gather", "-w", folder).stdout
        for device in TALKING:
            assert (folder / "configs" / f"{device}.conf").read_bytes() == before[device]


@pytest.mark.deep
@HAS_SSHD
def test_a_session_is_learned_from_a_device_behind_a_real_terminal(tmp_path: Path) -> None:
    program, saved, typed = tmp_path / "device.py", tmp_path / "saved", tmp_path / "typed"
    saved.write_text(TEXT + "# one\n# two\n")
    program.write_text(ASKING % {"file": str(saved), "typed": str(typed)})
    with running_sshd(tmp_path / "ssh", shell=f"{sys.executable} -u {program}") as sshd:
        user, port, key = (re.search(rf"{name}: '?([^,']+)", sshd.way)[1] for name in ("user", "port", "key"))  # type: ignore[index]  # fmt: skip
        words = ["dialect", "session", "127.0.0.1", "--port", port, "--user", user, "--key", key]
        lines = ["", "", "what", "print all", " ", "rise", "*", "write", "y", "leave"]
        words += [word for line in lines for word in ("--type", line)]
        assert "its host key is not recorded; '--learn-key'" in call(*words, "-w", tmp_path, code=2).stderr  # fmt: skip
        done = subprocess.run(
            [PROGRAM, *words, "-w", tmp_path, "--learn-key", "--second-password", "TIDE"],
            capture_output=True, text=True, check=False, env={"TIDE": "tide-and-time"},
        )  # fmt: skip
        assert done.returncode == 0 and "tide-and-time" not in done.stdout, done
        found = yaml.safe_load(done.stdout.partition("\n\n")[2].partition("\nnext")[0])["session"]
    assert {"rise", "pages", "questions", "show", "leave", "errors"} <= found.keys(), done.stdout
    assert found["rise"] == {"say": "rise", "ask": "second password: $"}
    assert found["questions"] == [{"seen": r"overwrite what was saved\? \[y/n\] $", "say": "y"}]
    for prompt in ("pier-ap1> ", "pier-ap1# ", "quay-gw22# "):
        assert re.search(found["prompt"], prompt) and not re.search(
            found["prompt"], "    export on"
        )


def test_a_dialog_that_shows_no_prompt_teaches_nothing() -> None:
    for turns in ([], [Turn("", b"hello ")], [Turn("", b"a> "), Turn("x", b"x\r\nb? ")]):
        assert not proposed(turns).text and proposed(turns).remarks


@pytest.mark.deep
def test_what_is_hard_to_read_is_read_as_it_is_or_not_at_all(tmp_path: Path) -> None:
    folder = tmp_path / "w"
    names = [d.name for d in write_fleet(folder, 5, only=" ".join(TALKING), patience=5)]
    with standins(folder):
        call("gather", "-w", folder)
        right = {name: (folder / "configs" / f"{name}.conf").read_bytes() for name in names}
        assert right == {name: shown(folder, name) for name in names}
        for fault, told in (("drip", ""), ("clock", ""), ("chat", "asked again: line"), ("fold", "")):  # fmt: skip
            for name in names:
                asked(folder, ["fault", name, fault])
                (folder / "configs" / f"{name}.conf").unlink(missing_ok=True)
            said = call("gather", "-w", folder, code=None).stdout
            assert said.count(told) == len(names) if told else "asked again" not in said
            found = {p.stem: p.read_bytes() for p in (folder / "configs").iterdir()}
            if fault != "fold":
                assert found == right, fault
                continue
            # What was folded is not taken, unless it means the same.
            assert {"brannay-fw2", "mv-gannet-fw1"}.isdisjoint(found)
            assert "may be wrapped at 80 columns" in " ".join(said.split())
            dialects = Dialects(folder)
            for name, data in found.items():
                read = (read_records(dialects[TALKING[name]], Text(one)) for one in (data, right[name]))  # fmt: skip
                one, other = ({t: r.rows(t) for t in ("", *r.dialect.keys)} for r in read)
                assert [list(rows) for rows in one.values()] == [list(r) for r in other.values()]


@HAS_SSHD
@pytest.mark.parametrize(
    ("lines", "kept"),
    [
        # The time of printing, at the top, is another each time; a line of the text is not.
        pytest.param('f"12:00:{n:02} printed"', True, marks=pytest.mark.deep),
        pytest.param('"2026-11-30 12:00:00 saved by edda"', True, marks=pytest.mark.deep),
        pytest.param('f"Dec  1 12:00:{n:02} pier link: port up"', False, marks=pytest.mark.deep),
        # A time at the top excuses no message further down.
        ('f"12:00:{n:02} printed\\n" + TOP + f"Dec  1 12:00:{n:02} pier link: port up"', False),
    ],
)
def test_a_message_is_told_from_a_line_of_the_text(tmp_path: Path, lines: str, kept: bool) -> None:
    program = tmp_path / "device.py"
    text = TEXT + "".join(f"# {n}\n" for n in range(9))
    lines = lines.replace("TOP", repr(text[: text.index("# 3")]))
    shell = SHELL.replace("for part in %r:", f"n = globals().get('n', 0) + 1\n        for part in [%r[0].replace('HERE', {lines})]:")  # fmt: skip
    here = f"HERE\n{text}" if "printed" in lines else text.replace("# 3\n", "HERE\n")
    program.write_text(shell % (str(tmp_path / "typed"), [here]))
    (tmp_path / "w" / "dialects").mkdir(parents=True)
    (tmp_path / "w" / "dialects" / "plover.yaml").write_text(PLOVER)
    with running_sshd(tmp_path / "ssh", shell=f"{sys.executable} -u {program}") as sshd:
        folder = workspace(tmp_path / "w", "plover", f"via: ssh, {sshd.way}, patience: 3")
        said = " ".join(call("gather", "-w", folder, code=0 if kept else 1).stdout.split())
        assert ("looks like a log message" in said) == (not kept)
        assert (folder / "configs" / "orrin-gw9.conf").exists() == kept


def test_a_prompt_with_other_numbers_is_the_same_and_another_text_is_none() -> None:
    prompt = Prompt.of("> $", b"[12:04:05] pier-ap1> ", b"[12:04:06] pier-ap1> ")
    assert prompt.is_own and prompt.is_last(b"[23:59:00] pier-ap1> ")
    assert not prompt.is_last(b"[12:04:05] pier-ap1> x") and not prompt.is_last(b"")
    assert prompt.begins(b"[12:04:05] pier-ap1> reload") and not prompt.begins(b"pier-ap1> ")
    assert not Prompt.of("> $", b"a> ", b"b> ").is_own
    quern = Dialects(Path("/nowhere"))["quern"]
    text = b"unit pier-ap1\nevents\n    export on\n"
    assert not doubts_of(quern, text, prompt, "print all")
    (found,) = doubts_of(quern, text + b"print all\n", prompt, "print all")
    assert found.line == 4


def test_a_line_editor_is_obeyed_as_terminals_do() -> None:
    editor = Editor()
    typed = b"eth0\x15reload\nab\x08c d\x17e\x7f\n\n"
    said = list(editor.fed(typed + b"x"))
    assert said == ["reload", "ac ", ""] and list(editor.fed(b"\x03y\r\n")) == ["y"]
    # The line editor of a real terminal does the same.
    pid, terminal = pty.fork()
    if not pid:
        program = "import readline; print('\\n'.join(map(repr, [input() for _ in range(3)])))"
        os.execve(sys.executable, [sys.executable, "-c", program], {"TERM": "dumb"})
    time.sleep(0.5)
    os.write(terminal, typed)
    shown = b""
    with contextlib.suppress(OSError):  # the other end is closed
        while part := os.read(terminal, 4096):
            shown += part
    os.waitpid(pid, 0)
    assert shown.decode().split()[-4:] == ["'reload'", "'ac", "'", "''"], shown


@pytest.mark.parametrize("name", ["quern", "skarn", "hollin", "osier", "marl"])
def test_no_value_becomes_a_second_statement(name: str, monkeypatch: pytest.MonkeyPatch) -> None:
    dialect = Dialects(Path("/nowhere"))[name]
    every = [read_records(dialect, Text(one.text.encode())) for one in dialect.examples]
    assert not [told for records in every for told in steering_values(dialect, records)]
    if name == "quern":  # what holds that off is missed where it is gone
        for module in ("dialects.items", "correcting.changes"):
            monkeypatch.setattr(f"ivrel.core.{module}.steers", lambda text: False)
        told = [told for records in every for told in steering_values(dialect, records)]
        assert any("\\n" in said or "\\r" in said for _, said in told), told


@pytest.mark.deep
def test_what_is_laid_out_anew_is_no_other_configuration(tmp_path: Path) -> None:
    folder, out, dice = tmp_path / "w", tmp_path / "corrections", Random(3)
    names = [d.name for d in write_fleet(folder, 4, only="holmsay-gw2 tarsk-fw2 brannay-fw2 mv-skua-lx1", patience=5, trial=2)]  # fmt: skip
    signs = {"holmsay-gw2": "#", "tarsk-fw2": "!", "brannay-fw2": "#", "mv-skua-lx1": "#"}
    with standins(folder):
        call("gather", "-w", folder)
        for name in names:
            path = next(p for p in (folder / "configs").rglob("*") if p.is_file() and name in str(p))  # fmt: skip
            lines = path.read_text().splitlines(keepends=True)
            # Stamps come anywhere, and single lines of a platform whose lines stand alone move.
            lines[-1] = f"{lines[-1].rstrip()}\n{signs[name]} saved at 12:04\n"
            if name == "tarsk-fw2":
                dice.shuffle(lines)
            path.write_text("".join(lines))
        call("correct", "-w", folder, "-o", out, code=None)
        said = call("gather", "-w", folder, "--all").stdout
        assert said.count("other layout") >= 3 and "kept beside" not in said
        call("deliver", "-w", folder, out, "--no-ask", "--no-last-look")
        assert set(states(folder).values()) == {"delivered"}
