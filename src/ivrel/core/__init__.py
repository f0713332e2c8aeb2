"""The computation, without interface: dialects, policy, audit, correction.

>>> from ivrel.core import read_dialect, read_policy, read_fleet, audit_text, correct
"""

from ivrel.core.correcting import Correction, Corrector, correct
from ivrel.core.dialects import Dialect, read_dialect
from ivrel.core.fleet import Device, Fleet, read_fleet
from ivrel.core.judging import Auditor, DeviceResult, Verdict, audit_text, read_policy
from ivrel.core.policy import Policy
from ivrel.core.reading import Records, read_records
from ivrel.core.vocabulary.errors import (
    Foreign,
    InputError,
    IvrelError,
    Mistake,
    Refused,
    Unreadable,
)

__all__ = [
    "Auditor",
    "Correction",
    "Corrector",
    "Device",
    "DeviceResult",
    "Dialect",
    "Fleet",
    "Foreign",
    "InputError",
    "IvrelError",
    "Mistake",
    "Policy",
    "Records",
    "Refused",
    "Unreadable",
    "Verdict",
    "audit_text",
    "correct",
    "read_dialect",
    "read_fleet",
    "read_policy",
    "read_records",
]
