"""What a platform can say and what it cannot, read off its dialect."""

from __future__ import annotations

from msgspec import Struct

from ivrel.core.dialects.dialect import Dialect
from ivrel.core.dialects.slots import SLOTS
from ivrel.core.settings import SETTINGS
from ivrel.core.settings.relevance import OWNER


class Ability(Struct, frozen=True):
    """One thing that can be said of a setting: the place, the statement, the values and the
    default.
    """

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
    """Return the slots that bear on settings: those that this platform can say, then those it has
    only a default for.
    """
    out = []
    for slot in SLOTS.values():
        said = slot.name in dialect.slots
        if slot.idle or slot.table == "interface" or not (said or slot.name in dialect.defaults):
            continue
        pattern = next((p for p in dialect.patterns if slot.name in p.slots), None)
        values = dialect.choices(slot.name)
        out.append(
            Ability(
                OWNER[slot.name],
                slot.name,
                _WHERE[slot.table] if said else "cannot be said",
                dialect.says[dialect.patterns.index(pattern)] if pattern else "",
                values,
                tuple(c for c in slot.type.choices if c not in values) if values else (),
                str(dialect.defaults.get(slot.name, "")),
            )
        )
    order = list(SETTINGS)
    return sorted(out, key=lambda a: order.index(a.setting))


def unsaid(dialect: Dialect) -> list[str]:
    """Return the settings that this platform cannot express."""
    told = (slot for slot in dialect.slots if SLOTS[slot].table != "interface")
    said = {OWNER[slot] for slot in told if slot in OWNER}
    return [name for name in SETTINGS if name not in said]
