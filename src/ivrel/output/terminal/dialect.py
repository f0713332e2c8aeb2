"""A dialect on a terminal: what it can say, and how it understands a text line by line."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TypeVar

from rich.console import Console
from rich.table import Table

from ivrel.core.authoring.abilities import unsaid
from ivrel.core.dialects.slots import LAZY
from ivrel.core.reading.statements import Aside, TakenBack, Understood, Undone
from ivrel.core.settings.relevance import bearing
from ivrel.core.vocabulary.wording import counted, shorten
from ivrel.output.terminal.reading import said_by
from ivrel.output.terminal.screen import Cell, line, shown, table
from ivrel.output.views.dialects import CoverView, DialectView, TrialView
from ivrel.output.views.folding import named

R = TypeVar("R")
LOOKED_UP_SHOWN = 6  # lines of interfaces that are shown, unless all are asked for


def draw_dialect(screen: Console, view: DialectView) -> None:
    """Draw what a platform can say and what it cannot."""
    dialect = view.dialect
    rows = view.abilities
    line(screen, (dialect.name, "bold"), f"  {dialect.about}")
    line(
        screen,
        (
            f"shape {dialect.shape_name}, {counted(dialect.statements, 'statement')}, "
            f"{dialect.file}",
            "dim",
        ),
    )
    screen.print()
    grid = table("setting", "slot", "where", "statement", "values", "default")
    last = ""
    for row in rows:
        whole = len(row.values) > 10 and not row.cannot
        values = Cell(f"all {len(row.values)}" if whole else ", ".join(row.values) or "any")
        if row.cannot:
            values.append(f"  (not {', '.join(row.cannot)})", "yellow")
        name = "" if row.setting == last else row.setting
        grid.add_row(
            name,
            row.slot,
            Cell(row.where, "dim"),
            Cell(row.says or "-"),
            values,
            row.default,
        )
        last = row.setting
    shown(screen, grid)
    notes = [
        f"rows of {table_} are told apart by {', '.join(slot.partition('.')[2] for slot in slots)}"
        for table_, slots in dialect.keys.items()
    ]
    notes += [f"has no rows of {table_}" for table_ in dialect.never]
    notes += [f"holds {counted(most, table_)} at most" for table_, most in dialect.limits.items()]
    notes += [f"says nothing of {name}" for name in unsaid(dialect)]
    if dialect.channels:
        notes.append(f"messages leave by channels of their own: {', '.join(dialect.channels)}")
    if notes:
        screen.print()
    for note in notes:
        line(screen, note)


def draw_trial(screen: Console, view: TrialView) -> None:
    """Draw a text line by line, with what each was understood as."""
    dialect = view.dialect
    rows = view.rows
    facts = view.facts
    places = view.places
    line(screen, (view.file, "bold"), (f"  as {dialect.name}", "dim"))
    screen.print()
    grid = table("line", "text", "understood as")
    unparsed = 0
    lookups = [row for row in rows if isinstance(row[2], Understood) and row[2].table in LAZY]
    hidden = [] if view.every else lookups[LOOKED_UP_SHOWN:]
    for number, text, match in rows:
        if (number, text, match) in hidden:
            continue
        if isinstance(match, Aside):
            meaning = Cell("bears on nothing by itself", "dim")
        elif isinstance(match, Understood):
            fields = (*match.named, *match.fields, *match.many)
            meaning = Cell(", ".join(f"{slot} {value}" for slot, value in fields), "green")
        elif isinstance(match, TakenBack):
            meaning = Cell("takes back what stands above", "green")
        elif isinstance(match, Undone):
            meaning = Cell(f"is taken back in line {places(match.by)[1]}", "dim")
        else:
            unparsed += 1
            meaning = Cell(
                f"not understood; may bear on {', '.join(bearing(dialect, match)) or 'nothing'}",
                "bold red",
            )
        name, at = places(number)
        said = Cell(shorten(text, 80), "italic") if text else Cell("(not shown)", "dim")
        grid.add_row(Cell(f"{name}:{at}".lstrip("/:"), "dim"), said, meaning)
    shown(screen, grid)
    if hidden:
        line(
            screen,
            (
                f"and {counted(len(hidden), 'line')} more of interfaces, understood; --all shows "
                "them",
                "dim",
            ),
        )
    line(screen, (f"and {counted(view.passed_over, 'line')} passed over", "dim"))
    screen.print()
    grid = table("setting", "of", "value", "said by")
    for fact in facts:
        grid.add_row(fact.setting, fact.key, Cell(fact.value), said_by(fact))
    shown(screen, grid)
    if unparsed:
        screen.print()
        line(screen, (f"{counted(unparsed, 'line')} not understood", "bold red"))


def draw_cover(screen: Console, view: CoverView) -> None:
    """Draw how well a dialect knows configurations, and what it does not know of them."""
    cover = view.cover
    total = cover.understood + cover.strange
    share = cover.understood / total if total else 0.0
    line(
        screen,
        (view.dialect.name, "bold"),
        f"  {counted(len(cover.texts), 'configuration')}, {cover.understood:,} of {total:,} "
        f"statements of their export parts understood ({share:.1%})",
    )
    if cover.kinds:
        screen.print()
        line(screen, ("not understood", "bold red"))
        grid = table("in", "of them", "inside", "statement, with … for values", "makes unknown")
        _right(grid, 0, 1)
        for kind in _few(cover.kinds, view.most):
            says = Cell(kind.says or "(not shown)", "" if kind.says else "dim")
            inside = Cell(shorten(kind.inside, 40), "dim")
            bears_on = named(kind.bears_on, 5)
            grid.add_row(f"{kind.texts:,}", f"{kind.number:,}", inside, says, bears_on)
            place = Cell(f"{kind.file}:{kind.line}  {shorten(kind.text, 80)}", "dim italic")
            grid.add_row("", "", "", place, "")
        shown(screen, grid, 2)
        _left(screen, cover.kinds, view.most)
    if cover.lacking:
        screen.print()
        line(screen, ("words that the spelling lacks", "bold"))
        grid = table("slot", "word", "times", "for example")
        _right(grid, 2)
        for one in _few(cover.lacking, view.most):
            place = Cell(f"{one.file}:{one.line}", "dim")
            grid.add_row(Cell(one.slot), Cell(shorten(one.word)), f"{one.number:,}", place)
        shown(screen, grid, 2)
        _left(screen, cover.lacking, view.most)
    if cover.passed_over:
        screen.print()
        line(screen, ("passed over", "bold"), "  as having nothing to do with export: is that so?")
        grid = table("begins with", "of them", "in", "for example")
        _right(grid, 1, 2)
        for over in _few(cover.passed_over, view.most):
            place = Cell(f"{over.file}:{over.line}", "dim")
            grid.add_row(Cell(shorten(over.begins)), f"{over.number:,}", f"{over.texts:,}", place)
        shown(screen, grid, 2)
        _left(screen, cover.passed_over, view.most)
    if cover.silent or cover.unused:
        screen.print()
    if cover.silent:
        said = f"of these, no text says anything: {', '.join(cover.silent)}"
        line(screen, said)
    if cover.unused:
        line(screen, f"{counted(len(cover.unused), 'statement')} of the dialect stand in no text:")
        for unused in _few(cover.unused, view.most):
            line(screen, (f"{view.dialect.file}:{unused.line}  ", "dim"), unused.says, indent=2)
        _left(screen, cover.unused, view.most)
    for name, why in cover.unread:
        line(screen, ("not read  ", "yellow"), f"{name}: {why}")


def _few(rows: Sequence[R], most: int) -> Sequence[R]:
    return rows[:most] if most else rows


def _left(screen: Console, rows: Sequence[object], most: int) -> None:
    if most and len(rows) > most:
        line(screen, (f"and {len(rows) - most:,} more; --all shows them", "dim"), indent=2)


def _right(grid: Table, *columns: int) -> None:
    for n in columns:
        grid.columns[n].justify = "right"
