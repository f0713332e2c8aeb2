"""How well a dialect knows a fleet: what it does not know is told, grouped, and nothing else."""

from __future__ import annotations

import json
import shutil
from pathlib import Path

import pytest
from conftest import Run

QUERN = Path(__file__).parent.parent / "src/ivrel/platforms/quern.yaml"


@pytest.fixture
def lesser(example: Path, tmp_path: Path) -> Path:
    """The example, with a dialect of its own for routers that knows less than the one that ships."""
    folder = tmp_path / "w"
    shutil.copytree(example, folder)
    text = QUERN.read_text().replace("dialect: quern", "dialect: lesser")
    text = text[: text.index("\nexamples:")]
    for gone in (
        '  - {in: events, says: "facility {facility}"}\n',
        "year}",
        "informational: informational, ",
    ):
        assert gone in text
    text = text.replace('  - {in: events, says: "facility {facility}"}\n', "")
    text = text.replace("informational: informational, ", "informational: chatty, ")
    (folder / "dialects").mkdir()
    (folder / "dialects" / "lesser.yaml").write_text(text)
    fleet = (folder / "fleet.yaml").read_text()
    (folder / "fleet.yaml").write_text(fleet.replace("platform: quern", "platform: lesser"))
    return folder


def test_what_a_dialect_lacks_is_told(ivrel: Run, lesser: Path) -> None:
    found = json.loads(
        ivrel("dialect", "cover", "lesser", "-w", lesser, "--format", "json", code=1).stdout
    )
    whole = json.loads(
        ivrel(
            "dialect",
            "cover",
            "quern",
            *sorted(
                str(p)
                for p in (lesser / "configs").iterdir()
                if p.stem in {Path(t["name"]).stem for t in found["texts"]}
            ),
            "--format",
            "json",
            code=0,
        ).stdout
    )
    assert not whole["kinds"] and not whole["lacking"] and whole["not_understood"] == 0
    assert found["understood"] + found["not_understood"] == whole["understood"]
    assert sum(kind["number"] for kind in found["kinds"]) == found["not_understood"]
    # Statements that differ in their values only are of one kind, with one line each.
    kinds = {kind["says"]: kind for kind in found["kinds"]}
    facility = next(kind for says, kind in kinds.items() if says.startswith("facility "))
    assert "facility" in facility["bears_on"] and facility["texts"] == facility["number"] > 5
    line = (lesser / facility["file"]).read_text().splitlines()[facility["line"] - 1]
    assert line.strip() == facility["text"]
    # A word that the spelling lacks is told with its slot; the statement is not understood for it.
    lacking = {(one["slot"], one["word"]) for one in found["lacking"]}
    assert lacking and {word for _, word in lacking} == {"informational"}
    assert {slot for slot, _ in lacking} <= {
        "destination.level",
        "memory.level",
        "file.level",
        "console",
        "sessions",
        "level",
    }
    table = ivrel("dialect", "cover", "lesser", "-w", lesser, code=1).stdout
    assert "words that the spelling lacks" in table
    assert f"next ivrel dialect try -w {lesser} lesser {lesser}/configs/" in " ".join(table.split())


def test_what_is_no_text_of_the_platform_holds_up_no_other(
    ivrel: Run, example: Path, tmp_path: Path
) -> None:
    (tmp_path / "letter").write_text("Dear all,\nthe ferry sails at noon.\n")
    (tmp_path / "bytes").write_bytes(bytes(range(256)))
    files = [
        example / "configs" / "holmsay-gw1.conf",
        tmp_path / "letter",
        tmp_path / "bytes",
        tmp_path / "gone",
    ]
    done = ivrel("dialect", "cover", "quern", *files, "--format", "json", code=1)
    found = json.loads(done.stdout)
    assert [one["file"] for one in found["not_readable"]] == [str(f) for f in files[1:]]
    assert len(found["texts"]) == 1 and found["not_understood"] == 0
    ivrel("dialect", "cover", "quern", tmp_path / "letter", code=2)
    for words, said in (
        (["gnome"], "'gnome' is not known"),
        (["marl", "-w", tmp_path], "no fleet.yaml"),
    ):
        assert said in ivrel("dialect", "cover", *words, code=2).stderr


def test_no_secret_is_told(ivrel: Run, example: Path, tmp_path: Path) -> None:
    text = (example / "configs" / "holmsay-gw1.conf").read_text()
    text = text.replace("events\n", "events\n    sealed secret 7f3a9c\n", 1)
    (tmp_path / "x").write_text(text)
    for words in ((), ("--format", "json"), ("--all",)):
        done = ivrel("dialect", "cover", "quern", tmp_path / "x", *words, code=1)
        assert "7f3a9c" not in done.stdout and "sealed" not in done.stdout
        assert "secret 7" not in done.stdout and str(tmp_path / "x") in done.stdout
