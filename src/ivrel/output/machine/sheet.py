"""The change sheet: what goes to a change board, as Markdown."""

from __future__ import annotations

from datetime import date
from difflib import unified_diff

from ivrel.core.correcting import MEANS, PROPERTIES, TAKEN, Correction
from ivrel.output.views.corrections import CorrectionsView


def change_sheet(view: CorrectionsView, policy: str, today: date) -> str:
    """Return the sheet: per device the reason for each line, before and after, proof, back-out."""
    corrections, changed = view.corrections, view.changed
    lines = sum(len(c.changes) for c in changed)
    out = [
        f"# Change sheet: {view.fleet}",
        "",
        f"{_day(today)}, against the policy '{policy}'. {lines} lines on {len(changed)} of "
        f"{len(corrections)} devices.",
        "",
        "| device | platform | lines | proof | remains |",
        "|---|---|---|---|---|",
    ]
    for c in corrections:
        if c.changes or c.remains:
            failing = [p.name for p in c.proof if not p.holds]
            proof = f"**fails: {', '.join(failing)}**" if failing else "holds" if c.changes else "-"
            remains = ", ".join(f"{r.setting} ({r.verdict})" for r in c.remains) or "-"
            out.append(f"| {c.device} | {c.platform} | {len(c.changes)} | {proof} | {remains} |")
    out += [f"| {name} | | | | not readable: {cell(problem)} |" for name, problem in view.unread]
    out += [
        "",
        "The proof of a correction is computed on the configuration with the fingerprint given:",
        "",
    ]
    told = dict.fromkeys((*PROPERTIES, *(p.name for c in changed for p in c.proof)))
    out += [f"- **{name}**: {MEANS[name]}" for name in told]
    asks = sorted({c.asks for c in changed if c.asks})
    if asks and TAKEN not in told:
        out += [
            "",
            f"`{asks[0]}` was not there to be asked whether it takes them; on the device it says "
            "so.",
        ]
    for c in corrections:
        if c.changes or c.remains:
            out += ["", *_device(c)]
    return "\n".join(out) + "\n"


def _device(c: Correction) -> list[str]:
    out = [f"## {c.device}", "", f"Made for the configuration with SHA-256 `{c.fingerprint}`.", ""]
    if c.changes and not c.proved:
        out += ["**Not proved.** It must not be sent as it is:", ""]
        out += [f"- {p.name}: {p.why}" for p in c.proof if not p.holds] + [""]
    clashes = [r for r in c.remains if "; to correct that would break what " in r.why]
    if clashes:
        out += ["**Not all that the policy asks can be had together:**", ""]
        out += [f"- {r.setting}: {r.why}" for r in clashes] + [""]
    if c.changes:
        out += ["| line | instead of | why |", "|---|---|---|"]
        for change in c.changes:
            inside = f"{change.inside} / " if change.inside else ""
            old = f"`{cell(change.replaces)}`" if change.replaces else "-"
            out.append(f"| `{cell(inside + change.line)}` | {old} | {cell(change.reason)} |")
        out += ["", "Before and after:", "", "```diff", *_difference(c), "```", ""]
        if c.proved:
            out += ["Proved: " + ", ".join(p.name for p in c.proof) + ".", ""]
        out += ["Change:", "", "```", *c.change.splitlines(), "```", ""]
        out += ["Back-out:", "", "```", *c.backout.splitlines(), "```", ""]
    if c.remains:
        out += ["What remains:", ""]
        out += [f"- {r.setting} ({r.verdict}): {r.why}" for r in c.remains]
    return out


def _difference(c: Correction) -> list[str]:
    """Return the verdicts before and after, found value by found value."""
    before = [f"{v.setting}: {v.found or '-'}" for v in c.before.verdicts]
    after = [f"{v.setting}: {v.found or '-'}" for v in c.after.verdicts]
    return [
        line
        for line in unified_diff(before, after, n=0, lineterm="")
        if not line.startswith(("---", "+++", "@@"))
    ]


def cell(text: str) -> str:
    """Return text as a cell of a Markdown table may hold it."""
    return text.replace("|", "\\|").replace("\n", " ").replace("`", "'")


def _day(day: date) -> str:
    return f"{day.day} {day:%B %Y}"
