"""What comes out: for machines as documented, for people on a terminal, and files as a whole or not
at all.
"""

from __future__ import annotations

import json
import os
import pty
import re
import select
import shutil
import signal
import subprocess
import sys
from pathlib import Path
from typing import Any

import pytest
from conftest import TODAY, Run
from msgspec.structs import replace

from ivrel.core import InputError, Unreadable, correct, read_policy
from ivrel.core.delivery.corrections import CorrectionSet
from ivrel.core.fleet import Device
from ivrel.core.vocabulary.wording import counted
from ivrel.demo.displays import write_displays
from ivrel.output.machine.sheet import change_sheet
from ivrel.output.machine.sheet_html import change_sheet_html
from ivrel.output.terminal import draw
from ivrel.output.terminal.audit import runs
from ivrel.output.views.corrections import CorrectionsView
from ivrel.output.views.sheet import SheetSections, SheetView
from ivrel.sources.dialects import Dialects
from ivrel.sources.files import claim_folder, read_bytes, read_text, write_text

DOCS = Path(__file__).parent.parent / "docs"
PROGRAM = str(Path(sys.executable).parent / "ivrel")
# By the row of docs/formats.md and which of its objects a call gives.
CALLS = {
    ("audit", 0): ["audit"],
    ("read", 0): ["read", "tarsk-fw2"],
    ("read", 1): ["read", "tarsk-*"],
    ("explain", 0): ["explain", "tarsk-fw2", "level"],
    ("correct", 0): ["correct", "mv-petrel-gw1", "--waves"],
    ("correct --prove", 0): ["correct", "mv-petrel-gw1", "--prove"],
    ("policy --compare", 0): ["policy", "tarsk-*", "--compare"],
    ("fleet", 0): ["fleet"],
    ("policy", 0): ["policy"],
    ("policy", 1): ["policy", "tarsk-fw2"],
    ("heard", 0): ["heard"],
    ("messages", 0): ["messages"],
    ("trace", 0): ["trace", "--last"],
    ("dialect list", 0): ["dialect", "list"],
    ("dialect show", 0): ["dialect", "show", "hollin"],
    ("dialect try", 0): ["dialect", "try", "skarn"],
}
# What is there only at times.
AT_TIMES = {"text", "default", "not_understood", "may_bear_on", "problem"}
AT_TIMES |= {"collector", "lines", "instead", "waiver", "waves", "device", "why"}
AT_TIMES |= {"takes_back", "taken_back_in"}  # of texts with negations
AT_TIMES |= {"via", "address", "port", "through"}  # of fleets that say how devices are reached


def keys(value: Any) -> set[str]:
    if isinstance(value, dict):
        return set(value) | {k for inner in value.values() for k in keys(inner)}
    return {k for inner in value for k in keys(inner)} if isinstance(value, list) else set()


@pytest.mark.parametrize(("name", "which"), CALLS)
def test_json_has_the_documented_keys(
    ivrel: Run, example: Path, tmp_path: Path, name: str, which: int
) -> None:
    words = list(CALLS[name, which])
    if name == "dialect try":
        words.append(str(example / "configs" / "tarsk-fw2.conf"))
    if name == "correct --prove":
        (tmp_path / "change.txt").write_text("forget journal.rule.6\n")
        words.append(str(tmp_path / "change.txt"))
    if name == "policy --compare":
        words.append(str(example / "proposed.yaml"))
    if name in ("heard", "messages", "trace"):
        record = b'{"received":"2026-11-23T10:00:00Z","sender":"%s","text":"<9>%s"}\n'
        said = (b"192.0.2.250", b"hello"), (b"192.0.2.34", b"Nov 03 10:00:00 tarsk-fw2 su: x")
        lines = (record % one for one in said)
        (tmp_path / "log").write_bytes(b"".join(lines))
        words.append(str(tmp_path / "log"))
    if name == "heard":
        example = shutil.copytree(example, tmp_path / "w")
        write_displays(example)
    done = ivrel(*words, "-w", example, "--format", "json")
    found = json.loads(done.stdout)
    row = next(
        line
        for line in (DOCS / "formats.md").read_text().splitlines()
        if line.startswith(f"| `{name}`")
    )
    told = re.split(r"; of (?:one device|several devices) ", row)[which]
    documented = set(re.findall(r'"([a-z_]+)"', told)) - AT_TIMES
    assert documented and documented <= keys(found), documented - keys(found)
    assert next(iter(found)) in told


def test_corrections_on_disk_are_those_on_the_terminal(
    ivrel: Run, example: Path, tmp_path: Path
) -> None:
    done = ivrel(
        "correct", "-w", example, "kelby-*", "-o", tmp_path / "out", "--format", "json", code=0
    )
    assert (tmp_path / "out" / "corrections.json").read_text() == done.stdout
    for device in json.loads(done.stdout)["devices"]:
        folder = tmp_path / "out" / device["device"]
        assert folder.exists() == bool(device["changes"])
        if not device["changes"]:
            continue
        assert (folder / "change.txt").read_text() == device["change"]
        assert (folder / "backout.txt").read_text() == device["backout"]
        sheet = (tmp_path / "out" / "change-sheet.md").read_text()
        assert all(change["line"].replace("|", "\\|") in sheet for change in device["changes"])
    left = sorted(p.name for p in (tmp_path / "out").iterdir() if p.is_file())
    assert left == ["change-sheet.html", "change-sheet.md", "corrections.json", "fingerprint"]


def on_terminal(words: list[str], env: dict[str, str]) -> str:
    """What a program writes to a terminal of 100 columns."""
    master, slave = pty.openpty()
    child = subprocess.Popen(
        words, stdout=slave, stderr=slave, env={**os.environ, "TERM": "xterm", **env}
    )
    os.close(slave)
    out = b""
    while select.select([master], [], [], 20)[0]:
        try:
            part = os.read(master, 65536)
        except OSError:
            break
        if not part:
            break
        out += part
    child.wait(timeout=20)
    os.close(master)
    return out.decode()


def test_colour_only_on_a_terminal_that_wants_it(example: Path) -> None:
    words = [PROGRAM, "audit", "-w", str(example), "tarsk-*"]
    plain = subprocess.run(
        words, capture_output=True, text=True, env={**os.environ, "COLUMNS": "100"}
    ).stdout
    colourful = on_terminal(words, {"COLUMNS": "100"})
    assert "\x1b[1;31mbreaks" in colourful and "\x1b" not in plain
    sober = on_terminal(words, {"COLUMNS": "100", "NO_COLOR": "1"})
    # Weight and slant may stay; colours may not.
    assert not re.search(r"\x1b\[(\d+;)*3[0-7]m", sober)
    bare = re.sub(r"\x1b\[[0-9;]*m", "", sober).replace("\r", "")
    assert [line.rstrip() for line in bare.splitlines()] == plain.splitlines()


def test_a_text_of_brackets_is_no_markup(ivrel: Run, example: Path, tmp_path: Path) -> None:
    config = tmp_path / "odd.conf"
    config.write_text(
        "events\n    export on\n    [bold]send[/bold] \x1b[31m [/] x\n[bold]events[/bold] on\n"
    )
    shown = ivrel("dialect", "try", "quern", config, code=1).stdout
    assert "[/] " not in shown and "[bold]" not in shown and "\x1b" not in shown


@pytest.mark.parametrize(
    ("numbers", "expected"), [([], ""), ([4], "4"), ([4, 5, 6, 9], "4-6, 9"), ([1, 3], "1, 3")]
)
def test_runs_of_lines_are_short(numbers: list[int], expected: str) -> None:
    assert runs(numbers) == expected
    assert (counted(1, "device"), counted(1200, "device"), counted(2, "policy")) == (
        "1 device",
        "1,200 devices",
        "2 policies",
    )


def test_files_are_written_as_a_whole_or_not_at_all(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    target = tmp_path / "a" / "b.txt"
    write_text(target, "old\n")
    mask = os.umask(0)
    os.umask(mask)
    assert target.stat().st_mode & 0o777 == 0o666 & ~mask

    def full(self: Path, other: Path) -> None:
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(Path, "replace", full)
    with pytest.raises(InputError, match="cannot be written: no space left on device"):
        write_text(target, "new\n")
    assert target.read_text() == "old\n" and [p.name for p in target.parent.iterdir()] == ["b.txt"]
    with pytest.raises(InputError, match="cannot be written: "):
        write_text(target / "c", "x")
    with pytest.raises(InputError, match="already holds something; give --replace"):
        claim_folder(target.parent, False)
    with pytest.raises(InputError, match="is no folder"):
        claim_folder(target, True)


def test_what_cannot_be_read_says_why(tmp_path: Path) -> None:
    (tmp_path / "latin").write_bytes("grüße".encode("latin-1"))
    (tmp_path / "bom").write_bytes(b"\xef\xbb\xbfevents\n")
    assert read_bytes(tmp_path / "bom", "bom") == b"events\n"
    with pytest.raises(InputError, match="latin: not UTF-8 at byte 2"):
        read_text(tmp_path / "latin", "latin")
    with pytest.raises(Unreadable, match="gone: no such file or directory"):
        read_bytes(tmp_path / "gone", "gone")
    with (tmp_path / "huge").open("wb") as file:
        file.truncate(300 * 1024 * 1024)
    with pytest.raises(Unreadable, match="huge: larger than 64 MiB"):
        read_bytes(tmp_path / "huge", "huge")


def test_steps_that_shared_chains_made_idle_are_pruned() -> None:
    # Two sinks that one feed serves: what is mended for the first is mended for the second as well.
    text = (
        '<osier><sinks><sink id="a" inet="198.51.100.21"/><sink id="b" inet="198.51.100.22"/></sinks><feeds>'
        '<feed id="f1"><take category="system" least="alert"/><give sink="a"/><give sink="b"/></feed>'
        '<feed id="f2"><take category="system" least="debug"/><give sink="b"/></feed></feeds></osier>'
    )
    policy = read_policy(
        "policy: p\ncollectors:\n  a: {address: 198.51.100.21}\n  b: {address: 198.51.100.22}\n"
        "rules:\n  - {rule: r, require: {collectors: [a, b], level: {from: warning, to: notice}}}\n",
        "policy.yaml",
    )
    done = correct(
        Device("x", "firewall", "s", "osier"),
        Dialects()["osier"],
        text.encode(),
        policy,
        TODAY,
        "x.xml",
    )
    assert done.proved and not done.remains, (done.change, done.proof)
    assert {c.settings for c in done.changes} == {("level",)}
    lines = [f"{c.inside}: {c.line}" for c in done.changes]
    assert len(lines) == len(set(lines)) and sum("take system" in line for line in lines) <= 2


def test_a_device_that_cannot_be_read_is_in_every_format(
    ivrel: Run, example: Path, tmp_path: Path
) -> None:
    folder = tmp_path / "w"
    shutil.copytree(example, folder)
    (folder / "configs" / "brannay-fw1.conf").unlink()
    why = "no configuration; expected configs/brannay-fw1.conf"
    assert (
        f"## brannay-fw1\n\nfirewall at brannay, skarn\n\nNot readable: {why}"
        in ivrel("audit", "-w", folder, "brannay-fw1", "--format", "md", code=1).stdout
    )
    told = json.loads(
        ivrel("audit", "-w", folder, "brannay-fw1", "--format", "sarif", code=1).stdout
    )["runs"][0]
    assert told["results"] and all(why in r["message"]["text"] for r in told["results"])
    assert why in ivrel("audit", "-w", folder, "brannay-fw1", code=1).stdout


def test_the_policy_of_one_device_names_the_rule_of_each_setting(ivrel: Run, example: Path) -> None:
    lines = ivrel("policy", "brannay-fw1", "-w", example, code=0).stdout.splitlines()
    told = {line.split()[0]: line for line in lines[3:] if line and not line.startswith("next")}
    rules = (example / "policy.yaml").read_text().splitlines()
    for setting, line in told.items():
        place = int(line.rsplit(":", 1)[1])
        assert rules[place - 1].split(":")[0].strip() == setting, line
    assert "firewalls speak as local6" in told["facility"] and len(told) == 6


def test_what_is_not_proved_is_told_in_red_and_in_words(capsys: pytest.CaptureFixture[str]) -> None:
    policy = read_policy("policy: p\ncollectors: {a: {address: 198.51.100.21}}\nrules: [{rule: r, require: {collectors: [a]}}]\n", "p.yaml")  # fmt: skip
    dialect = Dialects()["quern"]
    device = Device("x1", "router", "near", "quern", (), "192.0.2.9")
    done = correct(device, dialect, b"events\n    export on\n", policy, TODAY, "x")
    assert done.proved
    for failing in done.proof:
        broken = replace(
            done,
            proof=tuple(replace(p, holds=p is not failing, why="so it is") for p in done.proof),
        )
        view = CorrectionsView(result=CorrectionSet(fleet="f", corrections=(broken,), unread=()))
        draw(view, 120)
        told = capsys.readouterr().out
        assert (
            f"{failing.name} does not hold: " in told
            and "so it is" in told
            and "proved on 0 of 1 device" in told
        )
        sections = SheetSections()
        sections.take(broken)
        sheet = SheetView("f", ("p", "p.yaml"), TODAY, sections)
        text = "\n".join(change_sheet(sheet))
        assert "**Not proved.** It must not be sent as it is:" in text
        assert f"- {failing.name}: so it is" in text and "1 of 1 changes are not proved" in text
        page = "".join(change_sheet_html(sheet))
        assert f'<p class="bad">{failing.name}: so it is</p>' in page and "not proved: must" in page


@pytest.mark.skipif(not Path("/proc/self/syscall").exists(), reason="no /proc/PID/syscall here")
def test_an_interrupted_run_ends_with_130(example: Path) -> None:
    call = [PROGRAM, "audit", "-w", str(example), "tarsk-fw2", "--text", "-"]
    pipe = subprocess.PIPE
    # A shell that starts tests in the background lets them ignore the signal, and so their
    # children.
    signal.signal(signal.SIGINT, signal.default_int_handler)
    process = subprocess.Popen(call, stdin=pipe, stdout=pipe, stderr=pipe, text=True)
    waiting = Path(f"/proc/{process.pid}/syscall")
    while not waiting.read_text().startswith(
        ("0 0x0 ", "63 0x0 ")
    ):  # read(2) from standard input: it is under way
        assert process.poll() is None
    process.send_signal(signal.SIGINT)
    assert process.stdout and process.stderr
    assert (process.wait(30), process.stdout.read(), process.stderr.read()) == (130, "", "")
