"""Shapes: how text falls into statements and back. One file a shape; this table finds them by name.

A shape knows nothing of what statements mean. It finds those whose first words a dialect names, passing
over all others without looking at them, and it carries out edits on a text as the platform would.
"""

from __future__ import annotations

from importlib import import_module
from typing import cast

from ivrel.core.dialects.shapes.base import Edit, Found, Identities, Path, Shape, Style, Words

NAMES = ("blocks", "braces", "paths", "rsyslog", "sections", "tree")

__all__ = ["NAMES", "Edit", "Found", "Identities", "Path", "Shape", "Style", "Words", "shape"]


def shape(name: str) -> Shape:
    """The shape of that name, which must be one of NAMES."""
    return cast(Shape, import_module(f"ivrel.core.dialects.shapes.{name}"))
