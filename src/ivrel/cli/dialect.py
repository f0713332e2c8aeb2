"""`ivrel dialect`: the dialects that there are, and changes applied as their platforms would."""

from __future__ import annotations

import argparse
import sys
from collections.abc import Callable, Iterable, Iterator
from pathlib import Path
from typing import TYPE_CHECKING

from ivrel.cli import common, dialog, learning
from ivrel.cli.parsing import Parser

if TYPE_CHECKING:
    from ivrel.core.fleet import Device
    from ivrel.sources.workspace import Workspace

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
    common.format_argument(one, "table", "json", "jsonl", "csv")
    one.add_argument("--all", action="store_true", help="list everything that is not known")


def _of_new(one: Parser) -> None:
    from ivrel.core.shapes import SHAPES

    shapes = [name for name, row in SHAPES.items() if row.draft]
    shape = "how its text falls into statements"
    one.add_argument("name", help="the name of the new dialect")
    one.add_argument("--shape", required=True, choices=shapes, help=shape)
    sample = "a configuration of the platform"
    one.add_argument("--sample", required=True, metavar="FILE", help=sample)


def _of_apply(one: Parser) -> None:
    one.add_argument("platform", help="the name of a dialect")
    one.add_argument("configuration", help="the file of a configuration")
    one.add_argument("change", help="the file of a change")
    there = "write the new text (of a folder, the folder) there"
    one.add_argument("-o", "--output", metavar="PATH", help=there)


def run_list(args: argparse.Namespace) -> int:
    """List the dialects."""
    from ivrel.output.views.dialects import DialectsView
    from ivrel.sources.dialects import Dialects

    common.show(DialectsView(dialects=tuple(Dialects(Path(args.workspace)))), args)
    return 0


def run_show(args: argparse.Namespace) -> int:
    """Show what a platform can say."""
    from ivrel.core.authoring.abilities import abilities
    from ivrel.output.views.dialects import DialectView
    from ivrel.sources.dialects import Dialects

    dialect = Dialects(Path(args.workspace))[args.name]
    further = f"ivrel dialect check {dialect.name}"
    view = DialectView(dialect=dialect, abilities=tuple(abilities(dialect)), next=(further,))
    common.show(view, args)
    return 0


def run_check(args: argparse.Namespace) -> int:
    """Run the examples of a dialect; exit code 1 if anything is wrong."""
    from ivrel.core.authoring.check import check_dialect, missing_defaults
    from ivrel.sources.dialects import Dialects

    dialect = Dialects(Path(args.workspace))[args.name]
    mistakes = check_dialect(dialect)
    for mistake in mistakes:
        print(mistake)
    lacking = missing_defaults(dialect)
    for line, slot in lacking:
        print(f"{dialect.file}:{line}: {slot} has no default", file=sys.stderr)
    if lacking:
        print(
            "Where a text leaves one of these out, its setting is unknown. State its default under"
            " 'defaults',\nor name it under 'unset' if nothing holds then.",
            file=sys.stderr,
        )
    if mistakes:
        return 1
    statements, examples = dialect.statements, len(dialect.examples)
    print(f"{dialect.name}: {statements} statements, {examples} examples, right in both directions")
    return 0


def run_try(args: argparse.Namespace) -> int:
    """Show how a text is understood; exit code 1 if a line is not."""
    from ivrel.core.reading.matcher import matcher
    from ivrel.core.reading.reader import explained
    from ivrel.core.reading.recognising import looks_like
    from ivrel.core.reading.records import read_records
    from ivrel.core.reading.statements import Unparsed
    from ivrel.core.settings import Scope
    from ivrel.core.settings.relevance import facts_in_doubt
    from ivrel.core.text.bundle import Places
    from ivrel.core.text.text import Text
    from ivrel.core.vocabulary.errors import Foreign, Unreadable
    from ivrel.output.views.dialects import TrialView
    from ivrel.sources.dialects import Dialects
    from ivrel.sources.files import read_configuration

    dialects = Dialects(Path(args.workspace))
    dialect, data = dialects[args.name], read_configuration(Path(args.file), args.file)
    text = Text(data)
    try:
        facts = facts_in_doubt(Scope(None, read_records(dialect, text), {}))
        # Some shapes give statements in another order than that of the lines.
        every = sorted(explained(matcher(dialect), text), key=lambda row: row[0])
        rows = [row for row in every if not _only_names(row[2])]
    except Foreign as problem:
        alike = looks_like(text, dialects)
        raise Unreadable(
            f"{args.file}: {problem}{f'; this looks like {alike}' if alike else ''}"
        ) from None
    except Unreadable as problem:
        raise Unreadable(f"{args.file}: {problem}") from None
    places = Places(data, args.file if args.format == "json" else "")
    view = TrialView(
        dialect=dialect,
        file=args.file,
        places=places,
        rows=tuple(rows),
        facts=tuple(facts),
        passed_over=max(data.count(b"\n") - len(rows), 0),
        every=args.all,
        next=(f"ivrel dialect check {dialect.name}",),
    )
    common.show(view, args)
    return 1 if any(isinstance(match, Unparsed) for _, _, match in rows) else 0


ROWS_SHOWN = 20  # of what is not known, unless all is asked for


def run_cover(args: argparse.Namespace) -> int:
    """Show how well a dialect knows configurations; exit code 1 if it does not know a statement."""
    from ivrel.core.authoring.cover import cover
    from ivrel.core.vocabulary.errors import InputError
    from ivrel.output.views.dialects import CoverView
    from ivrel.sources.dialects import Dialects

    if args.file:
        dialect = Dialects(Path(args.workspace))[args.name]
        number, texts = len(args.file), _of_files(args.file)
    else:
        workspace = common.open_workspace(args)
        dialect = workspace.dialects[args.name]
        devices = [d for d in workspace.fleet.devices if d.platform == args.name]
        if not devices:
            raise InputError(f"no device of the fleet is of platform '{args.name}'; name files")
        number, texts = len(devices), _of_devices(workspace, devices)
    found = cover(dialect, common.progress(texts, number, "reading"))
    worst, where = found.texts[:1], common.workspace_words(args)
    further = f"ivrel dialect check{where} {dialect.name}"
    if worst and worst[0].strange:
        here = args.file or args.workspace == "."
        path = worst[0].name if here else Path(args.workspace) / worst[0].name
        further = f"ivrel dialect try{where} {dialect.name} {path}"
    most = 0 if args.all else ROWS_SHOWN
    common.show(CoverView(dialect=dialect, cover=found, most=most, next=(further,)), args)
    if not found.texts:
        return 2
    return 1 if found.strange or found.unread else 0


def _of_files(files: Iterable[str]) -> Iterator[tuple[str, bytes | str]]:
    """Yield what each file is called, and its bytes, or why there are none."""
    from ivrel.core.vocabulary.errors import Unreadable
    from ivrel.sources.files import read_configuration

    for name in files:
        try:
            yield name, read_configuration(Path(name), name)
        except Unreadable as problem:
            yield name, str(problem).removeprefix(f"{name}: ")


def _of_devices(
    workspace: Workspace, devices: Iterable[Device]
) -> Iterator[tuple[str, bytes | str]]:
    """Yield the configurations of devices in the same way."""
    from ivrel.core.vocabulary.errors import Unreadable

    for device in devices:
        try:
            data, file = workspace.text(device)
            yield file, data
        except Unreadable as problem:
            yield device.name, str(problem)


def _only_names(match: object) -> bool:
    """Whether a statement says nothing but in which row it stands: it concerns no export
    setting.
    """
    from ivrel.core.reading.statements import Understood

    return isinstance(match, Understood) and match.pattern < 0


def run_new(args: argparse.Namespace) -> int:
    """Write the file of a new dialect."""
    from ivrel.core.authoring.draft import (
        comment_sign,
        draft_dialect,
        fitting_shapes,
        telling_lines,
    )
    from ivrel.sources.files import read_bytes, write_text

    target = learning.new_file(args)
    sample = read_bytes(Path(args.sample), args.sample).decode("utf-8", "replace")
    lines = telling_lines(sample)
    text = draft_dialect(args.name, args.shape, lines, Path(args.sample).name, comment_sign(sample))
    write_text(target, text)
    where = common.workspace_words(args)
    print(f"wrote {target}, with {len(lines)} lines of the sample that look like export settings")
    fitting = fitting_shapes(sample)
    if fitting and args.shape not in fitting:
        print(
            f"the sample does not look like the shape {args.shape}; more like "
            f"{' or '.join(fitting)}"
        )
    print(f"next  edit it; then ivrel dialect try{where} {args.name} {args.sample}")
    return 0


def run_apply(args: argparse.Namespace) -> int:
    """Print or write the text after a change."""
    from ivrel.core.correcting.changes import apply_change, unknown_lines
    from ivrel.core.text.bundle import MARK
    from ivrel.core.vocabulary.errors import InputError
    from ivrel.sources.dialects import Dialects
    from ivrel.sources.files import read_configuration, read_text, write_configuration

    dialect = Dialects(Path(args.workspace))[args.platform]
    data = read_configuration(Path(args.configuration), args.configuration)
    change = read_text(Path(args.change), args.change)
    after = apply_change(dialect, data, change, args.change)
    for line, text in unknown_lines(dialect, change, args.change):
        print(
            f"ivrel: {args.change}:{line}: {dialect.name} does not know '{text}'; it is taken as "
            "it is",
            file=sys.stderr,
        )
    if args.output:
        write_configuration(Path(args.output), after, data)
    elif after.startswith(MARK):
        raise InputError("this configuration is a folder; give -o DIR to write what it becomes")
    else:
        sys.stdout.buffer.write(after)
    return 0
