"""A dialect on a terminal: what it can say, and how it understands a text line by line."""

from __future__ import annotations

from rich.console import Console

from ivrel.core.authoring.abilities import unsaid
from ivrel.core.reading.statements import LAZY, Aside, Understood
from ivrel.core.settings.bearing import bearing
from ivrel.core.vocabulary.wording import shorten
from ivrel.output.terminal.screen import Text, count, line, shown, table
from ivrel.output.views.dialects import DialectView, TrialView

LOOKED_UP_SHOWN = 6  # lines of interfaces that are shown, unless all are asked for


def draw_dialect(screen: Console, view: DialectView) -> None:
    """Draw what a platform can say and what it cannot."""
    dialect, rows = view.dialect, view.abilities
    line(screen, (dialect.name, "bold"), f"  {dialect.about}")
    line(
        screen,
        (
            f"shape {dialect.shape_name}, {count(len(dialect.patterns), 'statement')}, "
            f"{dialect.file}",
            "dim",
        ),
    )
    screen.print()
    grid = table("setting", "slot", "where", "statement", "values", "default")
    last = ""
    for row in rows:
        whole = len(row.values) > 10 and not row.cannot
        values = Text(f"all {len(row.values)}" if whole else ", ".join(row.values) or "any")
        if row.cannot:
            values.append(f"  (not {', '.join(row.cannot)})", "yellow")
        name = "" if row.setting == last else row.setting
        grid.add_row(
            name, row.slot, Text(row.where, "dim"), Text(row.says or "-"), values, row.default
        )
        last = row.setting
    shown(screen, grid)
    notes = [
        f"rows of {table_} are told apart by {', '.join(slot.partition('.')[2] for slot in slots)}"
        for table_, slots in dialect.keys.items()
    ]
    notes += [f"has no rows of {table_}" for table_ in dialect.never]
    notes += [f"holds {count(most, table_)} at most" for table_, most in dialect.limits.items()]
    notes += [f"says nothing of {name}" for name in unsaid(dialect)]
    if dialect.channels:
        notes.append(f"messages leave by channels of their own: {', '.join(dialect.channels)}")
    if notes:
        screen.print()
    for note in notes:
        line(screen, note)


def draw_trial(screen: Console, view: TrialView) -> None:
    """Draw a text line by line, with what each was understood as."""
    dialect, rows, facts, places = view.dialect, view.rows, view.facts, view.places
    line(screen, (view.file, "bold"), (f"  as {dialect.name}", "dim"))
    screen.print()
    grid = table("line", "text", "understood as")
    strays = 0
    lookups = [row for row in rows if isinstance(row[2], Understood) and row[2].table in LAZY]
    hidden = [] if view.every else lookups[LOOKED_UP_SHOWN:]
    for number, text, match in rows:
        if (number, text, match) in hidden:
            continue
        if isinstance(match, Aside):
            meaning = Text("bears on nothing by itself", "dim")
        elif isinstance(match, Understood):
            fields = (*match.named, *match.fields, *match.many)
            meaning = Text(", ".join(f"{slot} {value}" for slot, value in fields), "green")
        else:
            strays += 1
            meaning = Text(
                f"not understood; may bear on {', '.join(bearing(dialect, match)) or 'nothing'}",
                "bold red",
            )
        name, at = places(number)
        said = Text(shorten(text, 80), "italic") if text else Text("(not shown)", "dim")
        grid.add_row(Text(f"{name}:{at}".lstrip("/:"), "dim"), said, meaning)
    shown(screen, grid)
    if hidden:
        line(
            screen,
            (
                f"and {count(len(hidden), 'line')} more of interfaces, understood; --all shows "
                "them",
                "dim",
            ),
        )
    line(screen, (f"and {count(view.passed_over, 'line')} passed over", "dim"))
    screen.print()
    grid = table("setting", "of", "value", "said by")
    for fact in facts:
        said = Text("the platform", "yellow") if fact.default else Text("the text")
        grid.add_row(fact.setting, fact.key, Text(fact.value), said)
    shown(screen, grid)
    if strays:
        screen.print()
        line(screen, (f"{count(strays, 'line')} not understood", "bold red"))
