"""Judging: verdicts of devices and settings."""

from ivrel.core.judging.asking import read_policy
from ivrel.core.judging.auditor import Auditor, audit_text
from ivrel.core.judging.judge import unreadable
from ivrel.core.judging.remarks import Remark, ending, remarks
from ivrel.core.vocabulary.verdict import DeviceResult, Verdict

__all__ = [
    "Auditor",
    "DeviceResult",
    "Remark",
    "Verdict",
    "audit_text",
    "ending",
    "read_policy",
    "remarks",
    "unreadable",
]
