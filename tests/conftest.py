"""What the tests share: the installed program, and the example workspace written by it."""

from __future__ import annotations

import importlib.util
import os
import subprocess
import sys
from collections.abc import Callable
from datetime import date
from pathlib import Path
from typing import Any

import pytest
from hypothesis import HealthCheck, Phase, settings

from ivrel.demo.workspace import write_workspace
from ivrel.sources.workspace import WorkspaceFiles

# How long a generated case takes says more of the machine than of the code. The build takes the
# same cases each time; whoever runs the tests at home searches on.
BUILD = bool(os.environ.get("IVREL_SKIP_NOTHING"))
# Whether the deep tests run. Decorators need to know this before pytest has read its options, and
# the workers of a parallel run get none.
ALL = bool(os.environ.setdefault("IVREL_ALL", "yes" if "--all" in sys.argv else ""))
settings.register_profile(
    "ivrel",
    deadline=None,
    derandomize=BUILD,
    max_examples=40 if BUILD else 100,
    suppress_health_check=[HealthCheck.too_slow, HealthCheck.data_too_large],
)
# Many runs, of which each shall only say whether anything fails, take fewer cases and shrink none.
BRIEF = bool(os.environ.get("IVREL_BRIEF"))
settings.register_profile(
    "brief", settings.get_profile("ivrel"), phases=[Phase.explicit, Phase.generate]
)
settings.load_profile("brief" if BRIEF else "ivrel")


def tried(most: int) -> settings:
    """Return the settings of a property with this many generated cases: all of them with `--all`
    at home, two fifths in the build, a tenth in a quick run.
    """
    if BRIEF or not ALL:
        return settings(max_examples=max(most // 10, 3))
    return settings(max_examples=max(most * 2 // 5, 3) if BUILD else most)


def pytest_addoption(parser: pytest.Parser) -> None:
    """Add the option that also runs the deep tests."""
    parser.addoption("--all", action="store_true", help="run the deep tests, too: see CONTRIBUTING")


def pytest_collection_modifyitems(config: pytest.Config, items: list[pytest.Item]) -> None:
    """Leave out the deep tests, unless all are asked for, or single ones are named."""
    if config.getoption("--all") or any("::" in word for word in config.args):
        return
    deep = [item for item in items if item.get_closest_marker("deep")]
    config.hook.pytest_deselected(items=deep)
    items[:] = [item for item in items if not item.get_closest_marker("deep")]


TODAY = date(2026, 11, 23)
Run = Callable[..., subprocess.CompletedProcess[str]]


@pytest.fixture(scope="session")
def ivrel() -> Run:
    """Runs the installed program; never may it show a traceback."""
    program = Path(sys.executable).parent / "ivrel"

    def run(
        *words: str | Path, code: int | None = None, **options: object
    ) -> subprocess.CompletedProcess[str]:
        command = [str(program), *map(str, words)]
        env = {key: value for key, value in os.environ.items() if key != "COLUMNS"}
        done = subprocess.run(
            command, env=env, capture_output=True, text=True, timeout=120, **options
        )  # type: ignore[call-overload]
        assert "Traceback" not in done.stderr, done.stderr
        if code is not None:
            assert done.returncode == code, (
                f"{command}: {done.returncode}\n{done.stdout[-2000:]}{done.stderr}"
            )
        assert isinstance(done, subprocess.CompletedProcess)
        return done

    return run


@pytest.fixture(scope="session")
def example(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The example workspace; tests that change it make a copy."""
    folder = tmp_path_factory.mktemp("example")
    write_workspace(folder)
    return folder


@pytest.fixture(scope="session")
def workspace(example: Path) -> WorkspaceFiles:
    """The example workspace, opened."""
    return WorkspaceFiles(example)


def script(name: str) -> Any:
    """A script of docs/, as a module."""
    spec = importlib.util.spec_from_file_location(
        name, Path(__file__).parent.parent / "docs" / f"{name}.py"
    )
    assert spec and spec.loader
    module = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(module)
    return module
