"""What the code promises about itself: arrows one way, a quick start, examples in the help."""

from __future__ import annotations

import ast
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import pytest
from conftest import Run

import ivrel as package
from ivrel.cli.main import COMMANDS

ROOT = Path(package.__file__).parent
ALLOWED = {
    "core": {"core"},
    "runners": {"core", "runners"},
    "sources": {"core", "sources"},
    "output": {"core", "output"},
    "live": {"core", "sources", "live"},
    "work": {"core", "runners", "sources", "output", "live", "work"},
    "demo": {"core", "sources", "demo"},
    "standin": {"core", "sources", "demo", "standin"},
    # Commands parse, call and draw: what they do with files, devices and processes is work.
    "cli": {"core", "work", "output", "demo", "standin", "cli"},
}


def imports(path: Path) -> set[str]:
    found = set()
    for node in ast.walk(ast.parse(path.read_text())):
        if isinstance(node, ast.ImportFrom) and node.module:
            found.add(node.module)
        elif isinstance(node, ast.Import):
            found |= {alias.name for alias in node.names}
    return found


def test_imports_go_one_way() -> None:
    seen = set()
    for part, allowed in ALLOWED.items():
        for path in (ROOT / part).rglob("*.py"):
            for name in imports(path):
                if name.startswith("ivrel."):
                    target = name.split(".")[1]
                    seen.add((part, target))
                    assert target in allowed, f"{path.relative_to(ROOT)} imports {name}"
                elif part == "core":
                    assert name.split(".")[0] not in {
                        "argparse",
                        "rich",
                        "socket",
                        "subprocess",
                        "sys",
                        "time",
                    }, path
    assert ("cli", "output") in seen and ("sources", "core") in seen


def test_commands_parse_call_and_draw() -> None:
    """Each command is a room of its own, and of the core it uses words and types alone."""
    for path in (ROOT / "cli").glob("*.py"):
        for name in imports(path):
            command = name.removeprefix("ivrel.cli.") if name.startswith("ivrel.cli.") else ""
            assert command not in COMMANDS, f"{path.name} imports the command {name}"
        for name in imports_at_run_time(path):
            if name.startswith("ivrel.core."):
                assert name.startswith("ivrel.core.vocabulary."), f"{path.name} imports {name}"
        assert "os.environ" not in path.read_text() or path.name in (
            "main.py",
            "problems.py",
            "common.py",
        )


def imports_at_run_time(path: Path) -> set[str]:
    """The modules that a file imports, but for those that are there for types alone."""
    tree = ast.parse(path.read_text())
    for node in ast.walk(tree):
        if isinstance(node, ast.If) and ast.unparse(node.test) == "TYPE_CHECKING":
            node.body = [ast.Pass()]
    found = [node for node in ast.walk(tree) if isinstance(node, ast.ImportFrom)]
    return {node.module or "" for node in found}


@pytest.mark.parametrize("words", [["--version"], ["audit", "--help"], ["--help"]])
def test_starting_imports_little(words: list[str]) -> None:
    code = (
        "import sys\nfrom ivrel.cli.main import main\n"
        f"try:\n    main({words!r})\nexcept SystemExit:\n    pass\n"
        "print('LOADED', *[m for m in sys.modules if m.split('.')[0] in ('rich', 'yaml', 'msgspec')"
        " or m.startswith(('ivrel.core', 'ivrel.sources', 'ivrel.output.views', 'ivrel.output.terminal'))])"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert done.stdout.splitlines()[-1] == "LOADED"


@pytest.mark.parametrize("command", COMMANDS)
def test_help_of_every_command_has_an_example(ivrel: Run, command: str) -> None:
    done = ivrel(command, "--help", code=0)
    assert (
        COMMANDS[command][:30] in " ".join(done.stdout.split())
        and f"example:\n  ivrel {command}" in done.stdout
    )


# The rooms of the core, from the ground up: each may look only at those before it, and at itself.
FLOORS = ("vocabulary", "text", "syslog", "form", "reach", "ways", "fleet", "shapes", "dialects", "reading", "policy", "attribution", "settings", "judging", "correcting", "delivery", "authoring", "measuring", "evidence")  # fmt: skip


def test_within_the_core_no_arrow_runs_back() -> None:
    seen = set()
    for path in (ROOT / "core").rglob("*.py"):
        room = path.relative_to(ROOT / "core").parts[0].removesuffix(".py")
        for name in imports(path):
            if room != "__init__" and name.startswith("ivrel.core."):
                target = name.split(".")[2]
                seen.add((room, target))
                assert FLOORS.index(target) <= FLOORS.index(room), (
                    f"{path.relative_to(ROOT)} imports {name}"
                )
    assert ("settings", "policy") in seen and ("correcting", "judging") in seen


# What makes code dense to read; the numbers may only fall.
PACKED = 248  # comprehensions with two `for`, or with one comprehension inside
PARALLEL = 24  # assignments of several values in one statement
STARRED = 15  # tuples made in a function and starred into a call


def trees() -> list[tuple[str, ast.Module]]:
    return [(str(p.relative_to(ROOT)), ast.parse(p.read_text())) for p in ROOT.rglob("*.py")]


def test_a_name_of_a_type_has_one_meaning() -> None:
    homes: dict[str, list[str]] = {}
    for name, tree in trees():
        for node in tree.body:
            if isinstance(node, ast.ClassDef) and not node.name.startswith("_"):
                homes.setdefault(node.name, []).append(name)
    assert len(homes) > 400 and not {k: v for k, v in homes.items() if len(v) > 1}


def test_comprehensions_do_one_thing_each() -> None:
    kinds = (ast.ListComp, ast.SetComp, ast.DictComp, ast.GeneratorExp)
    packed, worse = [], []
    for name, tree in trees():
        for node in ast.walk(tree):
            if isinstance(node, kinds):
                inside = [one for one in ast.walk(node) if isinstance(one, kinds)]
                loops = sum(len(one.generators) for one in inside)
                if loops > 1:
                    packed.append(f"{name}:{node.lineno}")
                if loops > 2 or sum(len(one.ifs) for one in node.generators) > 1:
                    worse.append(f"{name}:{node.lineno}")
    assert not worse and len(packed) <= PACKED, (worse, packed[:20])


def test_a_statement_assigns_one_thing() -> None:
    parallel = [
        f"{name}:{node.lineno}"
        for name, tree in trees()
        for node in ast.walk(tree)
        if isinstance(node, ast.Assign)
        and isinstance(node.targets[0], ast.Tuple)
        and isinstance(node.value, ast.Tuple)
    ]
    assert len(parallel) <= PARALLEL, parallel


def test_arguments_are_named_and_not_starred() -> None:
    starred = []
    for name, tree in trees():
        for function in ast.walk(tree):
            if isinstance(function, ast.FunctionDef | ast.AsyncFunctionDef):
                starred += [f"{name}:{line}" for line in starred_tuples(function)]
    assert len(starred) <= STARRED, starred


def starred_tuples(function: ast.AST) -> Iterator[int]:
    """Yield the lines where a function stars a tuple that it made into a call."""
    made = {
        ast.unparse(node.targets[0])
        for node in ast.walk(function)
        if isinstance(node, ast.Assign) and isinstance(node.value, ast.Tuple)
    }
    for node in ast.walk(function):
        if isinstance(node, ast.Call):
            for one in node.args:
                value = one.value if isinstance(one, ast.Starred) else None
                if isinstance(value, ast.Tuple) or (value and ast.unparse(value) in made):
                    yield node.lineno
