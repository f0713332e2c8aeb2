"""One verdict on a terminal, from both ends: the rules in order, the lines, the comparison, the
correction.
"""

from __future__ import annotations

from collections.abc import Sequence

from rich.console import Console
from rich.table import Table
from rich.text import Text as RichText

from ivrel.core.correcting import Correction
from ivrel.core.evidence.claims import Claim
from ivrel.core.evidence.witnesses import Comparison
from ivrel.core.fleet import Device
from ivrel.core.policy import Policy
from ivrel.core.settings import SETTINGS
from ivrel.core.vocabulary.verdict import CONTRADICTED, Place, Verdict
from ivrel.output.terminal.screen import CLAIM_STYLES, STYLES, Cell, line, quoted, shown, table
from ivrel.output.views.explanation import ExplanationView

LINES_SHOWN = 12  # lines of the configuration that are shown of one verdict


def draw_explanation(screen: Console, view: ExplanationView) -> None:
    """Explain verdicts one after the other."""
    device = view.device
    correction = view.correction
    about = f"  {device.kind} at {device.site}, {device.platform}"
    line(screen, (device.name, "bold"), (about, "dim"))
    for verdict in view.verdicts:
        screen.print()
        setting = SETTINGS[verdict.setting]
        line(screen, (verdict.setting, "bold"), "  ", (verdict.verdict, STYLES[verdict.verdict]))
        line(screen, (f"{setting.meaning}; {setting.matters}", "dim"), indent=2)
        grid = table()
        grid.show_header = False
        grid.add_column(width=10, style="dim")
        grid.add_column(overflow="fold")
        grid.add_row("asked", _rules(view.policy, device, verdict))
        grid.add_row("found", Cell(verdict.found or "-"))
        where = _own_lines(view, verdict)
        if where:
            cited = [
                (f"{p.file}:{p.line}", view.text_of(p, verdict.setting))
                for p in where[:LINES_SHOWN]
            ]
            if len(where) > LINES_SHOWN:
                cited.append((f"and {len(where) - LINES_SHOWN} more", ""))
            grid.add_row("", quoted(cited))
        else:
            grid.add_row(
                "", Cell("no line says so: the platform's default, or nothing at all", "dim")
            )
        grid.add_row("compared", Cell(verdict.why))
        claim = view.claims.get(verdict.setting)
        if claim is not None:
            _heard(grid, claim)
        for one in view.shown_of(verdict.setting):
            _shown(grid, one)
        if verdict.verdict == CONTRADICTED:
            said = "none: what is wrong is not in this text, or is not what the device runs"
            grid.add_row("correction", Cell(said, "yellow"))
        elif verdict.verdict != "meets":
            grid.add_row("correction", _changes(correction, verdict.setting))
        shown(screen, grid, 2)


def _own_lines(view: ExplanationView, verdict: Verdict) -> Sequence[Place]:
    """Return the lines of the configuration that decide; a message that contradicts them is shown
    for itself.
    """
    claim = view.claims.get(verdict.setting)
    if verdict.verdict != CONTRADICTED or claim is None or claim.example is None:
        return verdict.where
    return [
        p for p in verdict.where if (p.file, p.line) != (claim.example.file, claim.example.line)
    ]


def _heard(grid: Table, claim: Claim) -> None:
    """Add what messages claim, and the message that decides."""
    said = claim.why or claim.heard
    grid.add_row("heard", Cell.assemble((claim.claim, CLAIM_STYLES[claim.claim]), f"  {said}"))
    if claim.example is not None:
        place = f"{claim.example.file}:{claim.example.line}"
        grid.add_row("", quoted([(place, claim.example.text)]))


def _shown(grid: Table, one: Comparison) -> None:
    """Add what the device shows of itself."""
    said = one.said or f"{one.device}, as configured"
    of = f"{one.of}: " if one.of else ""
    where = f"  {one.where}" if one.where else ""
    style = {"bad": "bold red", "open": "yellow", "good": "green"}.get(one.state, "")
    grid.add_row("device", Cell.assemble((f"{of}{said}", style), (where, "dim")))


def _rules(policy: Policy, device: Device, verdict: Verdict) -> Cell:
    """Return every rule that speaks of the setting, in order: which are about this device, and
    which one holds.
    """
    out = Cell()
    for rule in policy.rules:
        asked = rule.require.get(verdict.setting)
        if asked is None:
            continue
        holds = rule.name == verdict.rule
        state = (
            "holds"
            if holds
            else "replaced by a later rule"
            if rule.holds_for(device)
            else "not for this device"
        )
        if out:
            out.append("\n")
        out.append(f"{asked.file}:{asked.line}  ", "dim")
        out.append(f"'{rule.name}' ({rule.about}): {asked.text}", "" if holds else "dim")
        out.append(f"  {state}", "green" if holds else "dim")
    return out


def _changes(correction: Correction, setting: str) -> RichText:
    lines = [(c.inside, c.line) for c in correction.changes if setting in c.settings]
    if not lines:
        remains = [r.why for r in correction.remains if r.setting == setting]
        return Cell(
            f"none: {'; '.join(remains)}" if remains else "none is needed",
            "yellow" if remains else "",
        )
    out = Cell("\n").join(
        Cell.assemble((f"{inside}: " if inside else "", "dim"), text) for inside, text in lines
    )
    if not correction.proved:
        out.append("\nnot proved; see ivrel correct", "yellow")
    return out
