"""CSV (RFC 4180): of an audit a row for each device and setting, else the rows of the view."""

from __future__ import annotations

import csv
from typing import TextIO

from ivrel.output.escaping import for_csv
from ivrel.output.views.audit import AuditView
from ivrel.output.views.view import RowsView

HEADER = (
    "device",
    "kind",
    "site",
    "platform",
    "setting",
    "verdict",
    "found",
    "wanted",
    "rule",
    "why",
    "where",
)


def write(out: TextIO, view: AuditView | RowsView) -> None:
    """Write the rows of a view; lists are written as their words, divided by blanks."""
    if isinstance(view, AuditView):
        _write_audit(out, view)
        return
    rows = csv.writer(out)
    rows.writerow(view.columns)
    for row in view.rows():
        values = (" ".join(v) if isinstance(v, list) else v for v in row.values())
        rows.writerow(map(for_csv, values))


def _write_audit(out: TextIO, audit: AuditView) -> None:
    """Write a row a verdict; lines are given as FILE:LINE, divided by blanks."""
    rows = csv.writer(out)
    rows.writerow(HEADER)
    for r in audit.results:
        for v in r.verdicts:
            where = " ".join(f"{p.file}:{p.line}" for p in v.where)
            why = r.problem or v.why
            device = (r.device, r.kind, r.site, r.platform)
            told = (*device, v.setting, v.verdict, v.found, v.wanted, v.rule, why, where)
            rows.writerow(map(for_csv, told))
