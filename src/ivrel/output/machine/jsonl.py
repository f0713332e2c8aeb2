"""JSON Lines: a line for each device, as soon as it is judged.

Its keys are those of a device in JSON.
"""

from __future__ import annotations

from typing import TextIO

import msgspec

from ivrel.output.views.audit import AuditView


def write(out: TextIO, audit: AuditView) -> None:
    """Write a line a device."""
    encoder = msgspec.json.Encoder()
    for result in audit.results:
        out.write(encoder.encode(result).decode() + "\n")
        out.flush()
