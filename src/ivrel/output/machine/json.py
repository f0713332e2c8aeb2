"""JSON, for machines: one object each, its keys as documented in docs/formats.md."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import Any, TextIO

import msgspec

from ivrel.core.vocabulary.verdict import CONTRADICTED, VERDICTS
from ivrel.output.escaping import for_json
from ivrel.output.views.audit import AuditView
from ivrel.output.views.view import View


def text(value: Any) -> str:
    """Return one object as indented JSON."""
    return for_json(msgspec.json.format(msgspec.json.encode(value), indent=2).decode()) + "\n"


def pieces(
    head: dict[str, Any], name: str, items: Iterable[bytes], tail: dict[str, Any]
) -> Iterator[str]:
    """Yield an object piece by piece, as `text` has it: a long list of items, each as JSON, is
    between what comes before and behind it.
    """
    before, behind = (
        text(part).strip().removeprefix("{").removesuffix("}") for part in (head, tail)
    )
    yield f'{{{before.rstrip()},\n  "{name}": ['
    n = -1
    for n, item in enumerate(items):
        whole = for_json(msgspec.json.format(item, indent=2).decode()).replace("\n", "\n    ")
        yield f"{',' if n else ''}\n    {whole}"
    end = "\n  ]" if n >= 0 else "]"
    yield f"{end},{behind.rstrip()}\n}}\n"


def write(out: TextIO, view: View) -> None:
    """Write a view as one object."""
    if isinstance(view, AuditView):
        _write_audit(out, view)
    else:
        out.write(text(view.machine()))


def _write_audit(out: TextIO, audit: AuditView) -> None:
    """Write each device in a line as it comes: nothing of a large fleet has to be kept."""
    encoder = msgspec.json.Encoder()
    sums = dict.fromkeys(reversed(VERDICTS), 0)
    out.write(
        f'{{\n  "fleet": {for_json(msgspec.json.encode(audit.fleet).decode())},\n  "devices": ['
    )
    for n, result in enumerate(audit.results):
        for verdict in result.verdicts:
            sums[verdict.verdict] += 1
        out.write(f"{',' if n else ''}\n    {for_json(encoder.encode(result).decode())}")
    if not sums.get(CONTRADICTED):
        sums.pop(CONTRADICTED, None)
    whole = text(sums).rstrip("\n").replace("\n", "\n  ")
    out.write(f'\n  ],\n  "totals": {whole}\n}}\n')
