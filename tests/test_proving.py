"""Changes that somebody wrote, or edited: judged on the configurations of today."""

from __future__ import annotations

import json
import shutil
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from conftest import TODAY, Run
from msgspec import Struct

import ivrel as library
from ivrel import Workspace
from ivrel.output.views.proofs import ProofsView

ON = ("--today", TODAY.isoformat())


class Edit(Struct, frozen=True):
    """A correction edited by hand, and what is to be said of it: its state, the properties that
    fail (all of them, if it fails), and what else is told.
    """

    device: str
    change: Callable[[str], str]
    state: str
    fails: str = ""
    file: str = "change.txt"
    told: str = ""


def without(number: int) -> Callable[[str], str]:
    return lambda text: "".join(
        line for n, line in enumerate(text.splitlines(keepends=True), 1) if n != number
    )


def plus(more: str) -> Callable[[str], str]:
    return lambda text: text + more


def swapped(text: str) -> str:
    first, second, *rest = text.splitlines(keepends=True)
    return "".join((second, first, *rest))


EDITS = {
    "a line left out": Edit("tarsk-fw2", without(2), "fails", "complete settled minimal"),
    "the other line left out": Edit("tarsk-fw2", without(1), "fails", "complete settled minimal"),
    "lines swapped that may be": Edit("tarsk-fw2", swapped, "holds"),
    "a comment": Edit("tarsk-sw1", plus("    # as agreed\n"), "holds"),
    "nothing": Edit("tarsk-sw1", str, "holds"),
    "a foreign line": Edit(
        "holmsay-gw2",
        lambda t: f"vault key-of-the-house\n{t}",
        "fails",
        "minimal narrow reversible",
        told="line 1",
    ),
    "an interface": Edit(
        "holmsay-gw2",
        plus("link loop1\n    inet 192.0.2.99/32\n"),
        "fails",
        "minimal narrow reversible",
    ),
    "another value": Edit(
        "tarsk-fw2", lambda t: t.replace("critical", "error"), "fails", "complete settled minimal"
    ),
    "a line that does nothing": Edit(
        "tarsk-sw1", plus("    queue 500\n"), "fails", "minimal reversible", told="'queue 500'"
    ),
    "a right collector struck": Edit(
        "tarsk-sw1",
        plus("    strike send 198.51.100.21\n"),
        "fails",
        "complete settled minimal reversible",
    ),
    "silent in between": Edit(
        "orrin-sw1",
        lambda t: "events\n    export off\n    export on\n" + t.partition("\n")[2],
        "fails",
        "minimal never-silent",
        told="'export off'",
    ),
    "switched off": Edit(
        "tarsk-sw1",
        plus("    export off\n"),
        "fails",
        "complete no-worse settled minimal never-silent reversible",
    ),
    "an empty file": Edit("tarsk-sw1", lambda _: "\n", "refused", told="empty"),
    "what is not there taken away": Edit(
        "tarsk-sw1",
        plus("    strike send 203.0.113.99\n"),
        "refused",
        told="no 'send 203.0.113.99'",
    ),
    "a document cut short": Edit("brannay-gw3", lambda t: t[:200], "refused"),
    "a context that is not there": Edit(
        "mv-gannet-lx1", lambda t: t.replace("-*.err", "-*.warn"), "refused"
    ),
    "a hunk with a line less": Edit("mv-gannet-lx1", without(5), "refused"),
    "a back-out that does nothing": Edit(
        "tarsk-fw2", lambda _: "", "fails", "reversible", "backout.txt", "was not there before"
    ),
    "a back-out with a foreign line": Edit(
        "tarsk-fw2", plus("vault.key = key-of-the-house\n"), "fails", "reversible", "backout.txt"
    ),
    "a back-out of half": Edit("tarsk-fw2", without(1), "fails", "reversible", "backout.txt"),
    "a back-out that cannot be": Edit(
        "tarsk-sw1",
        lambda _: "events\n    strike send 203.0.113.99\n",
        "fails",
        "reversible",
        "backout.txt",
    ),
}


@pytest.fixture(scope="session")
def written(example: Path, tmp_path_factory: pytest.TempPathFactory, ivrel: Run) -> Path:
    """The corrections of the example, as they were written."""
    folder = tmp_path_factory.mktemp("written") / "corrections"
    ivrel("correct", "-w", example, *ON, "-o", folder)
    return folder


@pytest.fixture(scope="session")
def network(example: Path) -> Workspace:
    """The example, opened as a program opens it."""
    return library.open(example, today=TODAY)


def proofs(ivrel: Run, example: Path, folder: Path, *words: str) -> dict[str, dict[str, Any]]:
    done = ivrel("correct", "-w", example, *ON, "--prove", folder, "--format", "json", *words)
    told = json.loads(done.stdout)
    assert done.returncode == (
        0
        if not told["not_readable"]
        and all(d["state"] in ("holds", "done") for d in told["devices"])
        else 1
    )
    return {d["device"]: d for d in told["devices"]} | {
        d["device"]: {"state": "not readable", **d} for d in told["not_readable"]
    }


def test_corrections_hold_as_they_were_written(written: Path, example: Path, ivrel: Run) -> None:
    found = proofs(ivrel, example, written)
    assert len(found) == sum(p.is_dir() for p in written.iterdir()) > 30
    assert {d["state"] for d in found.values()} == {"holds"}
    assert not any(d["stale"] or d["edited"] for d in found.values())


@pytest.mark.parametrize("name", EDITS)
def test_an_edited_correction_is_judged_right(
    name: str, written: Path, example: Path, network: Workspace, tmp_path: Path, ivrel: Run
) -> None:
    edit = EDITS[name]
    shutil.copytree(written / edit.device, tmp_path / edit.device)
    shutil.copy(written / "corrections.json", tmp_path)
    path = tmp_path / edit.device / edit.file
    before = path.read_text()
    path.write_text(edit.change(before))
    if name == "nothing":
        found = proofs(ivrel, example, tmp_path)[edit.device]
    else:  # what the command calls
        view = ProofsView(fleet="f", folder="", judged=network.prove(tmp_path).judged)
        (found,) = view.machine()["devices"]
    assert found["state"] == edit.state, found
    assert found["edited"] == (name != "nothing")
    failing = {p["property"].replace(" ", "-") for p in found["proof"] if not p["holds"]}
    assert failing == set(edit.fails.split()), found["proof"]
    shown = json.dumps(found)
    assert edit.told in shown and "key-of-the-house" not in shown


def test_what_was_made_for_another_device_or_text_is_told(
    written: Path, example: Path, tmp_path: Path, ivrel: Run
) -> None:
    today, folder = tmp_path / "today", tmp_path / "corrections"
    shutil.copytree(example, today)
    shutil.copytree(written, folder)
    # One device was changed elsewhere, one has its correction already, one is gone.
    for device, more in (("tarsk-sw1", "link port9\n"), ("tarsk-gw1", "events\n    export off\n")):
        path = today / "configs" / f"{device}.conf"
        path.write_text(path.read_text() + more)
    config = today / "configs" / "tarsk-fw2.conf"
    applied = ivrel("dialect", "apply", "skarn", config, folder / "tarsk-fw2" / "change.txt").stdout
    config.write_text(applied)
    (folder / "orrin-sw1").rename(folder / "orrin-sw77")
    # And two changes were mixed up, of one platform and of two.
    shutil.copy(written / "tarsk-fw2" / "change.txt", folder / "brannay-fw1" / "change.txt")
    shutil.copy(written / "tarsk-fw2" / "change.txt", folder / "kelby-sw1" / "change.txt")
    found = proofs(ivrel, today, folder)
    # Another link changes nothing of what it says of export.
    assert (found["tarsk-sw1"]["state"], found["tarsk-sw1"]["stale"]) == ("holds", False)
    assert (found["tarsk-gw1"]["state"], found["tarsk-gw1"]["stale"]) == ("fails", True)
    assert (found["tarsk-fw2"]["state"], found["tarsk-fw2"]["stale"]) == ("done", True)
    assert found["orrin-sw77"]["problem"] == "no device of the fleet is called so"
    assert found["brannay-fw1"]["state"] == found["kelby-sw1"]["state"] == "fails"
    assert found["kelby-sw1"]["foreign"] == [1, 2]
    chosen = proofs(ivrel, today, folder, "--kind", "switch", "--site", "tarsk")
    assert {n for n in chosen if n.startswith("tarsk")} == {
        "tarsk-sw1",
        "tarsk-sw2",
        "tarsk-sw3",
    } & set(found)
    table = ivrel("correct", "-w", today, *ON, "--prove", folder, code=1).stdout.splitlines()
    states = [line.split()[3] for line in table[1:] if line[:1].strip() and "  " in line][:34]
    assert states.index("holds") > states.index("fails")


def test_a_change_typed_by_hand_is_proved(example: Path, tmp_path: Path, ivrel: Run) -> None:
    typed = tmp_path / "change.txt"
    typed.write_text("events\n    export on\n")
    said = ivrel("correct", "-w", example, *ON, "--prove", typed, "holmsay-gw2", code=0).stdout
    assert "holmsay-gw2  quern" in said and "every property holds" in said
    part = ivrel("correct", "-w", example, *ON, "--prove", typed, "tarsk-gw1", code=1).stdout
    assert "next  ivrel correct" in part
    typed.write_bytes(b"events\n    \xff\n")
    (tmp_path / "one" / "holmsay-gw2").mkdir(parents=True)
    (tmp_path / "one" / "holmsay-gw2" / "change.txt").write_text("events\n    export on\n")
    for words, told in (
        ((typed, "holmsay-gw2"), "not UTF-8 at byte 11"),
        ((typed,), "devices are chosen; expected one"),
        ((tmp_path / "gone", "holmsay-gw2"), "no such folder"),
        ((example / "configs",), "expected DEVICE/change.txt"),
        ((tmp_path / "one", "tarsk-gw1"), "holds no change of the devices that are chosen"),
    ):
        assert told in ivrel("correct", "-w", example, "--prove", *words, code=2).stderr
    (tmp_path / "tarsk-gw1").mkdir()
    (tmp_path / "tarsk-gw1" / "change.txt").write_text("events\n")
    (tmp_path / "corrections.json").write_text("[]")
    told = ivrel("correct", "-w", example, "--prove", tmp_path, code=2).stderr
    assert "corrections.json: not what `ivrel correct -o` writes" in told
