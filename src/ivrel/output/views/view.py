"""What every view is."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from typing import Any

import msgspec
from msgspec import Struct

from ivrel.core.text.bundle import Places
from ivrel.core.vocabulary.verdict import Place

LineText = Callable[[Place, str], str]  # what stands in a place, as far as a setting may show it


class View(Struct, frozen=True):
    """What a command shows; `next`: the commands that a reader is likely to type next."""

    next: tuple[str, ...] = ()

    def machine(self) -> Any:
        """Return the machine form, in built-in types; docs/formats.md lists its keys."""
        raise NotImplementedError


class RowsView(View, frozen=True):
    """What machines get row by row, too: as JSON Lines and CSV."""

    @property
    def columns(self) -> tuple[str, ...]:
        """The keys of the rows, which are reported also where there is no row."""
        raise NotImplementedError

    def rows(self) -> Iterator[Mapping[str, Any]]:
        """Yield the rows in built-in types, all with the same keys in the same order."""
        raise NotImplementedError

    def machine(self) -> Any:
        return {"rows": list(self.rows())}


def fields(one: object, names: str) -> dict[str, Any]:
    """Return some fields of an object in built-in types; `field:key` gives one another key.

    >>> from ivrel.core.fleet import Device
    >>> fields(Device("tarsk-fw2", "firewall", "tarsk", "skarn"), "name:device site")
    {'device': 'tarsk-fw2', 'site': 'tarsk'}
    """
    out = {}
    for name in names.split():
        field, _, key = name.partition(":")
        out[key or field] = msgspec.to_builtins(getattr(one, field))
    return out


def keys(names: str) -> tuple[str, ...]:
    """Return the keys that `fields` gives for the same names."""
    return tuple(name.rpartition(":")[2] for name in names.split())


def place_of(places: Places, line: int) -> dict[str, Any]:
    """Return a place for machines."""
    file, number = places(line)
    return {"file": file, "line": number}
