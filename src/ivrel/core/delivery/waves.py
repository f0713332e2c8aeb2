"""Waves: the steps that deliver the corrections of a fleet.

First a few devices that differ, so that a mistake shows early and on few; then more each time.
Never two devices of a pair in one wave, nor all that a site is heard by; the collectors' own sites
come last. The same corrections give the same waves.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping, Sequence
from fnmatch import fnmatchcase

from msgspec import Struct

from ivrel.core.fleet import Device
from ivrel.core.vocabulary.wording import listed

FIRST = 5  # devices in the first wave
GROWTH = 2  # times the size of the wave before; told as 'twice'


class WaveCandidate(Struct, frozen=True):
    """A device that is chosen for a delivery.

    `lines`: those of its change, 0 if it has none; `sends`, `would_send`: whether messages leave it
    for a right collector, as it is and with the change.
    """

    device: Device
    lines: int
    sends: bool
    would_send: bool


class Order(Struct, frozen=True):
    """What the waves are to heed.

    `first`: devices in the first wave; `apart`: groups, or globs, whose devices never change in the
    same wave; `last`: sites that come last: those of collectors.
    """

    first: int = FIRST
    apart: tuple[str, ...] = ()
    last: frozenset[str] = frozenset()


class Held(Struct, frozen=True):
    """A device that would have been in a wave and waits for a later one, and why."""

    device: str
    why: str


class Wave(Struct, frozen=True):
    """One step of a delivery: its devices, and why it holds these and no more."""

    number: int
    devices: tuple[str, ...]
    why: str
    held: tuple[Held, ...] = ()


def in_waves(candidates: Sequence[WaveCandidate], order: Order) -> tuple[Wave, ...]:
    """Return the waves for devices in the order of the fleet; those without a change are in none.

    Devices without a change count for what a site is heard by.
    """
    changing = [c for c in candidates if c.lines]
    state = _State(candidates, order)
    last = [c for c in changing if c.device.site in order.last]
    rest = [c for c in changing if c.device.site not in order.last]
    waves: list[Wave] = []
    for some, is_last in ((rest, False), (last, True)):
        queue = _spread(some)
        while queue:
            size = order.first * GROWTH ** len(waves)
            differing = queue if waves else _differing_first(queue, size)
            taken, held = state.fill(differing, size)
            names = {c.device.name for c in taken}
            queue = [c for c in queue if c.device.name not in names]
            why = _why(taken, waves, size, is_last=is_last)
            waves.append(Wave(len(waves) + 1, tuple(c.device.name for c in taken), why, held))
    return tuple(waves)


class _State:
    """The devices delivered so far, and those that send messages by then."""

    def __init__(self, candidates: Sequence[WaveCandidate], order: Order) -> None:
        self._apart = order.apart
        self._heard: dict[str, set[str]] = {}  # by site, the devices that send
        self._coming: dict[str, set[str]] = {}  # by site, those that will, and do not yet
        for c in candidates:
            name = c.device.name
            site = c.device.site
            if c.sends:
                self._heard.setdefault(site, set()).add(name)
            elif c.lines and c.would_send:
                self._coming.setdefault(site, set()).add(name)

    def fill(
        self, queue: Sequence[WaveCandidate], size: int
    ) -> tuple[list[WaveCandidate], tuple[Held, ...]]:
        """Return the devices of the next wave, and those of the queue that wait for a reason of
        their own.
        """
        taken: list[WaveCandidate] = []
        held: list[Held] = []
        groups: dict[str, str] = {}  # what is apart, and the device of it that is in this wave
        left = {site: set(names) for site, names in self._heard.items()}
        for c in queue:
            if len(taken) == size:
                break
            why = self._why_not(c, groups, left)
            if why:
                held.append(Held(c.device.name, why))
                continue
            taken.append(c)
            left.get(c.device.site, set()).discard(c.device.name)
            groups |= dict.fromkeys(self._apart_groups(c.device), c.device.name)
        for c in taken:
            name = c.device.name
            site = c.device.site
            self._coming.get(site, set()).discard(name)
            heard = self._heard.setdefault(site, set())
            (heard.add if c.would_send else heard.discard)(name)
        return taken, tuple(held)

    def _why_not(
        self, c: WaveCandidate, groups: Mapping[str, str], left: Mapping[str, Collection[str]]
    ) -> str:
        """Return why a device is not in the wave that is being filled; '' if it can be."""
        name = c.device.name
        site = c.device.site
        for group in self._apart_groups(c.device):
            if group in groups:
                return f"{groups[group]} of {group} is in this wave"
        now = self._heard.get(site, set())
        if name not in now or set(left[site]) - {name}:
            return ""
        # It would be the last by which the site is heard while the wave lasts.
        if len(now) > 1:
            return f"{site} is heard by no other device outside of this wave"
        coming = self._coming.get(site, set()) - {name}
        return f"{site} is heard by it alone until {min(coming)} is done" if coming else ""

    def _apart_groups(self, device: Device) -> Iterator[str]:
        for group in device.groups:
            if any(fnmatchcase(group, glob) for glob in self._apart):
                yield group


def _spread(some: Sequence[WaveCandidate]) -> list[WaveCandidate]:
    """Return devices in an order that keeps those of one site far apart."""
    seen: dict[str, int] = {}
    turns = []
    for n, c in enumerate(some):
        turn = seen[c.device.site] = seen.get(c.device.site, -1) + 1
        turns.append((turn, n))
    return [some[n] for _, n in sorted(turns)]


def _differing_first(queue: Sequence[WaveCandidate], number: int) -> list[WaveCandidate]:
    """Return devices in an order whose first ones are each unlike those before: of another
    platform, then of another kind, then at another site. `number`: of those that come first.
    """
    left = {c.device.name: c for c in queue}
    seen: dict[str, set[str]] = {"platform": set(), "kind": set(), "site": set()}
    out: list[WaveCandidate] = []
    while left and len(out) < number:
        # The least of those that are as new: a short change is soon looked at.
        best = min(left.values(), key=lambda c: (*_known(c.device, seen), c.lines))
        known = _known(best.device, seen)
        if all(known):
            break
        for what, values in seen.items():
            values.add(getattr(best.device, what))
        out.append(left.pop(best.device.name))
    return out + list(left.values())


def _known(device: Device, seen: Mapping[str, Collection[str]]) -> tuple[bool, ...]:
    return tuple(getattr(device, what) in values for what, values in seen.items())


def _why(
    taken: Sequence[WaveCandidate], before: Sequence[Wave], size: int, *, is_last: bool
) -> str:
    """Return why a wave holds these devices and no more."""
    if is_last:
        return "at the collectors' own sites, which come last"
    if before:
        return f"up to {size:,}, twice what wave {before[-1].number} may hold"
    platforms = list(dict.fromkeys(c.device.platform for c in taken))
    return f"few that differ: {listed(platforms).replace(' or ', ' and ')}"
