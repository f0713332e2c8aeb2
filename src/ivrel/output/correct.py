"""Corrections on a terminal."""

from __future__ import annotations

from collections.abc import Sequence

from rich.console import Console

from ivrel.core.correcting import MEANS, PROPERTIES, TAKEN, Correction
from ivrel.core.vocabulary.wording import shorten
from ivrel.output.screen import Text, console, count, line, next_commands, shown, styled, table

LINES = 24  # of the text of one change
MOST = 50  # devices shown in full


def show_corrections(
    corrections: Sequence[Correction],
    unread: Sequence[tuple[str, str]],
    width: int,
    where: str,
    folder: str | None,
    config: str,
    every: bool,
) -> None:
    """Prints corrections, or, once they are written to a folder, what was written and what to do next.

    `where`: the words that a next command repeats; `config`: the configuration of the first device changed.
    """
    screen = console(width)
    changed = [c for c in corrections if c.changes]
    for c in changed if every else changed[:MOST]:
        if folder is None:
            _correction(screen, c)
    if len(changed) > MOST and not every and folder is None:
        line(screen, (f"and {len(changed) - MOST:,} more devices; --all shows them", "dim"))
    _sum(screen, corrections, changed, folder)
    _remains(screen, corrections, unread)
    if changed and folder is None:
        next_commands(screen, [f"ivrel correct{where} -o corrections"])
    elif changed:
        first = changed[0]
        name = "change.txt" if first.proved else "unproved-change.txt"
        path = f"{folder}/{first.device}/{name}"
        next_commands(
            screen, [f"less {folder}/change-sheet.md", f"ivrel dialect apply {first.platform} {config} {path}"]
        )


def _correction(screen: Console, c: Correction) -> None:
    state = ("proved", "green") if c.proved else ("not proved", "bold red")
    line(screen, (c.device, "bold"), (f"  {c.platform}, {count(len(c.changes), 'line')}, ", "dim"), state)
    grid = table()
    grid.show_header = False
    grid.add_column(overflow="fold", ratio=5)
    grid.add_column(overflow="fold", ratio=6)
    grid.expand = True
    inside = reason = ""
    for change in c.changes:
        if change.inside != inside:
            inside = change.inside
            grid.add_row(Text(inside, "dim"), "")
        text = Text(("    " if inside else "") + change.line, "red" if change.removes else "green")
        grid.add_row(text, Text('"' if change.reason == reason else change.reason, "dim"))
        reason = change.reason
    shown(screen, grid, 2)
    if c.whole:
        written = c.change.splitlines()
        shown(screen, Text("written as", "dim"), 2)
        for part in written[:LINES]:
            style = {"-": "red", "+": "green"}.get(part[:1], "")
            shown(screen, Text(shorten(part, 400), style, no_wrap=True, overflow="ellipsis"), 4)
        if len(written) > LINES:
            line(screen, (f"and {count(len(written) - LINES, 'line')} more, with -o DIR", "dim"), indent=4)
    for p in c.proof:
        if not p.holds:
            line(screen, (f"{p.name} does not hold: ", "bold red"), f"{MEANS[p.name]}; {p.why}", indent=2)
    screen.print()


def _sum(
    screen: Console, corrections: Sequence[Correction], changed: Sequence[Correction], folder: str | None
) -> None:
    if not changed:
        line(screen, f"nothing to correct on {count(len(corrections), 'device')}")
        return
    lines = sum(len(c.changes) for c in changed)
    said = f"{count(lines, 'line')} on {count(len(changed), 'device')}"
    line(screen, (said, "bold"), f" in {folder}/, with back-outs and change-sheet.md" if folder else "")
    proved = sum(1 for c in changed if c.proved)
    style = "green" if proved == len(changed) else "bold red"
    line(screen, (f"proved on {proved} of {count(len(changed), 'device')}", style), f": {', '.join(PROPERTIES)}")
    asks = sorted({c.asks for c in changed if c.asks})
    taken = [p.holds for c in changed for p in c.proof if p.name == TAKEN]
    if taken:
        line(screen, f"{asks[0]} takes {sum(taken)} of {len(taken)} of its configurations")
    elif asks:
        line(screen, (f"{asks[0]} was not asked: it is not here, or a module is named by its path", "dim"))


def _remains(screen: Console, corrections: Sequence[Correction], unread: Sequence[tuple[str, str]]) -> None:
    rows = [(c.device, r) for c in corrections for r in c.remains]
    if not rows and not unread:
        return
    screen.print()
    line(screen, ("what remains", "bold"))
    grid = table()
    grid.show_header = False
    for _ in range(3):
        grid.add_column()
    grid.add_column(overflow="fold")
    for device, r in rows:
        grid.add_row(device, r.setting, styled(r.verdict), Text(r.why))
    for device, problem in unread:
        grid.add_row(device, "", Text("not readable", "yellow"), Text(problem))
    shown(screen, grid, 2)
