"""What a simulated device shows of its present state: written by the patterns that read it."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator, Mapping

from ivrel.core.dialects.dialect import Dialect
from ivrel.core.dialects.pattern import Pattern
from ivrel.core.settings import Scope
from ivrel.core.settings.sending import sendings
from ivrel.core.shapes.printed import Printed
from ivrel.core.shapes.shape import Edit
from ivrel.core.text.text import Text
from ivrel.core.vocabulary.errors import Refused
from ivrel.core.vocabulary.severity import SEVERITIES, Selection, least_urgent
from ivrel.core.vocabulary.values import Value

_SLOT = re.compile(r"\{(?:rest )?([\w.-]+)\}")
ERROR = "connection refused"

Values = Mapping[str, Value]


class Counters:
    """What a device counts for one destination since it started, and whether it reaches it."""

    __slots__ = ("dropped", "is_down", "sent")

    def __init__(self) -> None:
        self.sent = 0
        self.dropped = 0
        self.is_down = False


CountersOf = Callable[[str, int, str], Counters]  # by address, port, transport


def displayed(scope: Scope, counters: CountersOf, held: int) -> bytes:
    """Return what a device of this configuration shows of its state.

    `held`: messages in its memory. Raise Refused if its dialect describes no display.
    """
    display = scope.records.dialect.display
    if display is None:
        raise Refused("there is no such display")
    export = str(scope.records.get("export").value)
    device: Values = {"memory.held": held, "export": export}
    rows = [] if export == "off" else list(_destinations(scope, counters))
    dialect = display.dialect
    if isinstance(dialect.shape, Printed):
        lines = [*_lines(dialect, "", device)]
        for row in rows:
            lines += _lines(dialect, "destination", row)
        return "".join(f"{line}\n" for line in lines).encode()
    edits = [*_edits(dialect, "", device)]
    for row in rows:
        edits += _edits(dialect, "destination", row)
    wrapper = getattr(dialect.shape, "wrapper", ())
    empty = f"<{wrapper[0]}/>\n".encode() if wrapper else b""
    return dialect.shape.apply(Text(empty), edits, lambda path, words: (path, words))


def _destinations(scope: Scope, counters: CountersOf) -> Iterator[Values]:
    """Yield the values of each destination, as far as the device knows them."""
    for one in scope.destinations:
        address, port, transport = (str(part) for part in one.endpoint)
        number = int(port) if port.isdigit() else 514
        counted = counters(address, number, transport)
        values: dict[str, Value] = {
            "destination.address": address,
            "destination.port": number,
            "destination.transport": transport,
            "destination.level": _level(sendings(scope, one).values()),
            "destination.state": "down" if counted.is_down else "up",
            "destination.sent": counted.sent,
            "destination.dropped": counted.dropped,
            "destination.waiting": 0,
        }
        keys = zip(scope.records.dialect.keys["destination"], one.key, strict=True)
        values |= {slot: value for slot, value in keys if slot not in values}
        if counted.is_down:
            values["destination.error"] = ERROR
        yield values


def _level(sending: Iterable[Selection]) -> str:
    """Return the least urgent severity that leaves."""
    bits = 0
    for one in sending:
        bits |= one.bits
    number = least_urgent(Selection(bits))
    return SEVERITIES[number] if number >= 0 else "none"


def _lines(dialect: Dialect, table: str, values: Values) -> Iterator[str]:
    """Yield the lines of a printed display that show values."""
    for pattern, says in zip(dialect.patterns, dialect.says, strict=True):
        if pattern.table != table or any(slot not in values for slot in pattern.own_slots):
            continue
        words = {slot: _word(pattern, slot, values[slot]) for slot in pattern.own_slots}
        if None not in words.values():
            yield "  " * len(pattern.path) + _filled(says, words)


def _filled(says: str, words: Mapping[str, str | None]) -> str:
    """Return the text of a pattern with words in the places of its slots."""
    return _SLOT.sub(lambda found: str(words[found[1]]), says)


def _word(pattern: Pattern, slot: str, value: Value) -> str | None:
    variable = pattern.variable(slot)
    return None if variable is None else variable.encode(value)


def _edits(dialect: Dialect, table: str, values: Values) -> Iterator[Edit]:
    """Yield the statements that show values, in the shape of the configuration."""
    for pattern in dialect.patterns:
        if pattern.table == table:
            found = pattern.write(values.get)
            if found is not None:
                yield Edit(*found)
