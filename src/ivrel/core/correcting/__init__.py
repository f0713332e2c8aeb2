"""Corrections: computed from settings, written by the dialect's patterns, proved on the text at
hand.
"""

from ivrel.core.correcting.correction import Correction, Remaining
from ivrel.core.correcting.corrector import Corrector, correct
from ivrel.core.correcting.judged import STATES, Judged, Written, judge_change
from ivrel.core.correcting.prints import fingerprint
from ivrel.core.correcting.proof import Property
from ivrel.core.correcting.properties import (
    CARRIED,
    MEANS,
    PROPERTIES,
    TAKEN,
    NoLongerSent,
    OutageGap,
)
from ivrel.core.correcting.reasons import CorrectionLine
from ivrel.core.correcting.what_if import Otherwise, WhatIf, what_if

__all__ = [
    "CARRIED",
    "MEANS",
    "PROPERTIES",
    "STATES",
    "TAKEN",
    "Correction",
    "CorrectionLine",
    "Corrector",
    "Judged",
    "NoLongerSent",
    "Otherwise",
    "OutageGap",
    "Property",
    "Remaining",
    "WhatIf",
    "Written",
    "correct",
    "fingerprint",
    "judge_change",
    "what_if",
]
