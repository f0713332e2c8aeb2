"""What a platform can say and what it cannot, read off its dialect."""

from __future__ import annotations

from msgspec import Struct

from ivrel.core.dialects.dialect import Dialect
from ivrel.core.dialects.slots import SLOTS


class Ability(Struct, frozen=True):
    """One thing that can be said of a setting: where, by which statement, with which values and default."""

    setting: str
    slot: str
    where: str
    says: str
    values: tuple[str, ...]
    cannot: tuple[str, ...]
    default: str


_WHERE = {
    "": "once",
    "destination": "for each destination",
    "pick": "for each destination, row by row",
    "feed": "for each feed",
    "take": "for each feed and category",
    "give": "for each feed",
    "show": "for each output, row by row",
    "server": "for each time server",
    "resolver": "for each resolver",
    "mute": "for each filter",
    "gate": "for each traffic rule",
}


def abilities(dialect: Dialect) -> list[Ability]:
    """The slots that bear on settings: those that this platform can say, then those it has only a default for."""
    out = []
    for slot in SLOTS.values():
        said = slot.name in dialect.slots
        if not slot.bears_on or slot.table == "interface" or not (said or slot.name in dialect.defaults):
            continue
        pattern = next((p for p in dialect.patterns if slot.name in p.slots), None)
        values = dialect.choices(slot.name)
        out.append(
            Ability(
                slot.bears_on[0],
                slot.name,
                _WHERE[slot.table] if said else "cannot be said",
                dialect.says[dialect.patterns.index(pattern)] if pattern else "",
                values,
                tuple(c for c in slot.type.choices if c not in values) if values else (),
                str(dialect.defaults.get(slot.name, "")),
            )
        )
    order = list(dict.fromkeys(name for slot in SLOTS.values() for name in slot.bears_on))
    return sorted(out, key=lambda a: order.index(a.setting))


def lacking(dialect: Dialect) -> list[str]:
    """The settings of which this platform can say nothing at all."""
    bear = {name: None for slot in SLOTS.values() for name in slot.bears_on}
    said = {name for slot in dialect.slots for name in SLOTS[slot].bears_on[:1] if SLOTS[slot].table != "interface"}
    return [name for name in bear if name not in said]
