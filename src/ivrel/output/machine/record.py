"""The record of a delivery as Markdown, for the change ticket."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TextIO

from ivrel.core.delivery.course import STATES
from ivrel.core.delivery.record import DeviceDelivery
from ivrel.output.escaping import for_markdown as cell
from ivrel.output.escaping import for_markdown_block
from ivrel.output.escaping import for_markdown_code as code
from ivrel.output.views.delivered import DeliveryView


def write_record(out: TextIO, view: DeliveryView) -> None:
    """Write who did what when, device by device: what was sent and answered, and what came of
    it.
    """
    out.write("".join(f"{line}\n" for line in _lines(view)))


def _lines(view: DeliveryView) -> Iterator[str]:
    record = view.record
    yield f"# Delivery {record.number}: {cell(record.fleet)}"
    yield ""
    yield f"- by {cell(record.who)} on {cell(record.host)}, from `{code(str(record.folder))}`"
    yield f"- begun {record.begun}, {'ended ' + record.ended if record.ended else 'not ended'}"
    if record.stopped:
        yield f"- no more devices were begun: {cell(record.stopped)}"
    yield ""
    yield "| wave | device | platform | state | why |"
    yield "|---:|---|---|---|---|"
    for d in record.devices:
        yield f"| {d.wave} | {cell(d.device)} | {d.platform} | {d.state} | {cell(d.why)} |"
    yield ""
    there = {d.state for d in record.devices}
    for state, means in STATES.items():
        if state in there:
            yield f"*{state}*: {means}."
    for d in record.devices:
        if d.steps:
            yield from _device(d)


def _device(d: DeviceDelivery) -> Iterator[str]:
    yield ""
    yield f"## {cell(d.device)}"
    yield ""
    yield f"{d.platform}, wave {d.wave}: **{d.state}**{'; ' + cell(d.why) if d.why else ''}"
    if d.prints[0]:
        yield ""
        yield f"Made for `sha256:{d.prints[0]}`, proved to give `sha256:{d.prints[1]}`."
    if d.change:
        yield from ("", *for_markdown_block(d.change))
    settings = [s for s in d.before if d.after.get(s, d.before[s]) != d.before[s]]
    if settings:
        yield from ("", "| setting | before | after |", "|---|---|---|")
        yield from (f"| {s} | {cell(d.before[s])} | {cell(d.after.get(s, ''))} |" for s in settings)
    yield from ("", "| at | step | sent | answered |", "|---|---|---|---|")
    for s in d.steps:
        yield f"| {s.at} | {s.step} | | |"
        for x in s.said:
            sent = "<br>".join(f"`{code(one)}`" for one in x.typed.splitlines() if one.strip())
            answered = "<br>".join(cell(one) for one in x.answered)
            yield f"| | | {sent} | {answered} |"
