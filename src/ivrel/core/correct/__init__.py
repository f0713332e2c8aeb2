"""Corrections: computed from settings, written by the dialect's patterns, proved on the text at hand."""

from ivrel.core.correct.correction import MEANS, PROPERTIES, TAKEN, Change, Correction, Property, Remaining, correct

__all__ = ["MEANS", "PROPERTIES", "TAKEN", "Change", "Correction", "Property", "Remaining", "correct"]
