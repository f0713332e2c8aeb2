"""Volume: what messages cost on the line, and what another trap level would cost."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from statistics import median

from msgspec import Struct

from ivrel.core.fleet import Device
from ivrel.core.measuring.sizes import UNKNOWN, Sizes
from ivrel.core.measuring.times import Times
from ivrel.core.vocabulary.severity import FACILITIES, SEVERITIES

MINUTE = 60
DONORS = 3  # devices of the same kind from which an estimate is made, or else all devices


class Volume(Struct, frozen=True):
    """What has something in common, on the wire: headers of IP and of the transport included.

    `name`: what it is; `messages`, `bytes`: of all; `rate`: bits a second in the mean, `rate_95`:
    the 95th percentile of all minutes, `burst`: the busiest minute; None where that is not known.
    `repeated`: bits a second that went to a second collector, and a relay that sends once would
    save. `other`: bits a second at another level, None if that is not known; `estimated`: whether
    that rests on what other devices send.
    """

    name: str
    messages: int
    bytes: int
    rate: float
    rate_95: float | None = None
    burst: float | None = None
    repeated: float = 0.0
    other: float | None = None
    estimated: bool = False


class SentVolume(Struct, frozen=True):
    """What was sent by whom: `seconds`: how long it was listened for."""

    devices: Mapping[str, Device]
    sizes: Mapping[str, Sizes]
    seconds: float

    def rate(self, number: float) -> float:
        """Return bytes of the whole time as bits a second."""
        return 8 * number / self.seconds if self.seconds else 0.0


def volumes(sent: SentVolume, by: str, level: int | None = None) -> list[Volume]:
    """Return the volume of each device, site, collector, severity, facility or kind, the largest
    first.

    `level`: the numerical code of another trap level, for devices and sites.
    """
    if by in ("device", "site"):
        found = _of_devices(sent, by, level)
    else:
        found = _of_cells(sent, by)
    return sorted(found, key=lambda v: (-v.bytes, v.name))


def _of_devices(sent: SentVolume, by: str, level: int | None) -> Iterable[Volume]:
    groups: dict[str, list[str]] = {}
    for name in sent.sizes:
        at = name if by == "device" else sent.devices[name].site
        groups.setdefault(at, []).append(name)
    for name, members in groups.items():
        some = [sent.sizes[m] for m in members]
        messages = sum(number for sizes in some for number, _ in sizes.cells.values())
        size = sum(size for sizes in some for _, size in sizes.cells.values())
        minutes = _minutes([sizes.bytes for sizes in some])
        other, estimated = _at(sent, members, level) if level is not None else (None, False)
        yield Volume(
            name, messages, size, sent.rate(size),
            _percentile(minutes, int(sent.seconds // MINUTE)),
            max(minutes, default=0) * 8 / MINUTE,
            sent.rate(sum(map(_repeated, some))),
            other,
            estimated,
        )  # fmt: skip


def _at(sent: SentVolume, names: Iterable[str], level: int) -> tuple[float | None, bool]:
    """Return the bits a second of some devices at another level, None if that is not known, and
    whether they are an estimate.
    """
    costs = {name: _at_level(sent, name, level) for name in names}
    every = [cost for by_severity in costs.values() for cost in by_severity.values()]
    known = [cost for cost in every if cost is not None]
    guessed = any(by.keys() - _by_severity(sent.sizes[name]).keys() for name, by in costs.items())
    return sent.rate(sum(known)) if len(known) == len(every) else None, guessed


def _minutes(times: Sequence[Times]) -> list[float]:
    """Return the bytes of each minute that has any, if spans are as short as that."""
    together: dict[int, float] = {}
    for one in times:
        for at, number in one.counts.items():
            # A longer span is spread over its minutes, as nothing else is known of it.
            parts = max(1, one.width // MINUTE)
            for n in range(parts):
                minute = at * one.width // MINUTE + n
                together[minute] = together.get(minute, 0) + number / parts
    return list(together.values())


def _percentile(minutes: Sequence[float], number: int) -> float:
    """Return the 95th percentile of so many minutes, most of them empty, in bits a second."""
    rank = number * 5 // 100  # so many minutes may lie above it
    ordered = sorted(minutes, reverse=True)
    return ordered[rank] * 8 / MINUTE if rank < len(ordered) else 0.0


def _repeated(sizes: Sizes) -> int:
    """Return the bytes that went to other collectors than the one that got most."""
    by_collector: dict[str, int] = {}
    for (collector, _, _), (_, size) in sizes.cells.items():
        by_collector[collector] = by_collector.get(collector, 0) + size
    return sum(by_collector.values()) - max(by_collector.values(), default=0)


class OfSeverity(Struct, frozen=True):
    """What one severity costs, in bits a second: `now`, and at another trap level; `other` is None
    if that is not known.
    """

    severity: str
    now: float
    other: float | None = None
    estimated: bool = False


def of_severities(sent: SentVolume, level: int | None = None) -> list[OfSeverity]:
    """Return the cost of each severity now and at another trap level, for all devices."""
    now = dict.fromkeys(range(len(SEVERITIES)), 0)
    then: dict[int, float | None] = dict.fromkeys(now, 0.0)
    guessed: set[int] = set()
    for name, sizes in sent.sizes.items():
        own = _by_severity(sizes)
        for severity, size in own.items():
            if severity != UNKNOWN:
                now[severity] += size
        for severity, cost in (_at_level(sent, name, level) if level is not None else {}).items():
            before = then[severity]
            then[severity] = None if cost is None or before is None else before + cost
            if severity not in own:
                guessed.add(severity)
    return [
        OfSeverity(
            SEVERITIES[n], sent.rate(size),
            None if level is None or (cost := then[n]) is None else sent.rate(cost), n in guessed,
        )
        for n, size in now.items()
    ]  # fmt: skip


def _at_level(sent: SentVolume, name: str, level: int) -> dict[int, float | None]:
    """Return the bytes that a device would send at another level, by severity; None where that is
    not known.
    """
    own = _by_severity(sent.sizes[name])
    if UNKNOWN in own:
        return dict.fromkeys(range(level + 1), None)
    least = max(own, default=0)
    costs: dict[int, float | None] = {s: float(n) for s, n in own.items() if s <= level}
    # What a device does not send now is taken from those that do, in proportion to the rest.
    for severity in range(least + 1, level + 1):
        shares = _shares(sent, name, severity, least)
        costs[severity] = median(shares) * sum(own.values()) if shares else None
    return costs


def _shares(sent: SentVolume, name: str, severity: int, least: int) -> list[float]:
    """Return the share of a severity in the volume up to another one, of all other devices."""
    alike: list[float] = []
    others: list[float] = []
    for other, sizes in sent.sizes.items():
        sizes_by = _by_severity(sizes)
        rest = sum(size for s, size in sizes_by.items() if 0 <= s <= least)
        if other == name or severity not in sizes_by or not rest:
            continue
        share = sizes_by[severity] / rest
        others.append(share)
        if sent.devices[other].kind == sent.devices[name].kind:
            alike.append(share)
    return alike if len(alike) >= DONORS else others


def _by_severity(sizes: Sizes) -> dict[int, int]:
    out: dict[int, int] = {}
    for (_, _, severity), (_, size) in sizes.cells.items():
        out[severity] = out.get(severity, 0) + size
    return out


_NAMED: Mapping[str, Callable[[tuple[str, int, int]], str]] = {
    "collector": lambda cell: cell[0] or "not recorded",
    "facility": lambda cell: FACILITIES[cell[1]] if cell[1] >= 0 else "not recorded",
    "severity": lambda cell: SEVERITIES[cell[2]] if cell[2] >= 0 else "not recorded",
}


def _of_cells(sent: SentVolume, by: str) -> Iterable[Volume]:
    found: dict[str, list[int]] = {}

    def plus(name: str, number: int, size: int) -> None:
        have = found.setdefault(name, [0, 0])
        have[0] += number
        have[1] += size

    for sizes in sent.sizes.values():
        if by == "kind":
            for kind, pair in sizes.kinds.items():
                plus(kind, *pair)
            if sizes.more[0]:
                plus("other kinds", *sizes.more)
        else:
            for cell, pair in sizes.cells.items():
                plus(_NAMED[by](cell), *pair)
    for name, (number, size) in found.items():
        yield Volume(name, number, size, sent.rate(size))
