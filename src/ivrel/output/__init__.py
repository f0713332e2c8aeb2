"""Output: views are what is shown, as data; a terminal draws them, machines get them in formats."""

from __future__ import annotations

import sys
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from ivrel.output.views.view import View

__all__ = ["show"]


def show(view: View, form: str, width: int) -> None:
    """Write a view to standard output: as a `table` of so many columns, or in a format for
    machines.
    """
    if form == "table":
        from ivrel.output.terminal import draw

        draw(view, width)
    else:
        from ivrel.output.machine.formats import write

        write(view, form, sys.stdout)
