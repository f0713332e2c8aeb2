"""The course of a delivery to one device: its steps, and what is to be done next, decided by what
was begun last and by what the device says now.

Each step is written down before it is taken and after. What was written last, and the state of the
device, decide alone: whoever comes back after a lost connection, or after the program was killed,
needs to know nothing else.
"""

from __future__ import annotations

from collections.abc import Mapping

from ivrel.core.delivery.standing import BEFORE, BETWEEN, PROVED, UNREADABLE

# What is written down, in the order in which it is done. What ends in -ing is about to be done.
REACHED = "reached"
SENDING = "sending"
SENT = "sent"
READ = "reads as proved"
HEARD = "heard as asked"
KEEPING = "keeping"
KEPT = "kept"
LASTS = "lasts"
TAKING_BACK = "taking back"
TAKEN_BACK = "taken back"
STEPS = (REACHED, SENDING, SENT, READ, HEARD, KEEPING, KEPT, LASTS, TAKING_BACK, TAKEN_BACK)

# Behind which a device may say other things than before.
CHANGING = (SENDING, SENT, TAKING_BACK, TAKEN_BACK)

# How it stands with a device of a delivery.
WAITING = "waiting"
IN_FLIGHT = "in flight"
TO_LAST = "kept"
DELIVERED = "delivered"
THERE = "there already"
AS_BEFORE = "as before"
REFUSED = "not begun"
IN_DOUBT = "in doubt"
WOULD = "would be sent"
RELEASED = "released"
STATES: Mapping[str, str] = {
    IN_DOUBT: "neither as proved nor as before, or not reachable: check it by hand",
    AS_BEFORE: "the change was reverted or did not last; the export settings are as before",
    REFUSED: "nothing was sent",
    RELEASED: "it was in doubt; a person checked it and released it",
    IN_FLIGHT: "the delivery was interrupted; --resume continues it",
    TO_LAST: "the change is confirmed; a last check follows once every trial has expired",
    WAITING: "not its turn yet",
    WOULD: "reachable, and the proof holds on its current configuration",
    DELIVERED: "the configuration is as proved, and the change is saved",
    THERE: "the configuration is already as the change would make it",
}
FAILED = (IN_DOUBT, AS_BEFORE, REFUSED)
HELD = (IN_FLIGHT, IN_DOUBT, TO_LAST)  # no other delivery may begin with such a device

# What is to be done next.
BEGIN = "begin"
GO_ON = "go on"
TAKE_BACK = "take back"
IS_BEFORE = "is as before"
IS_DELIVERED = "is delivered"

_UNDERWAY = (SENDING, SENT, READ, HEARD, KEEPING)
_NEXT: Mapping[tuple[str, str], str] = {
    **{(step, PROVED): GO_ON for step in _UNDERWAY},
    **{(step, BEFORE): IS_BEFORE for step in _UNDERWAY},
    **{(step, PROVED): IS_DELIVERED for step in (KEPT, LASTS)},
    **{(step, BEFORE): IS_BEFORE for step in (KEPT, LASTS)},
    (TAKING_BACK, PROVED): TAKE_BACK,
    (TAKING_BACK, BEFORE): IS_BEFORE,
    (TAKEN_BACK, PROVED): TAKE_BACK,
    (TAKEN_BACK, BEFORE): IS_BEFORE,
    **{(step, where): TAKE_BACK for step in STEPS for where in (BETWEEN, UNREADABLE)},
}


def next_move(last: str, where: str) -> str:
    """Return the next step for a device: `last` is the step recorded last, `where` the device's
    state. If nothing was sent to a device, its state does not matter.
    """
    return BEGIN if last in ("", REACHED) else _NEXT[last, where]
