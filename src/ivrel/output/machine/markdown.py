"""Markdown: of an audit, the sum, then what is not as asked, the worst first; of a delivery, its
record.
"""

from __future__ import annotations

from typing import TextIO

from ivrel.core.vocabulary.verdict import VERDICTS, badness, totals
from ivrel.output.escaping import for_markdown as cell
from ivrel.output.escaping import for_markdown_code as code
from ivrel.output.machine.record import write_record
from ivrel.output.views.audit import AuditView
from ivrel.output.views.delivered import DeliveryView


def write(out: TextIO, view: AuditView | DeliveryView) -> None:
    """Write a page that can go into a ticket."""
    if isinstance(view, DeliveryView):
        write_record(out, view)
    else:
        _write_audit(out, view)


def _write_audit(out: TextIO, audit: AuditView) -> None:
    results = sorted(audit.results, key=badness)
    sums = totals(results)
    good = sum(1 for r in results if r.good)
    out.write(f"# {cell(audit.fleet)}: {cell(audit.policy.name)}\n\n")
    out.write(f"{good} of {len(results)} devices as asked. ")
    out.write(", ".join(f"{number} {verdict}" for verdict, number in sums.items()) + ".\n")
    for r in results:
        if r.good:
            continue
        out.write(f"\n## {cell(r.device)}\n\n{cell(f'{r.kind} at {r.site}, {r.platform}')}\n\n")
        if r.problem:
            out.write(f"Not readable: {cell(r.problem)}\n")
            continue
        out.write("| setting | verdict | why | asked for | lines |\n|---|---|---|---|---|\n")
        for v in sorted(r.verdicts, key=lambda v: VERDICTS.index(v.verdict)):
            if v.verdict != "meets":
                where = " ".join(f"`{code(p.file)}:{p.line}`" for p in v.where[:4]) or "-"
                more = f" and {len(v.where) - 4} more" if len(v.where) > 4 else ""
                asked = f"{v.wanted} ({v.rule})"
                out.write(
                    f"| {v.setting} | {v.verdict} | {cell(v.why)} | {cell(asked)} | "
                    f"{where}{more} |\n"
                )
