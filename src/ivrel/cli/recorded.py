"""A delivery of the journal as it is shown."""

from __future__ import annotations

from collections.abc import Mapping

from ivrel.cli.delivering import Run
from ivrel.live.journal import Delivery, DeviceEntry, Journal
from ivrel.output.views.delivered import Delivered, DeliveryView, Done, ShownExchange
from ivrel.sources.workspace import Workspace


def view_of(
    workspace: Workspace,
    journal: Journal,
    one: Delivery,
    *,
    stopped: str = "",
    outcomes: Mapping[str, Run] | None = None,
    is_record: bool = False,
) -> DeliveryView:
    """Return a delivery as it is shown."""
    entries = journal.entries(one.number)
    return DeliveryView(
        fleet=workspace.fleet.name,
        number=one.number,
        begun=one.begun,
        ended=one.ended,
        who=one.who,
        host=one.host,
        folder=one.folder,
        devices=tuple(
            _device(journal, one.number, e, (outcomes or {}).get(e.device)) for e in entries
        ),
        stopped=stopped,
        called=_steps(journal, one.number, ""),
        is_record=is_record,
    )


def _device(journal: Journal, number: int, e: DeviceEntry, outcome: Run | None) -> Delivered:
    return Delivered(
        device=e.device,
        platform=e.platform,
        wave=e.wave,
        state=e.state,
        why=e.why,
        seconds=outcome.seconds if outcome is not None else 0.0,
        change=e.change,
        prints=(e.before, e.proved),
        before=dict(e.verdicts),
        after=dict(e.became),
        steps=_steps(journal, number, e.device),
        anew=outcome.anew if outcome is not None else (),
    )


def _steps(journal: Journal, number: int, device: str) -> tuple[Done, ...]:
    """Return what was done with a device; with '', what was called for the whole delivery."""
    return tuple(
        Done(s.at, s.step, tuple(ShownExchange(x.typed, x.answered) for x in s.said))
        for s in journal.steps(number, device)
    )
