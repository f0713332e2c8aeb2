"""The formats for machines, by name: each is one module of this package.

A module has `write(out, view)`, which writes to a text file; of audits, those that can write each
device as soon as it is judged.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from importlib import import_module
from typing import TYPE_CHECKING, NamedTuple, TextIO, cast

if TYPE_CHECKING:
    from ivrel.output.views.view import View

# What a view is: anything has a machine form, some have rows, and two have formats of their own.
ANY = "any"
ROWS = "rows"
AUDIT = "audit"
DELIVERY = "delivery"


class Format(NamedTuple):
    """A format: its module in this package, and the kinds of views that it can write."""

    module: str
    writes: tuple[str, ...]


FORMATS: Mapping[str, Format] = {
    "json": Format("json", (ANY, ROWS, AUDIT, DELIVERY)),
    "jsonl": Format("jsonl", (ROWS, AUDIT, DELIVERY)),
    "csv": Format("csv", (ROWS, AUDIT, DELIVERY)),
    "md": Format("markdown", (AUDIT, DELIVERY)),
    "sarif": Format("sarif", (AUDIT,)),
    "junit": Format("junit", (AUDIT,)),
    "openmetrics": Format("openmetrics", (AUDIT,)),
}


def formats_of(kind: str) -> tuple[str, ...]:
    """Return the names of the formats that can write views of this kind."""
    return tuple(name for name, form in FORMATS.items() if kind in form.writes)


def write(view: View, form: str, out: TextIO) -> None:
    """Write a view to a file, in the format of that name."""
    module = import_module(f"ivrel.output.machine.{FORMATS[form].module}")
    cast("Callable[[TextIO, View], None]", module.write)(out, view)
