"""Folding: what many devices have in common is reported once, with their names.

And counted by group.
"""

from __future__ import annotations

from collections.abc import Callable, Hashable, Iterable, Sequence
from typing import Generic, TypeVar

from msgspec import Struct

T = TypeVar("T")

ONE_BY_ONE = 50  # devices that are shown one by one, unless all are asked for
GROUPS = ("site", "kind", "platform")  # what devices can be counted by


class Folded(Struct, Generic[T], frozen=True):
    """One thing, and the devices that have it in common."""

    item: T
    devices: tuple[str, ...]


def folded(pairs: Iterable[tuple[str, T]], key: Callable[[T], Hashable]) -> list[Folded[T]]:
    """Return things that are alike once, each with its devices; the most frequent first.

    `pairs`: devices and what each has; `key`: what makes two things alike.
    """
    found: dict[Hashable, tuple[T, list[str]]] = {}
    for device, item in pairs:
        found.setdefault(key(item), (item, []))[1].append(device)
    alike = [Folded(item, tuple(devices)) for item, devices in found.values()]
    return sorted(alike, key=lambda f: -len(f.devices))


def grouped(items: Iterable[T], by: Callable[[T], str]) -> dict[str, list[T]]:
    """Return things by their group, in the order of the names of groups."""
    out: dict[str, list[T]] = {}
    for item in items:
        out.setdefault(by(item), []).append(item)
    return dict(sorted(out.items()))


def named(devices: Sequence[str], most: int = 6) -> str:
    """Return the names of devices in a line; of many, the first and how many more."""
    more = f" and {len(devices) - most:,} more" if len(devices) > most else ""
    return ", ".join(devices[:most]) + more
