"""The computation, without interface: dialects, policy, audit, correction.

>>> from ivrel.core import read_dialect, read_policy, read_fleet, audit_text, correct
"""

from ivrel.core.audit import DeviceResult, Verdict, audit_text
from ivrel.core.correct import Correction, correct
from ivrel.core.dialects import Dialect, read_dialect, read_records
from ivrel.core.fleet import Device, Fleet, read_fleet
from ivrel.core.mistakes import InputError, Mistake, Unreadable
from ivrel.core.policy import Policy, read_policy

__all__ = [
    "Correction",
    "Device",
    "DeviceResult",
    "Dialect",
    "Fleet",
    "InputError",
    "Mistake",
    "Policy",
    "Unreadable",
    "Verdict",
    "audit_text",
    "correct",
    "read_dialect",
    "read_fleet",
    "read_policy",
    "read_records",
]
