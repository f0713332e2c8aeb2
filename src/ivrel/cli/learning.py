"""`ivrel dialect learn NAME SAMPLE…`: a dialect from saved configurations."""

from __future__ import annotations

import argparse
import sys
from collections.abc import Callable, Iterable, Iterator, Sequence
from hashlib import sha256
from itertools import chain
from pathlib import Path
from typing import TYPE_CHECKING

from ivrel.cli import common
from ivrel.cli.parsing import Parser

if TYPE_CHECKING:
    from ivrel.core.authoring.learning.answers import UserAnswers
    from ivrel.core.authoring.learning.changes import PastChange
    from ivrel.core.authoring.learning.cutting import Sample
    from ivrel.core.authoring.learning.learn import Learned

DOUBTS_SHOWN = 12


def arguments(one: Parser) -> None:
    """Add the arguments of the action."""
    from ivrel.core.shapes import SHAPES

    one.add_argument("name", help="the name of the new dialect")
    one.add_argument("sample", nargs="+", help="configurations, or folders of them; '-' is stdin")
    shapes = [name for name, row in SHAPES.items() if row.draft]
    shape = "how their text falls into statements (default: found out)"
    one.add_argument("--shape", choices=shapes, default="", help=shape)
    more = "improve the dialect of this name: what is new is proposed at the end of its file"
    one.add_argument("--more", action="store_true", help=more)
    answers = "what no sample can tell, as YAML; docs/write-a-dialect.md lists the keys"
    one.add_argument("--answers", metavar="FILE", help=answers)
    ask = "ask what is in doubt, on the terminal; it can be left, and taken up again"
    one.add_argument("--ask", action="store_true", help=ask)
    one.add_argument(
        "--change",
        nargs=3,
        action="append",
        default=[],
        metavar=("BEFORE", "AFTER", "CHANGE"),
        help="a change made once before, to learn how statements are removed; can be repeated",
    )


def run(args: argparse.Namespace) -> int:
    """Learn a dialect from samples, and write its file."""
    from msgspec.structs import replace

    from ivrel.core.authoring.learning.answers import UserAnswers, read_answers, write_answers
    from ivrel.core.authoring.learning.changes import from_changes
    from ivrel.core.authoring.learning.examples import examples_of
    from ivrel.core.authoring.learning.learn import learn
    from ivrel.core.authoring.learning.written import written
    from ivrel.core.dialects.load import read_dialect
    from ivrel.core.vocabulary.errors import InputError
    from ivrel.core.vocabulary.wording import shorten
    from ivrel.sources.files import read_text, write_text

    if args.more:
        return _more(args)
    saved = Path(args.workspace) / ".ivrel" / "answers" / f"{args.name}.yaml"
    if args.ask and not (sys.stdin.isatty() and sys.stdout.isatty()):
        said = "--ask asks on a terminal, and this is none; --answers FILE takes answers"
        raise InputError(said)
    begun = args.ask and saved.exists()
    target = _same_file(args, saved) if begun else new_file(args)
    file = args.answers or (str(saved) if begun else "")
    answers = read_answers(read_text(Path(file), file), file) if file else UserAnswers()
    (collectors, identities), samples = _known(args), list(_samples(args.sample))

    def learned(answers: UserAnswers) -> Learned:
        """Learn with these answers, and write the file."""
        found = learn(args.name, samples, collectors, identities, args.shape, answers)
        if args.change:
            found = replace(found, answers=from_changes(found, list(_changes(args.change))))
        text = written(found)
        # What is written can be read, or nothing is.
        examples = examples_of(found, read_dialect(text, target.name), samples)
        write_text(target, f"{text}\n{examples}" if examples else text)
        return found

    found = learned(answers)
    if args.ask:
        for one in chain([found], _asked(found, learned)):
            found = one
            write_text(saved, f"# {_print(target)}\n{write_answers(found.answers)}")
    where = common.workspace_words(args)
    print(f"wrote {target}")
    print(f"  shape      {found.shape}: {found.why}")
    print(f"  parts      {', '.join(found.parts)}")
    print(f"  statements {len(found.known)} understood, {len(found.doubtful)} in doubt")
    for row in found.doubtful[:DOUBTS_SHOWN]:
        print(f"    {row.template.said[0].place}  {row.meaning.doubt}")
    for words in found.unused:
        print(f"  not used   the answer to '{shorten(words)}': no statement has these words")
    for what in _to_tell(found):
        print(f"  to tell    {what}")
    first = Path(args.sample[0])
    first = first / samples[0].name if first.is_dir() else first
    print(f"next  read it; then ivrel dialect try{where} {args.name} {first}")
    return 0


def _print(target: Path) -> str:
    """Return what tells the file of a dialect from any other."""
    return f"{target.name} {sha256(target.read_bytes()).hexdigest()}"


def _same_file(args: argparse.Namespace, saved: Path) -> Path:
    """Return the file of a dialect that is asked about again; InputError if somebody changed it."""
    from ivrel.core.vocabulary.errors import InputError, Mistake
    from ivrel.sources.files import read_text

    target = dialect_file(args)
    first = read_text(saved, str(saved)).partition("\n")[0].removeprefix("# ")
    if target.exists() and first != _print(target):
        said = "was changed since it was asked about; it is not written over"
        raise InputError([Mistake(str(target), said)])
    return target


def _asked(found: Learned, learned: Callable[[UserAnswers], Learned]) -> Iterator[Learned]:
    """Ask what is in doubt; yield what is learned after each answer."""
    from ivrel.core.authoring.learning.questions import questions, with_answer
    from ivrel.core.vocabulary.errors import InputError

    passed: set[tuple[str, str]] = set()
    while True:
        open_ones = [q for q in questions(found) if q.about not in passed]
        if not open_ones:
            return
        question = open_ones[0]
        print()
        if question.line:
            print(f"  {question.place}  {question.line}")
        print(f"  {question.text}")
        for n, choice in enumerate(question.choices, 1):
            print(f"    {n}  {choice.words}")
        hint = f"1 to {len(question.choices)}" if question.choices else "a word"
        try:
            said = input(f"  {hint}, Enter to pass, q to leave ({len(open_ones)} open): ").strip()
        except EOFError:
            return
        if said == "q":
            return
        if not said:
            passed.add(question.about)
            continue
        if question.choices and said.isdigit() and 0 < int(said) <= len(question.choices):
            said = question.choices[int(said) - 1].answer
        try:
            found = learned(with_answer(found.answers, question, said))
        except ValueError:
            print(f"  '{said[:40]}' is not an answer to that")
            continue
        except InputError as problem:
            print(f"  {problem}")
            continue
        yield found


def _more(args: argparse.Namespace) -> int:
    """Propose what samples teach that a dialect does not know; nothing that stands is changed."""
    from ivrel.core.authoring.learning.cutting import LEARNED
    from ivrel.core.authoring.learning.learn import learn
    from ivrel.core.authoring.learning.proposals import commented, proposals
    from ivrel.core.vocabulary.errors import InputError
    from ivrel.sources.dialects import Dialects
    from ivrel.sources.files import read_text, write_text

    if args.shape or args.answers or args.change:
        raise InputError("--more takes the dialect as it stands; leave out what describes it anew")
    target = dialect_file(args)
    dialect = Dialects(Path(args.workspace))[args.name]
    if not target.exists():
        raise InputError(f"'{args.name}' is not a dialect of this workspace; expected {target}")
    if dialect.shape_name not in LEARNED:
        raise InputError(f"a dialect of the shape {dialect.shape_name} cannot be improved so")
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


def _changes(named: Iterable[Sequence[str]]) -> Iterator[PastChange]:
    """Yield the changes that a call names."""
    from ivrel.core.authoring.learning.changes import PastChange
    from ivrel.sources.files import read_bytes, read_text

    for before, after, typed in named:
        old, new = (read_bytes(Path(name), name) for name in (before, after))
        yield PastChange(typed, old, new, read_text(Path(typed), typed))


def _to_tell(found: Learned) -> Iterator[str]:
    """Yield what no sample tells, and nobody answered."""
    if found.lacks_word:
        yield "which word takes a statement away; until then, no correction is proved that does"
    if found.lacks_block:
        yield "in which block a change stands; until then, no correction is proved"
    if not found.answers.defaults:
        yield "what holds where a text says nothing: whether export is on, ports, levels"
    if any(slot.endswith("level") for row in found.known for slot in row.slots):
        yield "whether a severity is a threshold, as it was taken for, or stands for itself"


def dialect_file(args: argparse.Namespace) -> Path:
    """Return the file of a dialect of the workspace; InputError if the name is none."""
    from ivrel.core.vocabulary.errors import InputError

    if not args.name.replace("-", "").isalnum() or not args.name.islower():
        raise InputError(
            f"'{args.name}' is not a name for a dialect; expected small letters, digits and '-'"
        )
    return Path(args.workspace) / "dialects" / f"{args.name}.yaml"


def new_file(args: argparse.Namespace) -> Path:
    """Return the file of a new dialect; InputError if it is there already."""
    from ivrel.core.vocabulary.errors import InputError, Mistake

    target = dialect_file(args)
    if target.exists():
        raise InputError([Mistake(str(target), "is already there; it is not written over")])
    return target


def _known(args: argparse.Namespace) -> tuple[list[str], list[str]]:
    """Return the addresses of collectors and of devices that the workspace knows."""
    from ivrel.core.fleet import read_fleet
    from ivrel.sources.files import read_text

    folder = Path(args.workspace)
    found = [name for name in ("fleet.yaml", "fleet.csv") if (folder / name).exists()]
    if not found:
        return [], []
    workspace = common.open_workspace(args)
    collectors = workspace.policy.collectors.values() if workspace.has_policy else ()
    # The fleet may name platforms already that are learned only now, or after this one.
    fleet = read_fleet(read_text(folder / found[0], found[0]), found[0])
    return (
        [c.address for c in collectors if c.address],
        [d.identity for d in fleet.devices if d.identity],
    )


def _samples(names: Iterable[str]) -> Iterator[Sample]:
    """Yield the samples of a call; the files of a folder are one each."""
    from ivrel.core.authoring.learning.cutting import Sample
    from ivrel.sources.files import read_bytes, read_stdin

    for name in names:
        if name == "-":
            yield Sample("standard input", read_stdin("standard input"))
        elif Path(name).is_dir():
            for path in sorted(p for p in Path(name).iterdir() if p.is_file()):
                yield Sample(path.name, read_bytes(path, str(path)))
        else:
            yield Sample(Path(name).name, read_bytes(Path(name), name))
