"""Rehearsals: a device tries a change and discards it; the result is compared with the proof.

Passes: a candidate that accepts the change, is as proved, and is discarded
Fails:  a device that refuses a line, or whose candidate differs from the proof
"""

from __future__ import annotations

import asyncio

from ivrel.core.delivery import course as step
from ivrel.core.delivery.standing import PROVED, differs, standing
from ivrel.core.vocabulary.errors import Refused
from ivrel.live.links import Link, OutgoingChange
from ivrel.live.proving import Ready


async def rehearsed(link: Link, ready: Ready) -> tuple[str, str]:
    """Let a device try a change; return the state of the delivery and the reason for it.

    Raise Unreachable if the session is lost.
    """
    sent = OutgoingChange(ready.change, ready.before, ready.proved, renews=False)
    try:
        tried = await link.rehearse(sent)
    except Refused as problem:
        at = f"line {problem.line}: " if problem.line else ""
        return step.REFUSED, f"the device refuses the change: {at}{problem}"
    if tried is None:
        return step.WOULD, "not tried: on this platform each line takes effect at once"
    dialect = link.target.dialect
    if tried.text:
        texts = (tried.text, ready.before, ready.proved)
        found = await asyncio.to_thread(standing, dialect, *texts)
        if found.where != PROVED:
            return (
                step.REFUSED,
                f"the device would end up with another configuration than proved: {found.why}",
            )
    # Nothing of it may be left.
    against = differs(dialect, await link.fetch(), ready.before)
    if against:
        return step.REFUSED, f"its configuration changed during the rehearsal, check it: {against}"
    says = ", read as proved" if tried.text else ""
    return step.WOULD, f"{tried.how}{says}, dropped"
