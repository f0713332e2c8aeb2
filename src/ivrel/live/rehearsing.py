"""Rehearsing: a device itself tries a change, and drops it; what it says is held against the proof.

Passes: a candidate that takes the change, reads as proved, and is thrown away
Fails:  a device that refuses a line, or whose candidate says something else than the proof
"""

from __future__ import annotations

import asyncio

from ivrel.core.delivery import course as step
from ivrel.core.delivery.standing import PROVED, differs, standing
from ivrel.core.vocabulary.errors import Refused
from ivrel.live.links import Link, OutgoingChange
from ivrel.live.proving import Ready


async def rehearsed(link: Link, ready: Ready) -> tuple[str, str]:
    """Have a device try a change, and return how it stands with it then, and why.

    Unreachable if it is lost meanwhile.
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
