"""The formats of an audit for machines and for other systems: each is one module of this package, named here.

A module has `write(out, audit)`, which writes to a text file; those that can do it write each device as soon
as it is judged.
"""

from __future__ import annotations

import sys
from collections.abc import Iterable
from importlib import import_module

from msgspec import Struct

from ivrel.core.audit.verdict import DeviceResult
from ivrel.core.policy import Policy

FORMATS = {
    "json": "json",
    "jsonl": "jsonl",
    "csv": "csv",
    "md": "markdown",
    "sarif": "sarif",
    "junit": "junit",
    "openmetrics": "openmetrics",
}


class Audit(Struct, frozen=True):
    """An audit on its way: its results come one by one, and can be gone through once."""

    fleet: str
    policy: Policy
    results: Iterable[DeviceResult]


def show(name: str, audit: Audit) -> None:
    """Writes an audit in one of the formats to standard output."""
    import_module(f"ivrel.output.{FORMATS[name]}").write(sys.stdout, audit)
