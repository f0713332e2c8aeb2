"""What leaves as text passes one gate: nothing hostile reaches a terminal, a table or a page."""

from __future__ import annotations

import csv
import io
import json
import re
from pathlib import Path

import pytest
from conftest import Run

HOSTILE = "=1+1 \x1b[2J\x07\u202e<script>x</script> <img onerror=x> [a](b) ![c](d) | `e`"
MARKUP = HOSTILE[HOSTILE.index("<") :]  # what a name in the workspace's own files may hold
LINE = f"<134>Nov 30 10:00:00 tarsk-gw1 {HOSTILE[:4]}: {HOSTILE}\n"
STEERING = re.compile("[\x00-\x08\x0b-\x1f\x7f-\x9f\u200e\u200f\u202a-\u202e\u2066-\u2069]")


@pytest.fixture
def folder(example: Path, tmp_path: Path) -> Path:
    """The example with hostile text in its names, its policy, a configuration and messages."""
    (tmp_path / "configs").mkdir()
    text = (example / "configs" / "tarsk-gw1.conf").read_text()
    text = text.replace("events\n", f'events\n    mute 7 "{HOSTILE}"\n', 1)
    (tmp_path / "configs" / "tarsk-gw1.conf").write_text(text)
    (tmp_path / "fleet.yaml").write_text(
        f"fleet: {json.dumps('x ' + MARKUP)}\ndevices:\n"
        "  - {device: tarsk-gw1, kind: router, site: tarsk, platform: quern, identity: 192.0.2.31}\n"
    )
    (tmp_path / "policy.yaml").write_text(
        f"policy: {json.dumps('p ' + MARKUP)}\ncollectors: {{a: {{address: 198.51.100.21}}}}\nrules:\n"
        f"  - rule: {json.dumps('r ' + MARKUP)}\n    require: {{filters: none, console: debug, sessions: debug}}\n"
    )
    (tmp_path / "x.log").write_text(LINE * 3)
    return tmp_path


@pytest.mark.deep
def test_hostile_text_steers_nothing(ivrel: Run, folder: Path) -> None:
    log = folder / "x.log"
    formats: list[str | Path] = ["table", "json", "jsonl", "csv"]
    calls: list[list[str | Path]] = []
    calls += [["audit", "--format", f] for f in [*formats, "md", "sarif", "junit", "openmetrics"]]
    calls += [["messages", log, "--format", f] for f in formats]
    calls += [["messages", log, "--by", "kind", "--format", f] for f in formats]
    calls += [["heard", log, "--format", f] for f in formats]
    calls += [
        ["measure", what, log, "--format", f] for what in ("volume", "losses") for f in formats
    ]
    calls += [["correct", "--format", "json"], ["correct"], ["read", "tarsk-gw1"], ["policy"]]
    calls += [
        ["trace", log, "--line", "1"],
        ["explain", "tarsk-gw1", "filters"],
        ["fleet", "--format", "json"],
    ]
    seen = 0
    calls.append(["correct", "-o", folder / "out"])
    for words in calls:
        out = ivrel(*words, "-w", folder).stdout
        assert not STEERING.search(out), words
        seen += len(out)
        if words[-1] == "csv":
            cells = [cell for row in csv.reader(io.StringIO(out)) for cell in row]
            assert not [c for c in cells if c.startswith(("=", "+", "@"))], words
    assert seen > 9000
    for name in ("change-sheet.md", "change-sheet.html"):
        page = (folder / "out" / name).read_text()
        assert not STEERING.search(page)
        # In a block of code, signs are only signs.
        prose = (
            re.sub(r"```.*?```|`[^`\n]*`", "", page, flags=re.DOTALL)
            if name.endswith("md")
            else page
        )
        assert "<script>x" not in prose and "<img" not in prose
        assert name.endswith("html") or "](b)" not in prose.replace("\\]", "")
    # What would be typed to bring the statement back steers a line editor: there is no way back.
    own = folder / "out" / "tarsk-gw1"
    assert "strike mute 7" in (own / "unproved-change.txt").read_text()
    assert not [one for one in own.iterdir() if STEERING.search(one.read_text())]
    assert "contains a control character" in (folder / "out" / "change-sheet.md").read_text()


@pytest.mark.parametrize("what", ["silence", "clocks", "losses", "volume"])
def test_a_table_without_rows_has_its_header(ivrel: Run, folder: Path, what: str) -> None:
    (folder / "empty.log").write_text("<134>Nov 30 10:00:00 nobody app: x\n")
    log = folder / "x.log"
    empty, full = (
        ivrel("measure", what, f, "--format", "csv", "-w", folder).stdout.splitlines()
        for f in (folder / "empty.log", log)
    )
    assert empty[0] == full[0] and "," in empty[0]
    rows = json.loads(ivrel("measure", what, log, "--format", "json", "-w", folder).stdout)
    assert all(",".join(row) == full[0] for row in rows.get("rows", ()))
