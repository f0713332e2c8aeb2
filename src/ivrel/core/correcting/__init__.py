"""Corrections: computed from settings, written by the dialect's patterns, proved on the text at
hand.
"""

from ivrel.core.correcting.correction import Change, Correction, Remaining, correct
from ivrel.core.correcting.proof import Property
from ivrel.core.correcting.properties import MEANS, PROPERTIES, TAKEN
from ivrel.core.correcting.what_if import Otherwise, WhatIf, what_if

__all__ = [
    "MEANS",
    "PROPERTIES",
    "TAKEN",
    "Change",
    "Correction",
    "Otherwise",
    "Property",
    "Remaining",
    "WhatIf",
    "correct",
    "what_if",
]
