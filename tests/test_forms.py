"""Corrections as changes of the workspace's own files: as a diff for git, in place, taken back."""

from __future__ import annotations

import base64
import gzip
import json
import shutil
import stat
import subprocess
import sys
import zlib
from pathlib import Path

import pytest
from conftest import TODAY, Run, tried
from hypothesis import example as case
from hypothesis import given
from hypothesis import strategies as st

from ivrel.core.text.delta import git_delta, words_put_in
from ivrel.core.text.patch import git_name, patch
from ivrel.core.vocabulary.errors import InputError
from ivrel.sources import in_place
from ivrel.sources.originals import Original

ON = ("--today", TODAY.isoformat())
NO_GIT = pytest.mark.skipif(not shutil.which("git"), reason="no git here")


def files_of(folder: Path) -> dict[str, tuple[bytes, int]]:
    """All files of a folder, with their rights; what Ivrel keeps for itself aside."""
    found = (p for p in folder.rglob("*") if p.is_file() and ".ivrel" not in p.parts)
    return {str(p.relative_to(folder)): (p.read_bytes(), p.stat().st_mode) for p in found}


def git_apply(folder: Path, data: bytes, *words: str) -> None:
    call = ["git", "apply", *words, "-"]
    # A repository further up would have its own idea of the paths.
    env = {"PATH": "/usr/bin:/bin:/usr/local/bin", "GIT_CEILING_DIRECTORIES": str(folder.parent)}
    done = subprocess.run(call, cwd=folder, input=data, capture_output=True, env=env, check=False)
    assert done.returncode == 0, done.stderr.decode()


LINE = st.sampled_from(("a\n", "b\n", "\n", "}\n", "longer line\n", "tail with blanks  \n", "é\n"))
TEXT = st.builds(
    lambda lines, end: "".join(lines) + end,
    st.lists(LINE, max_size=14),
    st.sampled_from(("", "no end")),
)
CASES = st.lists(
    st.tuples(st.none() | TEXT, st.none() | TEXT, st.frozensets(st.integers(1, 15))), max_size=12
)


@NO_GIT
@tried(60)
@given(cases=CASES)
@case(cases=[("a\n", "a\na\n", frozenset())])  # git takes it for the beginning of the file
def test_git_takes_a_patch_and_takes_it_back(
    cases: list[tuple[str | None, str | None, frozenset[int]]],
    tmp_path_factory: pytest.TempPathFactory,
) -> None:
    folder = tmp_path_factory.mktemp("git")
    whole, is_held = b"", True
    names = [f"d {n}/x{'y' * n}.conf" if n % 3 == 0 else f'q"{n}' for n in range(len(cases))]
    made = []
    for name, (before, after, shown) in zip(names, cases, strict=True):
        # A file that is empty comes and goes without a line, which no plain diff can say.
        old, new = (None if not text else text.encode() for text in (before, after))
        if old is not None:
            (folder / name).parent.mkdir(exist_ok=True)
            (folder / name).write_bytes(old)
        one = patch(name, old, new, shown)
        whole, is_held = whole + one.text, is_held and one.is_held
        made.append((name, old, new))
        # What may not be shown is there only if it changes.
        said = [x[1:] for x in one.text.split(b"\n") if x.startswith(b" ") and x[1:].strip(b"}")]
        lines = (old or b"").split(b"\n")
        assert set(said) <= {x for n, x in enumerate(lines, 1) if n in shown}
    if not whole:
        return
    more = () if is_held else ("--unidiff-zero",)
    git_apply(folder, whole, *more)
    for name, _, new in made:
        assert ((folder / name).read_bytes() if (folder / name).exists() else None) == new
    git_apply(folder, whole, "-R", *more)
    for name, old, _ in made:
        assert ((folder / name).read_bytes() if (folder / name).exists() else None) == old


@NO_GIT
def test_a_patch_makes_the_fleet_as_asked(example: Path, tmp_path: Path, ivrel: Run) -> None:
    work = tmp_path / "work"
    shutil.copytree(example, work)
    config = work / "configs" / "tarsk-sw1.conf"
    config.write_text(f"vault key-of-the-house\n{config.read_text()}vault key-of-the-house\n")
    packed = work / "configs" / "kelby-sw1.conf"
    (work / "configs" / "kelby-sw1.conf.gz").write_bytes(gzip.compress(packed.read_bytes()))
    packed.unlink()
    before = files_of(work)
    done = subprocess.run(
        [str(Path(sys.executable).parent / "ivrel"), "correct", "-w", work, *ON, "--as", "patch"],
        capture_output=True,
        check=False,
    )
    assert done.returncode == 1 and b"key-of-the-house" not in done.stdout + done.stderr
    told = done.stderr.decode()
    left = {line.split()[2] for line in told.splitlines() if "is not in it" in line}
    # No diff changes what is packed.
    assert left == {"kelby-sw1"} and "is packed" in told
    assert "git apply)" in told and "written as Git deltas" in told
    assert b"key-of-the-house" not in deltas_of(done.stdout)
    git_apply(work, done.stdout)
    after = json.loads(ivrel("audit", "-w", work, *ON, "--format", "json", code=1).stdout)
    bad = {d["device"] for d in after["devices"] for v in d["verdicts"] if v["verdict"] == "breaks"}
    assert bad == left
    git_apply(work, done.stdout, "-R")
    assert files_of(work) == before


@pytest.mark.parametrize(
    "secret", ["hunter22", "_hunter22", "\u043f\u0430\u0440\u043e\u043b\u044c"]
)
def test_every_word_that_a_delta_puts_in_is_told(secret: str) -> None:
    old, new = f"key {secret} on\n".encode(), b"key off\n"
    for before, after in ((old, new), (new, old)):
        assert words_put_in(before, after) == {secret.encode(), b"on", b"off"}


def deltas_of(text: bytes) -> bytes:
    """What the deltas of a patch hold."""
    out, packed = b"", b""
    for line in text.split(b"\n"):
        if line.startswith(b"delta "):
            packed = b" "
        elif packed and line:
            length = line[0] - (64 if line[0] <= ord("Z") else 70)
            packed += base64.b85decode(line[1:])[:length]
        elif packed:
            out, packed = out + zlib.decompress(packed[1:]), b""
    return out


@NO_GIT
@tried(40)
@given(
    words=st.lists(st.sampled_from(["level", "key k1", "error", "=", "\n", "a b"]), max_size=40),
    at=st.integers(0, 40),
    long=st.sampled_from([0, 70_000]),
    name=st.sampled_from(["x.conf", "a b/x y.conf", 'q"1']),
)
def test_a_delta_changes_a_file_and_back_and_holds_only_what_changes(
    words: list[str], at: int, long: int, name: str, tmp_path_factory: pytest.TempPathFactory
) -> None:
    head = ["x" * long, "secret-of-the-house"]
    old = " ".join([*head, *words]).encode() + b"\n"
    new = " ".join([*head, *words[:at], "new", *words[at:]]).encode()
    folder = tmp_path_factory.mktemp("git")
    path = folder / name
    path.parent.mkdir(exist_ok=True)
    path.write_bytes(old)
    delta = git_delta(git_name(name), old, new)
    git_apply(folder, delta)
    assert path.read_bytes() == new
    git_apply(folder, delta, "-R")
    assert path.read_bytes() == old
    assert b"house" not in deltas_of(delta)


def test_files_are_corrected_in_place_and_restored(
    example: Path, tmp_path: Path, ivrel: Run
) -> None:
    work = tmp_path / "work"
    shutil.copytree(example, work)
    configs = work / "configs"
    for name, form in (
        ("kelby-sw1", lambda data: gzip.compress(data)),
        ("tarsk-sw1", lambda data: b"\xef\xbb\xbf" + data),
        ("brannay-sw1", lambda data: data.decode().encode("utf-16")),
    ):
        path = configs / f"{name}.conf"
        path.write_bytes(form(path.read_bytes()))
    (configs / "tarsk-gw1.conf").chmod(0o600)
    shutil.move(configs / "tarsk-fw2.conf", tmp_path / "elsewhere")
    (configs / "tarsk-fw2.conf").symlink_to(tmp_path / "elsewhere")
    before = files_of(work)
    said = ivrel("correct", "-w", work, *ON, "--in-place", code=0).stdout
    assert "written into the configurations" in said and "--undo" in said
    now = files_of(work)
    assert len({n for n in {**before, **now} if before.get(n) != now.get(n)}) >= 34
    assert all(now[name][1] == rights for name, (_, rights) in before.items())
    assert now["configs/kelby-sw1.conf"][0][:2] == b"\x1f\x8b"
    assert now["configs/tarsk-sw1.conf"][0][:3] == b"\xef\xbb\xbf"
    assert now["configs/brannay-sw1.conf"][0][:2] in (b"\xff\xfe", b"\xfe\xff")
    assert (configs / "tarsk-fw2.conf").is_symlink()
    kept = [p for p in (work / ".ivrel").rglob("*") if p.is_file() and p.name.isdigit()]
    assert kept and all(stat.S_IMODE(p.stat().st_mode) == 0o600 for p in kept)
    after = json.loads(ivrel("audit", "-w", work, *ON, "--format", "json").stdout)
    assert after["totals"]["breaks"] == 0
    assert "nothing to correct" in ivrel("correct", "-w", work, *ON, "--in-place", code=0).stdout
    # What was changed since is not overwritten, and then nothing is.
    (configs / "tarsk-gw1.conf").write_text("other\n")
    told = ivrel("correct", "-w", work, "--undo", code=2).stderr
    assert "configs/tarsk-gw1.conf: was changed since" in told and told.count("\n") == 1
    (configs / "tarsk-gw1.conf").write_bytes(now["configs/tarsk-gw1.conf"][0])
    assert files_of(work) == now
    told = ivrel("correct", "-w", work, "--undo", code=0).stdout
    assert told.count(" is as it was") >= 34 and files_of(work) == before
    assert "nothing to take back" in ivrel("correct", "-w", work, "--undo", code=2).stderr


def test_what_fails_on_the_way_can_be_taken_back(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    names = ("a", "b", "c")
    for name in names:
        (tmp_path / name).write_text(name)
    put, calls = in_place._put, []

    def failing(path: Path, data: bytes | None) -> None:
        calls.append(path)
        if len(calls) == 3:
            raise InputError("no space left on device")
        put(path, data)

    monkeypatch.setattr(in_place, "_put", failing)
    with pytest.raises(InputError), in_place.Replacing(tmp_path) as replacing:
        for name in names:
            replacing.add(Original(name, name.encode(), b"new"))
        replacing.add(Original("d", None, b"new"))
        replacing.replace_all()
    assert [(tmp_path / name).read_text() for name in names] == ["new", "new", "c"]
    monkeypatch.setattr(in_place, "_put", put)
    assert in_place.undo(tmp_path) == ["a", "b"]
    assert [(tmp_path / name).read_text() for name in names] == list(names)
    # One that is left before it begins to replace leaves nothing; neither does a changed file.
    with pytest.raises(KeyboardInterrupt), in_place.Replacing(tmp_path) as replacing:
        replacing.add(Original("a", b"a", b"new"))
        raise KeyboardInterrupt
    with pytest.raises(InputError, match="changed meanwhile"), in_place.Replacing(tmp_path) as one:
        one.add(Original("a", b"a", b"new"))
        (tmp_path / "a").write_text("meanwhile")
        one.replace_all()
    assert (tmp_path / "a").read_text() == "meanwhile"
    with pytest.raises(InputError, match="nothing to take back"):
        in_place.undo(tmp_path)
    with (
        in_place.Replacing(tmp_path),
        pytest.raises(InputError, match="another call is writing"),
        in_place.Replacing(tmp_path),
    ):
        pass


def test_forms_that_exclude_each_other_are_refused(example: Path, ivrel: Run) -> None:
    for words, said in (
        (("--as", "patch", "--in-place"), "not allowed with argument"),
        (("--as", "patch", "tarsk-sw1", "--text", example / "fleet.yaml"), "--text gives a text"),
        (("--undo", "-o", "x"), "not allowed with argument"),
    ):
        assert said in ivrel("correct", "-w", example, *words, code=2).stderr
