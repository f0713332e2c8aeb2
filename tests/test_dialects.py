"""Dialects that ship, dialects of the user's own, and what is said about them."""

from __future__ import annotations

import json
import re
import subprocess
from pathlib import Path

import pytest
from conftest import Run, script

from ivrel.core import read_dialect
from ivrel.core.authoring.check import check_dialect
from ivrel.core.authoring.draft import telling_lines
from ivrel.sources.dialects import SHIPPED, Dialects

DOCS = Path(__file__).parent.parent / "docs"
SHIPPED_NAMES = sorted(path.stem for path in SHIPPED.glob("*.yaml"))


@pytest.mark.parametrize("name", SHIPPED_NAMES)
def test_shipped_dialects_are_right_in_both_directions(ivrel: Run, name: str) -> None:
    assert ivrel("dialect", "check", name, code=0).stdout.endswith("right in both directions\n")
    shown = json.loads(ivrel("dialect", "show", name, "--format", "json", code=0).stdout)
    assert {"collectors", "level"} <= {row["setting"] for row in shown["can"]}


@pytest.mark.parametrize(
    ("name", "old", "new", "expected"),
    [
        ("quern", "facility {facility}", "export {any} {facility}", "facility can be read but not written"),
        ("quern", "inet6 {interface.address}", "inet {interface.address}", "can read the same statement"),
        ("quern", "facility {facility}", "{any} {export}", "export is said by the statement in line"),
        ("quern", "key: [address, transport, port]", "key: [name]", "no statement defines destination.name"),
        ("quern", "debug: debug}", "debug: notice}", "one word for two values"),
        ("quern", "export: on\n", "export: off\n", "the example means export: on; expected off"),
        ("quern", "          export on\n", "          whistle on\n", "line 4 is not understood: … on"),
        ("skarn", "means:\n", "means:\n      clock: x\n", "clock: nothing; expected x"),
        ("marl", "examples:", "examples: []\nx:", "key 'x' is not known"),
        ("hollin", "statements:\n", 'statements:\n  - {in: record, says: "tag"}\n', "no slot; what"),
    ],
)  # fmt: skip
def test_check_finds_what_is_wrong(name: str, old: str, new: str, expected: str) -> None:
    from ivrel.core import InputError

    text = (SHIPPED / f"{name}.yaml").read_text()
    assert old in text
    try:
        found = check_dialect(read_dialect(text.replace(old, new, 1), f"{name}.yaml"))
    except InputError as problem:
        found = list(problem.mistakes)
    assert any(expected in str(m) for m in found), [str(m) for m in found]
    assert all(str(m).startswith(f"{name}.yaml:") and m.line for m in found)


def test_the_tutorial_leads_to_a_proved_correction(ivrel: Run, tmp_path: Path) -> None:
    text = (DOCS / "write-a-dialect.md").read_text()
    steps = re.findall(r"(?:<!-- (file|expect): (\S+) -->\n)?```(\w*)\n(.*?)```", text, re.DOTALL)
    ran = 0
    for what, name, language, body in steps:
        if what == "file":
            (tmp_path / name).parent.mkdir(exist_ok=True)
            (tmp_path / name).write_text(body)
        elif what == "expect":
            assert (tmp_path / name).read_text() == body
        elif language == "sh":
            for command in body.strip().splitlines():
                words = command.removesuffix(" || true").split()
                assert words[0] == "ivrel"
                done = ivrel(*words[1:], cwd=tmp_path, code=1 if command.endswith("|| true") else 0)
                # Only a new configuration as a whole shows what it hides.
                assert "apply" in words or "5f1c9a7be2" not in done.stdout + done.stderr
                ran += 1
    assert ran >= 6
    config = tmp_path / "pier-ap1.conf"
    change = tmp_path / "corrections" / "pier-ap1" / "change.txt"
    config.write_text(
        ivrel("dialect", "apply", "tern", config, change, cwd=tmp_path, code=0).stdout
    )
    assert "1 of 1 device as asked" in ivrel("audit", cwd=tmp_path, code=0).stdout
    assert "tern" in ivrel("dialect", "list", cwd=tmp_path, code=0).stdout
    # No line of Python knows this platform.
    assert (
        subprocess.run(["grep", "-rliw", "tern", str(SHIPPED.parent)], capture_output=True).stdout
        == b""
    )


@pytest.mark.parametrize("shape", ["blocks", "braces", "enclosed", "paths", "sections", "tree"])
def test_a_new_dialect_reads_as_it_stands(
    ivrel: Run, example: Path, tmp_path: Path, shape: str
) -> None:
    sample = example / "configs" / "tarsk-sw1.conf"
    done = ivrel(
        "dialect", "new", "mine", "--shape", shape, "--sample", sample, cwd=tmp_path, code=0
    )
    assert "lines of the sample that look like export settings" in done.stdout
    started = (tmp_path / "dialects" / "mine.yaml").read_text()
    assert (
        "#      57  " in started and "send 198.51.100.21 udp 514 through informational" in started
    )
    assert "no examples" in ivrel("dialect", "check", "mine", cwd=tmp_path, code=1).stdout
    if shape == "tree":
        assert "is already there" in ivrel(*done.args[1:], cwd=tmp_path, code=2).stderr
    assert "secret" not in started and telling_lines("secret 514\nlog to x 514") == [
        (2, "log to x 514")
    ]


def test_try_tells_every_line_and_the_likely_platform(
    ivrel: Run, example: Path, tmp_path: Path
) -> None:
    config = example / "configs" / "brannay-fw2.conf"
    tried = json.loads(ivrel("dialect", "try", "hollin", config, "--format", "json", code=0).stdout)
    assert {"destination.name": "beacon-b", "destination.port": 601} in [
        row.get("values") for row in tried["lines"]
    ]
    (tmp_path / "odd.conf").write_text("events\n    whistle\n    facility local3\n")
    odd = ivrel("dialect", "try", "quern", tmp_path / "odd.conf", code=1).stdout
    assert "not understood; may bear on export, facility" in odd and "1 line not understood" in odd
    wrong = ivrel("dialect", "try", "marl", config, code=2).stderr
    assert wrong.endswith("none of the statements of marl occur in it; this looks like hollin\n")


def test_schemas_are_current_and_fit_the_files_that_ship() -> None:
    schemas = script("schemas")
    for name in schemas.FORMS:
        assert json.loads((DOCS / "schema" / f"{name}.json").read_text()) == schemas.schema(name)
    jsonschema = pytest.importorskip("jsonschema")
    import yaml

    from ivrel.demo.workspace import fleet_text, policy_text

    class Plain(yaml.SafeLoader):
        """YAML with every scalar as it is written."""

    Plain.yaml_implicit_resolvers = {}
    files = [("fleet", fleet_text()), ("policy", policy_text())]
    files += [("dialect", (SHIPPED / f"{name}.yaml").read_text()) for name in SHIPPED_NAMES]
    for kind, text in files:
        jsonschema.Draft202012Validator(schemas.schema(kind)).validate(
            yaml.load(text, Loader=Plain)
        )
        with pytest.raises(jsonschema.ValidationError):
            jsonschema.Draft202012Validator(schemas.schema(kind)).validate({"colour": "red"})


def test_a_workspace_dialect_comes_before_one_that_ships(tmp_path: Path) -> None:
    (tmp_path / "dialects").mkdir()
    text = (SHIPPED / "quern.yaml").read_text().replace("about: routers", "about: our routers")
    (tmp_path / "dialects" / "quern.yaml").write_text(text)
    assert Dialects(tmp_path)["quern"].about.startswith("our routers")
