"""The audit on a terminal: the matrix of devices and settings, then the findings, worst first."""

from __future__ import annotations

from collections.abc import Container, Sequence
from itertools import groupby

from rich.console import Console

from ivrel.core.judging.remarks import Remark
from ivrel.core.settings import SETTINGS
from ivrel.core.vocabulary.verdict import (
    CONTRADICTED,
    GOOD,
    LETTERS,
    MARKS,
    VERDICTS,
    DeviceResult,
    Verdict,
    totals,
)
from ivrel.core.vocabulary.wording import counted
from ivrel.output.terminal.groups import alike, draw_alike, draw_groups
from ivrel.output.terminal.matrix import Look, draw_matrix
from ivrel.output.terminal.screen import (
    STYLES,
    Cell,
    line,
    quoted,
    shown,
    verdict_line,
)
from ivrel.output.views.audit import AuditView
from ivrel.output.views.folding import ONE_BY_ONE
from ivrel.output.views.view import LineText

_LOOK = Look(VERDICTS, {v: m for v, m in MARKS.items() if v != CONTRADICTED}, LETTERS, STYLES)
# Beside messages, what is right in both stands out from what is right on paper alone.
_PROVED = "proved"
_BESIDE = Look(
    (*VERDICTS, _PROVED),
    {**MARKS, _PROVED: _PROVED},
    {**LETTERS, _PROVED: "p"},
    {**STYLES, _PROVED: STYLES["meets"]},
)


def draw_audit(screen: Console, view: AuditView) -> list[str]:
    """Draw an audit; large fleets are shown by site, unless each device is asked for."""
    ranked = view.ranked()
    seen = {v.setting for r in ranked for v in r.verdicts}
    settings = [name for name in SETTINGS if name in seen]
    about = f"  {counted(len(ranked), 'device')}, {counted(len(settings), 'setting')}"
    line(screen, (view.fleet, "bold"), about)
    screen.print()
    if view.by or (len(ranked) > ONE_BY_ONE and not view.every):
        draw_groups(screen, ranked, settings, view.by or "site")
        screen.print()
        _sum(screen, ranked)
        _remarked(screen, view.remarks)
        draw_alike(screen, alike(ranked), view.every, view.text_of)
    else:
        further = [("kind", [r.kind for r in ranked]), ("site", [r.site for r in ranked])]
        look = _BESIDE if view.proved else _LOOK
        given = [_outcomes(r, view.proved.get(r.device, ())) for r in ranked]
        draw_matrix(screen, [r.device for r in ranked], further, settings, given, look)
        screen.print()
        _sum(screen, ranked)
        _remarked(screen, view.remarks)
        for result in ranked:
            if not result.good:
                _findings(screen, result, view.text_of)
    return _next(ranked, view.where)


def _outcomes(result: DeviceResult, proved: Container[str]) -> dict[str, str]:
    """Return the verdict of each setting of a device."""
    return {v.setting: _PROVED if v.setting in proved else v.verdict for v in result.verdicts}


def _sum(screen: Console, results: Sequence[DeviceResult]) -> None:
    sums = totals(results)
    parts: list[tuple[str, str] | str] = []
    for verdict in reversed(VERDICTS):
        # These two are what everybody looks for, even if there are none.
        if sums.get(verdict) or verdict in ("meets", "breaks"):
            parts += [(f"{verdict} {sums.get(verdict, 0):,}", STYLES[verdict]), "   "]
    good = sum(1 for r in results if r.good)
    parts.append(f"{good:,} of {counted(len(results), 'device')} as asked")
    line(screen, *parts)


def _remarked(screen: Console, remarks: Sequence[Remark]) -> None:
    """Draw the exceptions that ran out or are about to: each is a finding of its own."""
    if remarks:
        screen.print()
        shown(screen, quoted([(f"{r.file}:{r.line}", r.text) for r in remarks]))


def _findings(screen: Console, result: DeviceResult, text_of: LineText) -> None:
    screen.print()
    about = f"  {result.kind} at {result.site}, {result.platform}"
    line(screen, (result.device, "bold"), (about, "dim"))
    if result.problem:
        line(screen, ("not readable  ", "yellow"), result.problem, indent=2)
        return
    told: set[str] = set()
    for verdict in sorted(result.verdicts, key=lambda v: VERDICTS.index(v.verdict)):
        if verdict.verdict == "meets" or verdict.why in told:
            continue
        same = [
            v
            for v in result.verdicts
            if v.verdict == verdict.verdict == "unknown" and v.why == verdict.why
        ]
        if len(same) > 1:
            # One line that is not understood is reported once, with all that depends on it.
            told.add(verdict.why)
            _doubt(screen, [v.setting for v in same], verdict, text_of, result.platform)
        else:
            _finding(screen, verdict, text_of)


def _doubt(
    screen: Console, settings: Sequence[str], verdict: Verdict, text_of: LineText, platform: str
) -> None:
    """Draw why several settings are unknown, and what can be done about it."""
    line(
        screen,
        (f"{len(settings)} settings".ljust(14), ""),
        ("unknown   ", STYLES["unknown"]),
        verdict.why,
        indent=2,
    )
    shown(screen, Cell(f"hang on that: {', '.join(settings)}", "dim"), 26)
    if verdict.where:
        shown(screen, quoted(_lines(verdict, text_of)), 26)
    if "is not understood" in verdict.why:
        shown(
            screen,
            Cell(
                f"describe the line in the dialect: ivrel dialect try {platform} FILE shows it",
                "dim",
            ),
            26,
        )


def _finding(screen: Console, verdict: Verdict, text_of: LineText) -> None:
    verdict_line(screen, verdict, 2)
    if verdict.where:
        shown(screen, quoted(_lines(verdict, text_of)), 12 + 2 + 8 + 2 + 2)
    if verdict.verdict not in GOOD:
        # The rule follows what it is about, since the eye looks for the finding first.
        asks = f"'{verdict.rule}' asks: {verdict.wanted}"
        shown(screen, Cell(asks, "dim"), 12 + 2 + 8 + 2 + 2)


def _lines(verdict: Verdict, text_of: LineText, most: int = 4) -> list[tuple[str, str]]:
    where = verdict.where
    out = [(f"{p.file}:{p.line}", text_of(p, verdict.setting)) for p in where[:most]]
    if len(where) > most:
        rest = where[most:]
        out.append((f"and {counted(len(rest), 'line')}", f"{runs([p.line for p in rest])}"))
    return out


def runs(numbers: Sequence[int]) -> str:
    """Return line numbers, with those that follow each other as a range: '4-6, 9'."""
    out = []
    for _, group in groupby(enumerate(numbers), lambda pair: pair[1] - pair[0]):
        part = [n for _, n in group]
        out.append(str(part[0]) if len(part) == 1 else f"{part[0]}-{part[-1]}")
    return ", ".join(out)


def _next(ranked: Sequence[DeviceResult], where: str) -> list[str]:
    worst = next((r for r in ranked if not r.good), None)
    if worst is None:
        return []
    verdict = next((v for v in worst.verdicts if v.verdict not in GOOD), None)
    commands = [f"ivrel correct{where} -o corrections"]
    if verdict and not worst.problem:
        commands.insert(0, f"ivrel explain{where} {worst.device} {verdict.setting}")
    return commands
