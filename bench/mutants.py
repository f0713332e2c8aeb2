"""Breaks the code on purpose, one place at a time, and says which breaks no test notices.

    python bench/mutants.py --times 60     a sample over audits, corrections and readings
    python bench/mutants.py src/ivrel/core/correcting --times 0  all places of one folder

Each break is made in a copy; the tests named by --tests run against it, up to the first that fails,
with few generated cases each. What survives is either not tested or does not matter: each is worth
a look. A break that ends in no time is told as such.
"""

from __future__ import annotations

import argparse
import ast
import os
import random
import shutil
import subprocess
import sys
import tempfile
import time
from collections import Counter
from collections.abc import Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from queue import SimpleQueue
from typing import NamedTuple

ROOT = Path(__file__).parent.parent
WHERE = (
    "src/ivrel/core/judging",
    "src/ivrel/core/correcting",
    "src/ivrel/core/reading",
    "src/ivrel/core/settings",
)
TESTS = tuple(
    f"tests/test_{name}.py"
    for name in (
        "proof",
        "settings",
        "certain",
        "answers",
        "kinds",
        "policy",
        "models",
        "properties",
        "example",
    )
)
NOTICED, SURVIVED, ENDLESS = "noticed", "survived", "did not end in time"
PATIENCE = 4  # how many times as long as the unbroken code a break may take

_OTHER_COMPARE = {
    ast.Eq: ast.NotEq, ast.NotEq: ast.Eq,
    ast.Lt: ast.LtE, ast.LtE: ast.Lt, ast.Gt: ast.GtE, ast.GtE: ast.Gt,
    ast.Is: ast.IsNot, ast.IsNot: ast.Is, ast.In: ast.NotIn, ast.NotIn: ast.In,
}  # fmt: skip


class Break(NamedTuple):
    """One break: the file, the line, what stood there, and the file's text with the break."""

    file: Path
    line: int
    was: str
    now: str
    text: str


def breaks(path: Path) -> Iterator[Break]:
    """Yield all breaks of a file: turned comparisons, conditions and connectives, and numbers off
    by one.
    """
    text = path.read_text()
    tree = ast.parse(text)
    for node in ast.walk(tree):
        other = _other(node)
        if other is None or not hasattr(node, "lineno"):
            continue
        was = ast.get_source_segment(text, node)
        if was is None or text.count(was) == 0:
            continue
        lines = text.splitlines(keepends=True)
        start = len("".join(lines[: node.lineno - 1]).encode()) + node.col_offset  # type: ignore[attr-defined]
        data = text.encode()
        now = f"({ast.unparse(other)})"
        broken = data[:start] + now.encode() + data[start + len(was.encode()) :]
        yield Break(
            path, node.lineno, " ".join(was.split()), " ".join(now.split()), broken.decode()
        )


def _other(node: ast.AST) -> ast.expr | None:
    """Return what stands in the place of an expression; None if it is left alone."""
    if isinstance(node, ast.Compare) and len(node.ops) == 1 and type(node.ops[0]) in _OTHER_COMPARE:
        return ast.Compare(node.left, [_OTHER_COMPARE[type(node.ops[0])]()], node.comparators)
    if isinstance(node, ast.BoolOp):
        return ast.BoolOp(ast.Or() if isinstance(node.op, ast.And) else ast.And(), node.values)
    if isinstance(node, ast.UnaryOp) and isinstance(node.op, ast.Not):
        return node.operand
    if isinstance(node, ast.Constant) and type(node.value) is int:
        return ast.Constant(node.value + 1)
    if isinstance(node, ast.Constant) and type(node.value) is bool:
        return ast.Constant(not node.value)
    return None


def main() -> int:
    parser = argparse.ArgumentParser(description=(__doc__ or "").splitlines()[0])
    parser.add_argument("where", nargs="*", default=WHERE, help="files or folders to break")
    parser.add_argument(
        "--times", type=int, default=60, metavar="N", help="how many breaks; 0 is all"
    )
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--tests", nargs="+", default=TESTS, help="the tests that may notice")
    args = parser.parse_args()
    files = [
        p
        for w in args.where
        for p in ([ROOT / w] if w.endswith(".py") else sorted((ROOT / w).rglob("*.py")))
    ]
    every = [one for path in files for one in breaks(path)]
    some = (
        every
        if not args.times
        else random.Random(args.seed).sample(every, min(args.times, len(every)))
    )
    outcomes = Counter[str]()
    for one, outcome in _tried(some, args.tests):
        outcomes[outcome] += 1
        if outcome != NOTICED:
            place = f"{one.file.relative_to(ROOT)}:{one.line}"
            print(f"{place}: {one.was}  →  {one.now}  ({outcome})", flush=True)
    told = ", ".join(f"{n} {outcome}" for outcome, n in outcomes.items())
    print(f"{told}, of {len(every)} places in all")
    return 0


def _tried(some: Sequence[Break], tests: Sequence[str]) -> Iterator[tuple[Break, str]]:
    """Yield each break, and what came of it.

    The unbroken code is tried first: it must pass, and its time is the measure for the others.
    """
    workers = os.cpu_count() or 2
    with tempfile.TemporaryDirectory() as name, ThreadPoolExecutor(workers) as threads:
        trees: SimpleQueue[Path] = SimpleQueue()
        for n in range(workers):
            tree = Path(name) / str(n)
            shutil.copytree(ROOT / "src", tree, ignore=shutil.ignore_patterns("__pycache__"))
            trees.put(tree)
        began = time.monotonic()
        if _outcome(Path(name) / "0", tests, None) != SURVIVED:
            raise SystemExit("the tests fail although nothing is broken")
        seconds = PATIENCE * (time.monotonic() - began)

        def run(one: Break) -> tuple[Break, str]:
            tree = trees.get()
            place = tree / one.file.relative_to(ROOT / "src")
            whole = place.read_text()
            place.write_text(one.text)
            outcome = _outcome(tree, tests, seconds)
            place.write_text(whole)
            trees.put(tree)
            return one, outcome

        yield from threads.map(run, some)


def _outcome(tree: Path, tests: Sequence[str], seconds: float | None) -> str:
    """Return what the tests say of the code in a folder."""
    env = {
        **os.environ,
        "PYTHONPATH": str(tree),
        "IVREL_SKIP_NOTHING": "",
        "IVREL_BRIEF": "1",
        "PYTHONDONTWRITEBYTECODE": "1",
    }
    quiet = ["-x", "-q", "--no-header", "-p", "no:cacheprovider"]
    call = [sys.executable, "-m", "pytest", *quiet, *tests]
    try:
        done = subprocess.run(
            call, cwd=ROOT, env=env, capture_output=True, timeout=seconds, check=False
        )
    except subprocess.TimeoutExpired:
        return ENDLESS
    return NOTICED if done.returncode else SURVIVED


if __name__ == "__main__":
    sys.exit(main())
