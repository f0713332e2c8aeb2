"""Shapes: how text falls into statements and back. One file a shape.

This table finds them by name.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping

from msgspec import Struct

from ivrel.core.shapes.shape import Edit, Found, Identity, Shape

__all__ = ["DISPLAYED", "PRINTED", "SHAPES", "Edit", "Found", "Identity", "Shape", "ShapeEntry"]


class ShapeEntry(Struct, frozen=True):
    """A shape: what loads its class, and the first statement of a dialect that is drafted for it.

    Classes are loaded only when they are asked for: XML alone takes longer to load than all others.
    `draft`: the enclosing block and a statement in it; None if nobody describes it again.
    """

    load: Callable[[], type[Shape]]
    draft: tuple[str, str] | None = None


def _blocks() -> type[Shape]:
    from ivrel.core.shapes.blocks import Blocks

    return Blocks


def _braces() -> type[Shape]:
    from ivrel.core.shapes.braces import Braces

    return Braces


def _enclosed() -> type[Shape]:
    from ivrel.core.shapes.enclosed import Enclosed

    return Enclosed


def _paths() -> type[Shape]:
    from ivrel.core.shapes.paths import Paths

    return Paths


def _impstats() -> type[Shape]:
    from ivrel.core.shapes.rsyslog.counters import Impstats

    return Impstats


def _printed() -> type[Shape]:
    from ivrel.core.shapes.printed import Printed

    return Printed


def _rsyslog() -> type[Shape]:
    from ivrel.core.shapes.rsyslog import Rsyslog

    return Rsyslog


def _sections() -> type[Shape]:
    from ivrel.core.shapes.sections import Sections

    return Sections


def _tree() -> type[Shape]:
    from ivrel.core.shapes.tree import Tree

    return Tree


_ENDPOINT = "send {destination.address} {destination.transport} {destination.port}"

SHAPES: Mapping[str, ShapeEntry] = {
    "blocks": ShapeEntry(_blocks, ("events", _ENDPOINT)),
    "braces": ShapeEntry(_braces, ("record", _ENDPOINT)),
    "enclosed": ShapeEntry(_enclosed, ("events", _ENDPOINT)),
    "paths": ShapeEntry(
        _paths, ("", "record.target.{destination.name}.address = {destination.address}")
    ),
    "rsyslog": ShapeEntry(_rsyslog),
    "sections": ShapeEntry(
        _sections, ("target.{destination.name}", "address = {destination.address}")
    ),
    "tree": ShapeEntry(
        _tree, ("targets / target {destination.name}", "address = {destination.address}")
    ),
}

PRINTED = "printed"
# Shapes of displays alone: no configuration is written in them.
DISPLAYED: Mapping[str, ShapeEntry] = {
    PRINTED: ShapeEntry(_printed),
    "impstats": ShapeEntry(_impstats),
}
