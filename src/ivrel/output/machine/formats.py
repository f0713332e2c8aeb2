"""The formats for machines, by name: each is one module of this package.

A module has `write(out, view)`, which writes to a text file; of audits, those that can write each
device as soon as it is judged.
"""

from __future__ import annotations

from collections.abc import Callable
from importlib import import_module
from typing import TYPE_CHECKING, TextIO, cast

if TYPE_CHECKING:
    from ivrel.output.views.view import View

FORMATS = {
    "json": "json",
    "jsonl": "jsonl",
    "csv": "csv",
    "md": "markdown",
    "sarif": "sarif",
    "junit": "junit",
    "openmetrics": "openmetrics",
}


def write(view: View, form: str, out: TextIO) -> None:
    """Write a view to a file, in the format of that name."""
    module = import_module(f"ivrel.output.machine.{FORMATS[form]}")
    cast("Callable[[TextIO, View], None]", module.write)(out, view)
