"""The formats of an audit for machines and for other systems: each is one module of this package.

A module has `write(out, audit)`, which writes to a text file; those that can do it write each device as soon
as it is judged.
"""

from __future__ import annotations

import sys
from collections.abc import Iterable
from importlib import import_module
from typing import TYPE_CHECKING, NamedTuple

if TYPE_CHECKING:
    from ivrel.core.policy import Policy
    from ivrel.core.vocabulary.verdict import DeviceResult


class Audit(NamedTuple):
    """An audit on its way: its results come one by one, and can be gone through once."""

    fleet: str
    policy: Policy
    results: Iterable[DeviceResult]


def show(module: str, audit: Audit) -> None:
    """Writes an audit to standard output, by the module of a format."""
    import_module(f"ivrel.output.{module}").write(sys.stdout, audit)
