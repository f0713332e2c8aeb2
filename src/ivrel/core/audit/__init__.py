"""The audit: verdicts of devices and settings."""

from ivrel.core.audit.judge import DeviceResult, Verdict, audit_text, judge, unreadable
from ivrel.core.audit.verdict import MARKS, VERDICTS, Place, Totals, badness

__all__ = [
    "MARKS",
    "VERDICTS",
    "DeviceResult",
    "Place",
    "Totals",
    "Verdict",
    "audit_text",
    "badness",
    "judge",
    "unreadable",
]
