"""Bad input gets one clear line that says where and what was expected; nothing is lost or
half-written.
"""

from __future__ import annotations

import json
import os
import random
import shutil
from pathlib import Path

import pytest
from conftest import Run, tried
from hypothesis import given
from hypothesis import strategies as st

from ivrel.core import InputError, read_dialect, read_fleet, read_policy
from ivrel.core.settings import SETTINGS
from ivrel.sources.dialects import SHIPPED

POLICY = """policy: p
collectors:
  a: {address: 198.51.100.21}
rules:
  - rule: r
    require: {REQUIRE}
"""
DEVICE = "{device: d1, kind: router, site: s, platform: quern}"


def said(call: object, *args: object) -> list[str]:
    with pytest.raises(InputError) as caught:
        call(*args)  # type: ignore[operator]
    return [str(m) for m in caught.value.mistakes]


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        (
            "fleet: f\ndevices: []\n",
            "fleet.yaml:1:1: the fleet is empty; expected at least one device",
        ),
        ("", "fleet.yaml:1:1: the file is empty; expected keys and values"),
        ("fleet: [\n", "fleet.yaml:2:1: not YAML: "),
        ("- a\n", "fleet.yaml:1:1: expected a fleet with its keys and values, not a list"),
        (
            f"fleet: f\ndevices:\n - {DEVICE}\n - {DEVICE}\n",
            "fleet.yaml:4:4: device 'd1' stands twice; the first",
        ),
        (
            "fleet: f\ndevices:\n - {device: d1, kind: roter, site: s, platform: quern}\n",
            "fleet.yaml:3:23: kind 'roter' is not known; did you mean 'router'?",
        ),
        (
            f"fleet: f\ndevices:\n - {DEVICE}\n - {DEVICE.replace('d1', 'D1')}\n",
            "fleet.yaml:4:4: device 'D1' differs from 'd1' in line 3 in case only",
        ),
        (
            "fleet: f\ndevices:\n - {device: d1, kind: router, site: s, platform: quern, colour: red}\n",
            "fleet.yaml:3:57: key 'colour' is not known; expected device, kind, ",
        ),
        (
            "fleet: f\ndevices:\n - {device: d1, kind: router, site: s, platform: quern, identity: 192.0.2.300}\n",
            "fleet.yaml:3:67: '192.0.2.300' is not an IP address",
        ),
        (
            "fleet: f\ndevices:\n - {device: d1}\n",
            "fleet.yaml:3:4: a device without 'kind', 'site' or 'platform'",
        ),
        (
            "fleet: f\nfleet: g\ndevices:\n - {device: d1}\n",
            "fleet.yaml:2:1: key 'fleet' stands twice; the first",
        ),
    ],
)
def test_fleet_mistakes(text: str, expected: str) -> None:
    assert said(read_fleet, text, "fleet.yaml")[0].startswith(expected)


def test_csv_fleets_read_like_yaml_and_fail_as_clearly() -> None:
    head = "device,kind,site,platform,groups,identity\n"
    fleet = read_fleet(
        head + "d1,router,s,quern,edge core,192.0.2.1\n\nd2,switch,t,skarn,,\n", "fleet.csv"
    )
    assert [(d.name, d.groups, d.identity) for d in fleet.devices] == [
        ("d1", ("edge", "core"), "192.0.2.1"),
        ("d2", (), None),
    ]
    wrong = head + "d1,rooter,s,quern,,x\nd2,router\nd1,router,s,quern,,\nd1,router,s,quern,,\n"
    assert said(read_fleet, wrong, "fleet.csv") == [
        "fleet.csv:2:1: kind 'rooter' is not known; did you mean 'router'?",
        "fleet.csv:2:1: 'x' is not an IP address",
        "fleet.csv:3:1: 2 fields; expected 6, as in the header",
        "fleet.csv:5: device 'd1' stands twice; the first is in line 4",
    ]
    assert said(read_fleet, "device,kind\n", "fleet.csv")[0] == "fleet.csv:1:1: no column 'site'"
    assert "not CSV" in said(read_fleet, head + 'd1,"router\n', "fleet.csv")[0]


@pytest.mark.parametrize(
    ("require", "expected"),
    [
        ("{colour: red}", "6:15: setting 'colour' is not known; did you mean 'collectors'?"),
        ("{collectors: [a, c]}", "6:31: collector 'c' is not known; expected a"),
        (
            "{collectors: {includes: [a], never: [a]}}",
            "6:27: contradictory: a both asked for and never allowed",
        ),
        (
            "{level: {from: debug, to: error}}",
            "6:22: contradictory: debug is more than error; nothing lies between",
        ),
        (
            "{level: {from: error, to: notice, write: debug}}",
            "6:22: contradictory: 'write: debug' is not from error",
        ),
        ("{level: verbose}", "6:22: 'verbose' is not known; expected none, emergency,"),
        ("{level: {betwen: [a, b]}}", "6:23: form 'betwen' is not known; did you mean 'between'?"),
        ("{level: {between: [error]}}", "6:32: expected two values, [least, most]"),
        (
            "{facility: {any-of: [local1], never: [local1]}}",
            "6:25: contradictory: nothing is both local1 and",
        ),
        ("{facility: []}", "6:25: the list is empty; expected at least one entry"),
        ("{facility: {never: local1, at-least: x}}", "6:41: form 'at-least' is not known"),
        (
            "{stamp: {kind: uptime, zone: shown}}",
            "6:22: contradictory: precision, year and zone are asked of",
        ),
        (
            "{stamp: {hue: blue}}",
            "6:23: part 'hue' is not known; expected kind, precision, year or zone",
        ),
        ("{stamp: {}}", "6:22: asks for nothing; expected one of kind, precision, year, zone"),
        ("{source: ''}", "6:23: expected 'identity', the name of an interface, or an address"),
        ("{export: maybe}", "6:23: 'maybe' is not known; expected off or on"),
        ("{}", "6:14: asks for nothing; expected one of export, "),
    ],
)
def test_policy_mistakes(require: str, expected: str) -> None:
    assert said(read_policy, POLICY.replace("{REQUIRE}", require), "policy.yaml")[0].startswith(
        f"policy.yaml:{expected}"
    )


def test_all_mistakes_are_told_at_once_in_order() -> None:
    text = """policy: p
collectors:
  a: {address: somewhere, port: 99999}
  b: {address: 198.51.100.1, transport: pigeon}
rules:
  - {rule: r, where: {kind: ship}, require: {facility: local9}}
  - {rule: r, require: {export: on}}
waivers:
  - {device: d, setting: stmp, until: soon, because: x}
"""
    assert said(read_policy, text, "policy.yaml") == [
        "policy.yaml:3:16: 'somewhere' is not an IP address",
        "policy.yaml:3:33: '99999' is not a port; expected 1 to 65535",
        "policy.yaml:4:41: 'pigeon' is not known; expected udp, tcp or tls",
        "policy.yaml:6:56: 'local9' is not known; did you mean 'local7'?",
        "policy.yaml:7:5: rule 'r' stands twice; the first is in line 6",
        "policy.yaml:9:26: 'stmp' is not known; did you mean 'stamp'?",
        "policy.yaml:9:39: 'soon' is not a day; write YYYY-MM-DD",
    ]


@pytest.mark.parametrize(
    ("old", "new", "expected"),
    [
        ("export {export}", "export {exprt}", "slot 'exprt' is not known; did you mean 'export'?"),
        ("export {export}", "export {export", "a brace in 'export {export' has no partner"),
        ("export {export}", "export x{export}", "is only a part of a word"),
        ("[{stamp.precision}]", "[{stamp.precision}", "'[' in "),
        (
            "year=shown:year",
            "year=seen:year",
            "value 'seen' is not known; expected hidden or shown",
        ),
        ("shape: blocks", "shape: blobs", "4:8: 'blobs' is not known; did you mean 'blocks'?"),
        ("  export: off", "  export: perhaps", "default of export: 'perhaps' is not known"),
        ("  facility: local0", "  flavour: local0", "default for a slot: 'flavour' is not known"),
        (
            "key: [address, transport, port]",
            "key: [adress, transport, port]",
            "key 'destination.adress' is not",
        ),
    ],
)
def test_dialect_mistakes(old: str, new: str, expected: str) -> None:
    text = (SHIPPED / "quern.yaml").read_text()
    assert old in text
    told = said(read_dialect, text.replace(old, new), "quern.yaml")
    assert any(expected in line and line.startswith("quern.yaml:") for line in told), told


def broken(example: Path, tmp_path: Path) -> Path:
    shutil.copytree(example, tmp_path / "w")
    return tmp_path / "w"


def test_one_bad_device_does_not_stop_the_fleet(ivrel: Run, example: Path, tmp_path: Path) -> None:
    folder = broken(example, tmp_path)
    (folder / "configs" / "holmsay-gw1.conf").unlink()
    (folder / "configs" / "tarsk-fw2.conf").write_bytes(random.Random(1).randbytes(5000))
    whole = (folder / "configs" / "kelby-sw1.conf").read_text()
    (folder / "configs" / "kelby-sw1.conf").write_bytes(
        whole.encode("utf-16")
    )  # is read all the same
    (folder / "configs" / "orrin-sw1.conf").unlink()
    (folder / "configs" / "orrin-sw1.conf").mkdir()
    done = ivrel("audit", "-w", folder, "--format", "json", code=1)
    problems = {
        d["device"]: d["problem"] for d in json.loads(done.stdout)["devices"] if "problem" in d
    }
    assert problems == {
        "holmsay-gw1": "no configuration; expected configs/holmsay-gw1.conf or the like",
        "tarsk-fw2": "configs/tarsk-fw2.conf: none of the statements of skarn occur in it",
        "orrin-sw1": "configs/orrin-sw1.conf: no files in it; expected the files of one configuration",
    }
    table = ivrel("audit", "-w", folder, code=1).stdout
    assert table.count("not readable") == 3 and "1 of 14 devices as asked" not in table
    corrected = ivrel("correct", "-w", folder, "-o", tmp_path / "out", code=1)
    assert corrected.stdout.count("not readable") == 3 and (tmp_path / "out" / "tarsk-gw1").exists()
    one = ivrel("read", "-w", folder, "holmsay-gw1", code=2)
    assert one.stderr == "ivrel: no configuration; expected configs/holmsay-gw1.conf or the like\n"


@pytest.mark.parametrize(
    ("words", "expected"),
    [
        (("audit", "-w", "nowhere"), "ivrel: nowhere: no such folder; expected a workspace"),
        (("audit", "-w", "."), "ivrel: .: no fleet.yaml or fleet.csv in it"),
        (("audit", "--fleet"), "ivrel: unrecognized arguments: --fleet; see 'ivrel --help'"),
        (
            ("audit", "--today", "soon"),
            "ivrel audit: argument --today: 'soon' is not a day; write YYYY-MM-DD",
        ),
        (("wander",), "ivrel: argument COMMAND: invalid choice: 'wander'"),
        (
            ("audit", "-w", "W", "tarks-fw2"),
            "ivrel: no device is called 'tarks-fw2'; did you mean 'tarsk-fw2'?",
        ),
        (
            ("audit", "-w", "W", "--site", "tarks"),
            "ivrel: site 'tarks' is not known; did you mean 'tarsk'?",
        ),
        (
            ("audit", "-w", "W", "--setting", "levle"),
            "ivrel: setting 'levle' is not known; did you mean 'level'?",
        ),
        (("explain", "-w", "W", "mv-*"), "ivrel: 'mv-*' matches 8 devices; expected one"),
        (
            ("dialect", "apply", "quorn", "x", "y"),
            "ivrel: dialect 'quorn' is not known; did you mean 'quern'?",
        ),
        (("dialect", "apply", "quern", "x", "y"), "ivrel: x: no such file or directory"),
        (("correct", "-w", "W", "-o", "F/sub"), "ivrel: F/sub: cannot be written: not a directory"),
    ],
)
def test_wrong_calls_get_one_line(
    ivrel: Run, example: Path, tmp_path: Path, words: tuple[str, ...], expected: str
) -> None:
    (tmp_path / "W").symlink_to(example)
    (tmp_path / "F").write_text("a file")
    done = ivrel(*words, cwd=tmp_path, code=2)
    assert done.stderr.startswith(expected) and done.stderr.count("\n") == 1 and not done.stdout


@pytest.mark.parametrize(
    ("change", "expected"),
    [
        (
            "events\n    strike send 203.0.113.1\n",
            "c:2:1: there is no 'send 203.0.113.1' to remove",
        ),
        ("events\n    strike\n", "c:2:1: 'strike' without the statement to remove"),
        ("nowhere\n    strike export\n", "c:2:1: there is no 'export' to remove"),
        (
            "events\n"
            + "".join(f"    send 203.0.113.{n} udp 514 through debug\n" for n in range(1, 6)),
            "c:4:1: quern holds 4 rows of 'destination' at most",
        ),
    ],
)
def test_a_platform_refuses_what_it_cannot_do(
    ivrel: Run, example: Path, tmp_path: Path, change: str, expected: str
) -> None:
    (tmp_path / "c").write_text(change)
    config = example / "configs" / "holmsay-gw1.conf"
    done = ivrel("dialect", "apply", "quern", config, "c", cwd=tmp_path, code=2)
    assert done.stderr == f"ivrel: {expected}\n" and not done.stdout


@pytest.mark.deep
def test_output_that_nobody_reads_or_that_cannot_be_written(
    ivrel: Run, example: Path, tmp_path: Path
) -> None:
    reading, writing = os.pipe()
    os.close(reading)
    import subprocess
    import sys

    program = Path(sys.executable).parent / "ivrel"
    # What is buffered is only written at the end.
    audit, read = ["audit", "-w", str(example)], ["read", "holmsay-gw1", "-w", str(example)]
    for words, unbuffered in ((audit, ""), (read, ""), (["--help"], ""), (audit, "1"), (read, "1")):
        call: list[str | Path] = [program, *words]
        env = {**os.environ, "PYTHONUNBUFFERED": unbuffered}

        def run(
            out: int, call: list[str | Path] = call, env: dict[str, str] = env
        ) -> tuple[int, str]:
            done = subprocess.run(call, stdout=out, stderr=subprocess.PIPE, text=True, env=env)
            return done.returncode, done.stderr

        assert run(writing) in ((0, ""), (1, ""))
        if Path("/dev/full").exists():
            with Path("/dev/full").open("w") as full:
                assert run(full.fileno()) == (2, "ivrel: no space left on device\n")
    os.close(writing)


@pytest.mark.deep
def test_a_file_that_does_not_fit_leaves_what_was_there(
    ivrel: Run, example: Path, tmp_path: Path
) -> None:
    import resource
    import subprocess
    import sys

    def small() -> None:
        resource.setrlimit(resource.RLIMIT_FSIZE, (600, 600))

    ivrel("correct", "-w", example, "-o", tmp_path / "out", "--today", "2026-11-23", code=0)
    before = {path: path.read_bytes() for path in tmp_path.rglob("*") if path.is_file()}
    program = str(Path(sys.executable).parent / "ivrel")
    call = [
        program,
        "correct",
        "-w",
        str(example),
        "-o",
        str(tmp_path / "out"),
        "--replace",
        "--today",
        "2027-11-23",
    ]
    done = subprocess.run(call, capture_output=True, text=True, preexec_fn=small)
    assert done.returncode == 2 and done.stderr.endswith(": cannot be written: file too large\n")
    assert done.stderr.count("\n") == 1
    after = {path: path.read_bytes() for path in tmp_path.rglob("*") if path.is_file()}
    assert after.keys() == before.keys() and max(map(len, before.values())) > 600
    # Whatever was written before the limit was met is whole; what did not fit is as it was.
    assert all(after[path] == before[path] for path in before if len(before[path]) > 600)


def test_every_setting_says_what_it_is_for() -> None:
    for name, setting in SETTINGS.items():
        assert setting.name == name and all(
            (setting.meaning, setting.matters, setting.meets, setting.breaks)
        )


FRAGMENTS = [
    *(
        "fleet: f\n",
        "devices:\n",
        "  - {device: d, kind: router, site: s, platform: quern}\n",
        "policy: p\n",
        "rules:\n",
    ),
    *(
        "collectors: {a: {address: 192.0.2.1}}\n",
        "  - rule: r\n",
        "    require: {level: [error, 7], export: }\n",
        "? [x]\n",
    ),
    *(
        "    where: {kind: [router], device: }\n",
        "dialect: d\n",
        "shape: tree\n",
        "statements:\n",
        "  - {says: '{x}'}\n",
    ),
    *(
        "waivers: [{until: 2026-13-01}]\n",
        "rows: {pick: {key: []}}\n",
        "change: remove\n",
        "defaults: [a]\n",
        "- 1\n",
    ),
    *(
        "\t",
        "{",
        "]",
        ": ",
        "~\n",
        "a: &a [1]\nb: *a\n",
        "\x00",
        "!!python/object:os.system x\n",
        "---\n",
        "'",
        "é\n",
    ),
]


@pytest.mark.deep
@given(st.lists(st.sampled_from(FRAGMENTS), max_size=9).map("".join) | st.text(max_size=80))
@tried(400)
def test_no_file_of_the_users_upsets_its_reader(text: str) -> None:
    for reader, file in (
        (read_fleet, "fleet.yaml"),
        (read_fleet, "fleet.csv"),
        (read_policy, "p"),
        (read_dialect, "d"),
    ):
        try:
            reader(text, file)
        except InputError as problem:
            assert problem.mistakes and all(
                "\n" not in str(m) and len(str(m)) < 400 for m in problem.mistakes
            )


def test_aliases_are_not_followed() -> None:
    bomb = "a: &a [x, x]\n" + "".join(
        f"{chr(97 + n)}: &{chr(97 + n)} [*{chr(96 + n)}, *{chr(96 + n)}]\n" for n in range(1, 25)
    )
    told = said(read_policy, bomb, "policy.yaml")
    assert (
        len(told) == 1 and "is used again by an alias; expected every part written out" in told[0]
    )
