"""The audit: verdicts of devices and settings."""

from ivrel.core.audit.auditor import Auditor, audit_text
from ivrel.core.audit.judge import judge, unreadable
from ivrel.core.audit.verdict import MARKS, VERDICTS, DeviceResult, Place, Totals, Verdict, badness

__all__ = [
    "MARKS",
    "VERDICTS",
    "Auditor",
    "DeviceResult",
    "Place",
    "Totals",
    "Verdict",
    "audit_text",
    "badness",
    "judge",
    "unreadable",
]
