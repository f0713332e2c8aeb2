"""`ivrel dialect`: the dialects that there are, and changes applied as their platforms would."""

from __future__ import annotations

import argparse
import sys
from collections.abc import Callable
from pathlib import Path

from ivrel.cli import common, dialog, learning
from ivrel.cli.parsing import Parser
from ivrel.output.machine.formats import ROWS

_Row = tuple[str, str, Callable[[Parser], None], Callable[[argparse.Namespace], int], str]


def arguments(parser: Parser) -> None:
    """Add the arguments of the command."""
    actions = parser.add_subparsers(dest="action", metavar="ACTION", required=True)
    for name, about, add, run, examples in _actions():
        one: Parser = actions.add_parser(
            name,
            help=about,
            description=about,
            formatter_class=argparse.RawDescriptionHelpFormatter,
        )
        common.workspace_argument(one)
        common.example(one, examples)
        add(one)
        one.set_defaults(run=run)
    common.example(parser, "ivrel dialect list", "ivrel dialect show marl", _APPLY)


_APPLY = "ivrel dialect apply quern configs/holmsay-gw1.conf corrections/holmsay-gw1/change.txt"


def _actions() -> tuple[_Row, ...]:
    """Return the actions: name, what it does, its arguments, what runs it, an example."""
    show = "what a platform can say and what it cannot"
    check = "run a dialect's examples both ways, and find what is ambiguous"
    try_ = "a text line by line, with what each was understood as"
    cover = "how well a dialect knows the configurations of a fleet, and what it lacks"
    learn = "write a dialect of your own from saved configurations, as far as they teach it"
    new = "start a dialect of your own in the workspace, from a sample of its text"
    session = "talk to a device through Ivrel, and learn the `session:` of its dialect from that"
    apply = "apply a change to a configuration as the platform would, and print the new text"
    sample = "ivrel dialect new ours --shape blocks --sample saved.conf"
    return (
        ("list", "the dialects that there are", _of_list, run_list, "ivrel dialect list"),
        ("show", show, _of_show, run_show, "ivrel dialect show marl"),
        ("check", check, _of_check, run_check, "ivrel dialect check marl"),
        ("try", try_, _of_try, run_try, "ivrel dialect try marl saved.conf"),
        ("cover", cover, _of_cover, run_cover, "ivrel dialect cover marl"),
        ("learn", learn, learning.arguments, learning.run, "ivrel dialect learn ours saved/*.conf"),
        ("session", session, dialog.arguments, dialog.run, dialog.EXAMPLE),
        ("new", new, _of_new, run_new, sample),
        ("apply", apply, _of_apply, run_apply, _APPLY),
    )


def _of_list(one: Parser) -> None:
    common.format_argument(one)


def _of_check(one: Parser) -> None:
    one.add_argument("name", help="the name of a dialect")


def _of_show(one: Parser) -> None:
    _of_check(one)
    common.format_argument(one)


def _of_try(one: Parser) -> None:
    _of_show(one)
    one.add_argument("file", help="the file or the folder of a configuration")
    one.add_argument("--all", action="store_true", help="show every line, even of many interfaces")


def _of_cover(one: Parser) -> None:
    one.add_argument("name", help="the name of a dialect")
    files = "configurations (default: those of the fleet's devices of this platform)"
    one.add_argument("file", nargs="*", help=files)
    common.format_argument(one, ROWS)
    one.add_argument("--all", action="store_true", help="list everything that is not known")


def _of_new(one: Parser) -> None:
    from ivrel.work.shape_names import SHAPES_TO_LEARN

    shape = "how its text falls into statements"
    one.add_argument("name", help="the name of the new dialect")
    one.add_argument("--shape", required=True, choices=SHAPES_TO_LEARN, help=shape)
    sample = "a configuration of the platform"
    one.add_argument("--sample", required=True, metavar="FILE", help=sample)


def _of_apply(one: Parser) -> None:
    one.add_argument("platform", help="the name of a dialect")
    one.add_argument("configuration", help="the file of a configuration")
    one.add_argument("change", help="the file of a change")
    there = "write the new text (of a folder, the folder) there"
    one.add_argument("-o", "--output", metavar="PATH", help=there)


ROWS_SHOWN = 20  # of what is not known, unless all is asked for


def run_list(args: argparse.Namespace) -> int:
    """List the dialects."""
    from ivrel.output.views.dialects import DialectsView
    from ivrel.work.dialects import dialects

    common.show(DialectsView(dialects=dialects(Path(args.workspace))), args)
    return 0


def run_show(args: argparse.Namespace) -> int:
    """Show what a platform can express."""
    from ivrel.output.views.dialects import DialectView
    from ivrel.work.dialects import dialect_abilities

    dialect, abilities = dialect_abilities(Path(args.workspace), args.name)
    further = f"ivrel dialect check {dialect.name}"
    common.show(DialectView(dialect=dialect, abilities=abilities, next=(further,)), args)
    return 0


def run_check(args: argparse.Namespace) -> int:
    """Run the examples of a dialect; exit code 1 if anything is wrong."""
    from ivrel.work.dialects import checked_dialect

    found = checked_dialect(Path(args.workspace), args.name)
    dialect = found.dialect
    for mistake in found.mistakes:
        print(mistake)
    for line, slot in found.without_default:
        print(f"{dialect.file}:{line}: {slot} has no default", file=sys.stderr)
    if found.without_default:
        print(
            "Where a text leaves one of these out, its setting is unknown. State its default under"
            " 'defaults',\nor name it under 'unset' if nothing holds then.",
            file=sys.stderr,
        )
    if found.mistakes:
        return 1
    statements = dialect.statements
    examples = len(dialect.examples)
    print(f"{dialect.name}: {statements} statements, {examples} examples, right in both directions")
    return 0


def run_try(args: argparse.Namespace) -> int:
    """Show how a text is understood; exit code 1 if a line is not."""
    from ivrel.output.views.dialects import TrialView
    from ivrel.work.dialects import tried

    found = tried(Path(args.workspace), args.name, args.file)
    view = TrialView(
        dialect=found.dialect,
        file=args.file,
        places=found.places(args.file if args.format == "json" else ""),
        rows=found.rows,
        facts=found.facts,
        passed_over=found.ignored,
        every=args.all,
        next=(f"ivrel dialect check {found.dialect.name}",),
    )
    common.show(view, args)
    return 0 if found.is_understood else 1


def run_cover(args: argparse.Namespace) -> int:
    """Show how well a dialect knows configurations; exit code 1 if it does not know a statement."""
    from ivrel.output.views.dialects import CoverView
    from ivrel.work.dialects import covered

    if args.file:
        found = covered(Path(args.workspace), args.name, given=args.file)
    else:
        workspace = common.open_workspace(args)
        found = covered(workspace.files, args.name, workspace.options)
    cover = found.cover
    where = common.workspace_words(args)
    further = f"ivrel dialect check{where} {args.name}"
    worst = cover.texts[:1]
    if worst and worst[0].strange:
        here = args.file or args.workspace == "."
        path = worst[0].name if here else Path(args.workspace) / worst[0].name
        further = f"ivrel dialect try{where} {args.name} {path}"
    most = 0 if args.all else ROWS_SHOWN
    view = CoverView(dialect=found.dialect, cover=cover, most=most, next=(further,))
    common.show(view, args)
    if not cover.texts:
        return 2
    return 1 if cover.strange or cover.unread else 0


def run_new(args: argparse.Namespace) -> int:
    """Write the file of a new dialect."""
    from ivrel.work.learning import draft

    made = draft(Path(args.workspace), args.name, args.shape, args.sample)
    print(
        f"wrote {made.file}, with {made.lines} lines of the sample that look like export settings"
    )
    if made.fitting and args.shape not in made.fitting:
        print(
            f"the sample does not look like the shape {args.shape}; more like "
            f"{' or '.join(made.fitting)}"
        )
    where = common.workspace_words(args)
    print(f"next  edit it; then ivrel dialect try{where} {args.name} {args.sample}")
    return 0


def run_apply(args: argparse.Namespace) -> int:
    """Print or write the text after a change."""
    from ivrel.core.vocabulary.errors import InputError
    from ivrel.work.dialects import applied

    found = applied(Path(args.workspace), args.platform, args.configuration, args.change)
    for line, text in found.unknown:
        print(
            f"ivrel: {args.change}:{line}: {found.dialect.name} does not know '{text}'; it is "
            "taken as it is",
            file=sys.stderr,
        )
    if args.output:
        found.write(Path(args.output))
    elif found.is_folder:
        raise InputError("this configuration is a folder; give -o DIR to write what it becomes")
    else:
        sys.stdout.buffer.write(found.after)
    return 0
