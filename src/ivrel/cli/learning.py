"""`ivrel dialect learn NAME SAMPLE…`: a dialect from saved configurations."""

from __future__ import annotations

import argparse
from collections.abc import Iterable, Iterator, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from ivrel.cli import common

if TYPE_CHECKING:
    from ivrel.core.authoring.learning.changes import Change
    from ivrel.core.authoring.learning.learn import Learned, Sample

DOUBTS_SHOWN = 12


def arguments(one: argparse.ArgumentParser) -> None:
    """Add the arguments of the action."""
    from ivrel.core.shapes import SHAPES

    one.add_argument("name", help="the name of the new dialect")
    one.add_argument("sample", nargs="+", help="configurations, or folders of them; '-' is stdin")
    shapes = [name for name, row in SHAPES.items() if row.draft]
    shape = "how their text falls into statements (default: found out)"
    one.add_argument("--shape", choices=shapes, default="", help=shape)
    more = "improve the dialect of this name: what is new is proposed at the end of its file"
    one.add_argument("--more", action="store_true", help=more)
    answers = "what no sample can tell, as YAML: about, remove, inside, defaults, most"
    one.add_argument("--answers", metavar="FILE", help=answers)
    one.add_argument(
        "--change",
        nargs=3,
        action="append",
        default=[],
        metavar=("BEFORE", "AFTER", "CHANGE"),
        help="a change that was once made, from which it is learned how statements are taken away; "
        "can be repeated",
    )


def run(args: argparse.Namespace) -> int:
    """Learn a dialect from samples, and write its file."""
    from msgspec.structs import replace

    from ivrel.core.authoring.learning.answers import Answers, read_answers
    from ivrel.core.authoring.learning.changes import from_changes
    from ivrel.core.authoring.learning.examples import examples_of
    from ivrel.core.authoring.learning.learn import LEARNED, learn
    from ivrel.core.authoring.learning.written import written
    from ivrel.core.dialects.load import read_dialect
    from ivrel.core.vocabulary.errors import InputError
    from ivrel.sources.files import read_text, write_text

    if args.shape and args.shape not in LEARNED:
        raise InputError(
            f"--shape: {args.shape} cannot be learned yet; ivrel dialect new starts one"
        )
    if args.more:
        return _more(args)
    target, (collectors, identities) = new_file(args), _known(args)
    samples = list(_samples(args.sample))
    answers = (
        read_answers(read_text(Path(args.answers), args.answers), args.answers)
        if args.answers
        else Answers()
    )
    found = learn(args.name, samples, collectors, identities, args.shape, answers)
    if args.change:
        found = replace(found, answers=from_changes(found, list(_changes(args.change))))
    text = written(found)
    # What is written can be read, or nothing is.
    examples = examples_of(found, read_dialect(text, target.name), samples)
    write_text(target, f"{text}\n{examples}" if examples else text)
    where = common.workspace_words(args)
    print(f"wrote {target}")
    print(f"  shape      {found.shape}: {found.why}")
    print(f"  parts      {', '.join(found.parts)}")
    print(f"  statements {len(found.known)} understood, {len(found.doubtful)} in doubt")
    for row in found.doubtful[:DOUBTS_SHOWN]:
        print(f"    {row.template.said[0].place}  {row.meaning.doubt}")
    for what in _to_tell(found):
        print(f"  to tell    {what}")
    print(f"next  read it; then ivrel dialect try{where} {args.name} {args.sample[0]}")
    return 0


def _more(args: argparse.Namespace) -> int:
    """Propose what samples teach that a dialect does not know; nothing that stands is changed."""
    from ivrel.core.authoring.learning.learn import LEARNED, learn
    from ivrel.core.authoring.learning.proposals import commented, proposals
    from ivrel.core.vocabulary.errors import InputError
    from ivrel.sources.dialects import Dialects
    from ivrel.sources.files import read_text, write_text

    if args.shape or args.answers or args.change:
        raise InputError("--more takes the dialect as it stands; leave out what describes it anew")
    target = Path(args.workspace) / "dialects" / f"{args.name}.yaml"
    dialect = Dialects(Path(args.workspace))[args.name]
    if not target.exists():
        raise InputError(f"'{args.name}' is no dialect of this workspace; expected {target}")
    if dialect.shape_name not in LEARNED:
        raise InputError(f"a dialect of the shape {dialect.shape_name} cannot be improved so yet")
    collectors, identities = _known(args)
    samples = list(_samples(args.sample))
    found = learn(args.name, samples, collectors, identities, dialect.shape_name)
    proposed = proposals(dialect, found)
    for one in proposed:
        print(f"  {one.part:10} {one.line}")
        print(f"             {one.why} ({one.place})")
    where = common.workspace_words(args)
    if not proposed:
        print(f"nothing that {args.name} does not know already, or that is sure")
        return 0
    text = read_text(target, str(target)).rstrip()
    write_text(target, f"{text}\n\n{commented(proposed, [s.name for s in samples])}")
    print(f"proposed {len(proposed)} at the end of {target}; nothing that stood is changed")
    print(f"next  put in place what is true; then ivrel dialect cover{where} {args.name}")
    return 0


def _changes(named: Iterable[Sequence[str]]) -> Iterator[Change]:
    """Yield the changes that a call names."""
    from ivrel.core.authoring.learning.changes import Change
    from ivrel.sources.files import read_bytes, read_text

    for before, after, typed in named:
        old, new = (read_bytes(Path(name), name) for name in (before, after))
        yield Change(typed, old, new, read_text(Path(typed), typed))


def _to_tell(found: Learned) -> Iterator[str]:
    """Yield what no sample tells, and nobody answered."""
    answers = found.answers
    if answers.remove == "?":
        yield "which word takes a statement away; until then, no correction is proved that does"
    if found.shape == "braces" and answers.inside == "?":
        yield "in which block a change stands; until then, no correction is proved"
    if not answers.defaults:
        yield "what holds where a text says nothing: whether export is on, ports, levels"
    if any(slot.endswith("level") for row in found.known for slot in row.slots):
        yield "whether a severity is a threshold, as it was taken for, or stands for itself"


def new_file(args: argparse.Namespace) -> Path:
    """Return the file of a new dialect; InputError if the name is none, or it is there already."""
    from ivrel.core.vocabulary.errors import InputError, Mistake

    if not args.name.replace("-", "").isalnum() or not args.name.islower():
        raise InputError(
            f"'{args.name}' is not a name for a dialect; expected small letters, digits and '-'"
        )
    target = Path(args.workspace) / "dialects" / f"{args.name}.yaml"
    if target.exists():
        raise InputError([Mistake(str(target), "is already there; it is not written over")])
    return target


def _known(args: argparse.Namespace) -> tuple[list[str], list[str]]:
    """Return the addresses of collectors and of devices that the workspace knows."""
    folder = Path(args.workspace)
    if not any((folder / name).exists() for name in ("fleet.yaml", "fleet.csv")):
        return [], []
    workspace = common.open_workspace(args)
    collectors = workspace.policy.collectors.values() if workspace.has_policy else ()
    identities = [d.identity for d in workspace.fleet.devices if d.identity]
    return [c.address for c in collectors if c.address], identities


def _samples(names: Iterable[str]) -> Iterator[Sample]:
    """Yield the samples of a call; the files of a folder are one each."""
    from ivrel.core.authoring.learning.learn import Sample
    from ivrel.sources.files import read_bytes, read_stdin

    for name in names:
        if name == "-":
            yield Sample("standard input", read_stdin("standard input"))
        elif Path(name).is_dir():
            for path in sorted(p for p in Path(name).iterdir() if p.is_file()):
                yield Sample(path.name, read_bytes(path, str(path)))
        else:
            yield Sample(Path(name).name, read_bytes(Path(name), name))
