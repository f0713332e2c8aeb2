"""Faults of stand-ins: what goes wrong with a device although its configuration does not say so."""

from __future__ import annotations

from collections.abc import Mapping
from random import Random

from msgspec import Struct

from ivrel.core.vocabulary.wording import not_one_of, shorten

FAULTS: Mapping[str, str] = {
    "drop": "ends the session in the middle of a change",
    "hang": "stops answering in the middle of a change",
    "slow": "takes its time for each answer",
    "refuse": "refuses a line of the change",
    "ignore": "says that it has taken a line, and has not",
    "restart": "restarts in the middle of a change; what was not saved is gone",
    "late": "takes the change, and ends the session before it says so",
    "drip": "sends a byte at a time; of a long answer, at its begin and its end",
    "fold": "folds lines at 80 columns, however wide its terminal is",
    "chat": "says messages into the session",
    "clock": "shows the time in its prompt",
    "stuck": "sends, and its counters do not move",
    "down": "does not reach its first destination, and says so where it is asked for its state",
    "silent": "speaks to nobody, whatever its configuration says",
}
BY_CHANCE = (
    "drop",
    "hang",
    "slow",
    "refuse",
    "ignore",
    "restart",
    "late",
    "drip",
    "chat",
    "clock",
)  # what may befall any session
SLOW = 0.3  # seconds


class Fault(Struct, frozen=True):
    """A fault of one session: its kind, and the typed line of a change (from 1) that it is at."""

    kind: str
    at: int = 1


def fault_of(word: str) -> Fault:
    """Return the fault that a word means: its kind, and behind a colon the line that it is at, the
    second if none is said. ValueError if it means none.
    """
    kind, divided, at = word.partition(":")
    if kind not in FAULTS:
        raise ValueError(f"fault {not_one_of(kind, FAULTS)}")
    if divided and not (at.isascii() and at.isdigit() and int(at[:6])):
        raise ValueError(f"'{shorten(at)}' is not a line of a change; write 1 or more")
    return Fault(kind, int(at[:6]) if at else 2)


class Chance:
    """Deals out faults: to some of all sessions, the same ones for the same seed."""

    def __init__(self, share: float, seed: int) -> None:
        self._share = share
        self._seed = seed
        self._sessions: dict[str, int] = {}

    def fault(self, device: str) -> Fault | None:
        """Return the fault of the next session with a device; None if it has none."""
        number = self._sessions[device] = self._sessions.get(device, 0) + 1
        dice = Random(f"{self._seed} {device} {number}")
        if dice.random() >= self._share:
            return None
        return Fault(dice.choice(BY_CHANCE), dice.randrange(1, 6))
