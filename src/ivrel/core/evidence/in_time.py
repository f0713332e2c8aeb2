"""Values in time: which of the values that were heard still hold when the records end.

A device that is mended during a day was heard with the old value and with the new one. The old one
contradicts nothing of today, once it is clear that it has stopped.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping

from msgspec import Struct

from ivrel.core.evidence.summary import Tally

# How many of its usual gaps a value must be missing for before it may have stopped; more for one
# that was seen a few times only, whose usual gap is hardly known.
_GAPS = 3.0
_GAPS_OF_FEW = 6.0
# What must be heard as asked after a change before it is called one, and for how many seconds.
_ENOUGH = 10
_ENOUGH_AFTER_FEW = 30
_FEW = 3
_LASTS = 3600.0


class ValuesInTime(Struct, frozen=True):
    """The values of one kind that a device was heard with.

    `right`: those that are as asked; `wrong`: those that are not, and still hold; `stopped`: those
    that were not, and surely ended; `unsure`: those that were not, and may have ended.
    """

    right: Mapping[str, Tally]
    wrong: Mapping[str, Tally]
    stopped: Mapping[str, Tally]
    unsure: Mapping[str, Tally]

    @property
    def since(self) -> float | None:
        """When the last value that was not as asked was heard, in seconds since 1970; None if none
        was.
        """
        ends = [t.ended for t in (*self.stopped.values(), *self.unsure.values())]
        return max((end for end in ends if end is not None), default=None)


def in_time(
    values: Mapping[str, Tally], accepts: Callable[[str], bool], changed: float | None = None
) -> ValuesInTime:
    """Sort values by whether they are as asked and still hold.

    `changed`: when a correction was delivered to the device, in seconds since 1970: what was heard
    only before it is left out.
    """
    heard = {v: t for v, t in values.items() if not is_before(t, changed)}
    right = {value: tally for value, tally in heard.items() if accepts(value)}
    wrong: dict[str, Tally] = {}
    stopped: dict[str, Tally] = {}
    unsure: dict[str, Tally] = {}
    for value, tally in heard.items():
        if value not in right:
            state = _state(tally, right.values())
            {"holds": wrong, "stopped": stopped, "unsure": unsure}[state][value] = tally
    return ValuesInTime(right, wrong, stopped, unsure)


def is_before(tally: Tally, changed: float | None) -> bool:
    """Whether a value was heard only before a moment, in seconds since 1970."""
    return changed is not None and tally.ended is not None and tally.ended < changed


def _state(wrong: Tally, right: Iterable[Tally]) -> str:
    """Return whether a value that is not as asked 'holds', has 'stopped', or 'unsure'."""
    others = list(right)
    begun = min((t.begun for t in others if t.begun is not None), default=None)
    ended = max((t.ended for t in others if t.ended is not None), default=None)
    if begun is None or ended is None or wrong.begun is None or wrong.ended is None:
        return "holds"
    number = sum(t.number for t in others)
    if ended <= wrong.ended:
        return "holds"
    is_quiet = has_paused(wrong, ended, (ended - begun) / max(number - 1, 1))
    if wrong.ended < begun:
        # One took the place of the other.
        enough = _ENOUGH if wrong.number >= _FEW else _ENOUGH_AFTER_FEW
        lasts = number >= enough and ended - begun >= _LASTS
        return "stopped" if is_quiet and lasts else "unsure"
    return "unsure" if is_quiet and wrong.number > 1 else "holds"


def has_paused(tally: Tally, ended: float | None, usual_of_others: float = 0.0) -> bool:
    """Whether a value was missing, at the end of the records, for much longer than it usually is.

    `ended`: when the last message of the device came, in seconds since 1970; `usual_of_others`: the
    usual gap that is taken for a value that was heard once.
    """
    if ended is None or tally.begun is None or tally.ended is None:
        return False
    few = max(tally.number - 1, 1)
    usual = (tally.ended - tally.begun) / few if tally.number > 1 else usual_of_others
    return usual > 0 and ended - tally.ended >= (_GAPS + _GAPS_OF_FEW / few) * usual
