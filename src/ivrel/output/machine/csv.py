"""CSV (RFC 4180): a row for each device and setting."""

from __future__ import annotations

import csv
from typing import TextIO

from ivrel.output.views.audit import AuditView

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


def write(out: TextIO, audit: AuditView) -> None:
    """Write a row a verdict; lines are given as FILE:LINE, divided by blanks."""
    rows = csv.writer(out)
    rows.writerow(HEADER)
    for r in audit.results:
        for v in r.verdicts:
            where = " ".join(f"{p.file}:{p.line}" for p in v.where)
            why = r.problem or v.why
            device = (r.device, r.kind, r.site, r.platform)
            rows.writerow((*device, v.setting, v.verdict, v.found, v.wanted, v.rule, why, where))
