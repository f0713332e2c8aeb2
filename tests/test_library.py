"""The public library: its page and its docstrings run, and it gives what the commands give."""

from __future__ import annotations

import doctest
import importlib
import json
import pkgutil
import re
import subprocess
import sys
from pathlib import Path

import msgspec
import pytest
from conftest import TODAY, Run
from fleets import call, standins, states
from hypothesis import given
from hypothesis import strategies as st

import ivrel as library
from ivrel import Device
from ivrel.demo.day import write_day
from ivrel.demo.workspace import write_workspace

PAGE = Path(__file__).parent.parent / "docs" / "library.md"


@pytest.fixture(scope="module")
def beside_demo(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The folder in which `ivrel demo skerry` was called."""
    folder = tmp_path_factory.mktemp("library")
    write_workspace(folder / "skerry")
    write_day(folder / "skerry" / "heard")
    return folder


def test_the_page_runs_as_it_is(beside_demo: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(beside_demo)
    ran = doctest.testfile(str(PAGE), module_relative=False)
    assert not ran.failed and ran.attempted > 30


def test_the_examples_in_the_docstrings_hold(
    beside_demo: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.chdir(beside_demo)
    ran = 0
    for module in pkgutil.walk_packages(library.__path__, "ivrel."):
        if not module.name.endswith("__main__"):
            one = importlib.import_module(module.name)
            ran += doctest.testmod(one, raise_on_error=True).attempted
    ran += doctest.testmod(library, raise_on_error=True).attempted
    assert ran >= 20


@pytest.mark.deep
def test_the_part_about_devices_runs_on_stand_ins(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    folder = tmp_path / "skerry"
    call("standin", "--new", folder)
    (block,) = re.findall(r"```python\n(import ivrel\n.*?)```", PAGE.read_text(), re.S)
    monkeypatch.chdir(tmp_path)
    with standins(folder):
        exec(compile(block, str(PAGE), "exec"), {})
    found = states(folder)
    assert len(found) == 7 and set(found.values()) <= {"delivered", "there already"}


def test_it_gives_what_the_commands_give(ivrel: Run, example: Path) -> None:
    network = library.open(example, today=TODAY)
    words = ("-w", example, "--site", "tarsk", "--today", TODAY.isoformat(), "--format", "json")
    told = json.loads(ivrel("audit", *words).stdout)["devices"]
    assert json.loads(msgspec.json.encode(list(network.audit(sites=["tarsk"])))) == told
    told = json.loads(ivrel("correct", *words).stdout)["devices"]
    found = network.correct(sites=["tarsk"]).collect()
    assert [(c.device, c.change, c.proved) for c in found.corrections] == [
        (one["device"], one["change"], one["proved"]) for one in told
    ]


@given(data=st.data())
def test_devices_can_be_named_in_any_way(example: Path, data: st.DataObject) -> None:
    network = library.open(example)
    every = network.fleet.devices
    some = data.draw(st.lists(st.sampled_from(every), min_size=1, unique=True))
    as_words: list[str | Device] = [d if data.draw(st.booleans()) else d.name for d in some]
    assert {d.name for d in network.select(devices=as_words)} == {d.name for d in some}
    site = some[0].site
    within = network.select(devices=["*"], sites=[site])
    assert [d for d in every if d.site == site] == list(within)


def test_an_empty_list_selects_nothing_and_half_an_audit_is_no_verdict(example: Path) -> None:
    network = library.open(example)
    assert network.select(devices=[]) == network.select(devices=["*"], sites=[]) == ()
    assert list(network.correct(devices=[])) == []
    some = network.select(sites=["tarsk"])
    both = network.select(devices=some, kinds=["firewall"])
    assert [d.name for d in both] == ["tarsk-fw2", "tarsk-fw3"]
    audit = network.audit(devices=["holmsay-gw1", "tarsk-fw2"])
    results = iter(audit)
    assert next(results).good and audit.is_good is None
    assert [result.device for result in results] == ["tarsk-fw2"] and audit.is_good is False


def test_it_neither_prints_nor_ends_and_says_what_is_wrong(
    example: Path, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    steps: list[tuple[str, int, int]] = []
    network = library.open(example, progress=lambda *step: steps.append(step))
    audit = network.audit(kinds=["firewall"])
    assert sum(1 for _ in audit) == len(audit.devices) == len(steps)
    assert steps[-1] == ("auditing", len(audit.devices), len(audit.devices))
    for wrong in (
        lambda: library.open(tmp_path / "none"),
        lambda: network.audit(settings=["levle"]),
        lambda: network.device("tarsk-*"),
        lambda: network.prove(tmp_path),
        lambda: network.heard(at={"beacon-z": ["x.log"]}),
    ):
        with pytest.raises(library.InputError):
            wrong()
    assert capsys.readouterr() == ("", "")


def test_importing_it_loads_nothing_else() -> None:
    code = "import sys, ivrel; print([m for m in sys.modules if m.startswith('ivrel.')])"
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert done.stdout == "[]\n"
    assert set(library.__all__) == {name for name in library.__all__ if hasattr(library, name)}
