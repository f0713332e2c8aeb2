"""`ivrel dialect learn NAME SAMPLE…`: a dialect from saved configurations."""

from __future__ import annotations

import argparse
import sys
from pathlib import Path
from typing import TYPE_CHECKING

from ivrel.cli import common
from ivrel.cli.parsing import Parser

if TYPE_CHECKING:
    from ivrel.work.learning import Learning, LearnOptions, Question

DOUBTS_SHOWN = 12


def arguments(one: Parser) -> None:
    """Add the arguments of the action."""
    from ivrel.work.shape_names import SHAPES_TO_LEARN

    one.add_argument("name", help="the name of the new dialect")
    one.add_argument("sample", nargs="+", help="configurations, or folders of them; '-' is stdin")
    shape = "how their text falls into statements (default: found out)"
    one.add_argument("--shape", choices=SHAPES_TO_LEARN, default="", help=shape)
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
    from ivrel.core.vocabulary.errors import InputError
    from ivrel.work.learning import Learning, LearnOptions

    if args.ask and not (sys.stdin.isatty() and sys.stdout.isatty()):
        said = "--ask asks on a terminal, and this is none; --answers FILE takes answers"
        raise InputError(said)
    if args.more and (args.shape or args.answers or args.change):
        raise InputError(
            "--more keeps the dialect as it is; leave out the options that describe it"
        )
    learning = Learning(Path(args.workspace), args.name, args.sample)
    if args.more:
        return _more(args, learning)
    changes = tuple((before, after, change) for before, after, change in args.change)
    return _learn(args, learning, LearnOptions(args.shape, args.answers or "", changes))


def _learn(args: argparse.Namespace, learning: Learning, options: LearnOptions) -> int:
    from ivrel.core.vocabulary.wording import shorten

    result = learning.learn(options, _ask if args.ask else None)
    found = result.learned
    print(f"wrote {result.file}")
    print(f"  shape      {found.shape}: {found.why}")
    print(f"  parts      {', '.join(found.parts)}")
    print(f"  statements {len(found.known)} understood, {len(found.doubtful)} in doubt")
    for row in found.doubtful[:DOUBTS_SHOWN]:
        print(f"    {row.template.said[0].place}  {row.meaning.doubt}")
    for words in found.unused:
        print(f"  not used   the answer to '{shorten(words)}': no statement has these words")
    for point in result.open_points:
        print(f"  to tell    {point}")
    where = common.workspace_words(args)
    print(f"next  read it; then ivrel dialect try{where} {args.name} {result.first}")
    return 0


def _more(args: argparse.Namespace, learning: Learning) -> int:
    """Propose what samples show that a dialect does not know; nothing in it is changed."""
    found = learning.improve()
    for one in found.proposals:
        print(f"  {one.part:10} {one.line}")
        print(f"             {one.why} ({one.place})")
    if not found.proposals:
        print(f"nothing that {args.name} does not know already, or that is sure")
        return 0
    where = common.workspace_words(args)
    number = len(found.proposals)
    print(f"proposed {number} at the end of {found.file}; nothing that stood is changed")
    print(f"next  put in place what is true; then ivrel dialect cover{where} {args.name}")
    return 0


def _ask(question: Question, left: int, problem: str) -> str | None:
    """Ask a question on the terminal; return the answer, '' to pass it, None to stop."""
    if problem:
        print(f"  {problem}")
    print()
    if question.line:
        print(f"  {question.place}  {question.line}")
    print(f"  {question.text}")
    for n, choice in enumerate(question.choices, 1):
        print(f"    {n}  {choice.words}")
    hint = f"1 to {len(question.choices)}" if question.choices else "a word"
    try:
        said = input(f"  {hint}, Enter to pass, q to leave ({left} open): ").strip()
    except EOFError:
        return None
    if said == "q":
        return None
    if question.choices and said.isdigit() and 0 < int(said) <= len(question.choices):
        return question.choices[int(said) - 1].answer
    return said
