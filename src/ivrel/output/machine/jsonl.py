"""JSON Lines: of an audit a line for each device, as soon as it is judged; else the rows of the
view.

Its keys are those of a device, or of a row, in JSON.
"""

from __future__ import annotations

from typing import TextIO

import msgspec

from ivrel.output.escaping import for_json
from ivrel.output.views.audit import AuditView
from ivrel.output.views.view import RowsView


def write(out: TextIO, view: AuditView | RowsView) -> None:
    """Write a line a device, or a row."""
    encoder = msgspec.json.Encoder()
    for one in view.results if isinstance(view, AuditView) else view.rows():
        out.write(for_json(encoder.encode(one).decode()) + "\n")
        out.flush()
