"""The computation, without interface: dialects, policy, audit, correction.

>>> from ivrel.core import read_dialect, read_policy, read_fleet, audit_text, correct
"""

from __future__ import annotations

from collections.abc import Mapping
from importlib import import_module
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from ivrel.core.correcting import Correction as Correction
    from ivrel.core.correcting import Corrector as Corrector
    from ivrel.core.correcting import correct as correct
    from ivrel.core.dialects import Dialect as Dialect
    from ivrel.core.dialects import read_dialect as read_dialect
    from ivrel.core.fleet import Device as Device
    from ivrel.core.fleet import Fleet as Fleet
    from ivrel.core.fleet import read_fleet as read_fleet
    from ivrel.core.judging import Auditor as Auditor
    from ivrel.core.judging import DeviceResult as DeviceResult
    from ivrel.core.judging import Verdict as Verdict
    from ivrel.core.judging import audit_text as audit_text
    from ivrel.core.judging import read_policy as read_policy
    from ivrel.core.policy import Policy as Policy
    from ivrel.core.reading import Records as Records
    from ivrel.core.reading import read_records as read_records
    from ivrel.core.vocabulary.errors import Foreign as Foreign
    from ivrel.core.vocabulary.errors import InputError as InputError
    from ivrel.core.vocabulary.errors import IvrelError as IvrelError
    from ivrel.core.vocabulary.errors import Mistake as Mistake
    from ivrel.core.vocabulary.errors import Refused as Refused
    from ivrel.core.vocabulary.errors import Unreadable as Unreadable

# The room of each name; it is loaded when a name of it is first used: an audit corrects nothing.
_ROOMS: Mapping[str, str] = {
    "correcting": "Correction Corrector correct",
    "dialects": "Dialect read_dialect",
    "fleet": "Device Fleet read_fleet",
    "judging": "Auditor DeviceResult Verdict audit_text read_policy",
    "policy": "Policy",
    "reading": "Records read_records",
    "vocabulary.errors": "Foreign InputError IvrelError Mistake Refused Unreadable",
}


def __getattr__(name: str) -> Any:
    for room, names in _ROOMS.items():
        if name in names.split():
            return getattr(import_module(f"ivrel.core.{room}"), name)
    raise AttributeError(f"module 'ivrel.core' has no attribute '{name}'")
