"""The names of shapes, without loading what learns them."""

from __future__ import annotations

from ivrel.core.shapes import SHAPES

# The shapes for which a dialect can be drafted or learned.
SHAPES_TO_LEARN = tuple(name for name, row in SHAPES.items() if row.draft)
