"""What surely, and what at most, is taken of all facilities and severities."""

from __future__ import annotations

from msgspec import Struct

from ivrel.core.vocabulary.severity import EVERYTHING, NOTHING, Selection


class Bounds(Struct, frozen=True):
    """What surely, and what at most, is taken."""

    sure: Selection
    most: Selection

    def __and__(self, other: Bounds) -> Bounds:
        return Bounds(self.sure & other.sure, self.most & other.most)

    def __or__(self, other: Bounds) -> Bounds:
        return Bounds(
            Selection(self.sure.bits | other.sure.bits), Selection(self.most.bits | other.most.bits)
        )

    def without(self, other: Bounds) -> Bounds:
        """Return the rest after the other selection is removed."""
        return Bounds(self.sure - other.most, self.most - other.sure)

    @property
    def known(self) -> bool:
        """Whether there is no doubt."""
        return self.sure == self.most


ALL = Bounds(EVERYTHING, EVERYTHING)
NONE = Bounds(NOTHING, NOTHING)
UNKNOWN = Bounds(NOTHING, EVERYTHING)
