"""Ways: where messages leave from, if a source is an interface or an address."""

from __future__ import annotations

from msgspec import Struct

from ivrel.core.reading.records import Records
from ivrel.core.reading.statements import DOUBT
from ivrel.core.reading.tables import values_of
from ivrel.core.settings.places import ValuePlace
from ivrel.core.settings.scope import Destination, Scope
from ivrel.core.vocabulary.addresses import FAMILIES, family_of
from ivrel.core.vocabulary.sourced import Row


def knows_interfaces(records: Records) -> bool:
    """Whether interfaces are part of this platform's configurations."""
    return records.dialect.has("interface.name")


class SourcePath(Struct, frozen=True):
    """What a source comes to: interface, its addresses, the lines that say so, and what is wrong
    with it.
    """

    name: str | None
    addresses: tuple[str, ...]
    lines: tuple[int, ...]
    wrong: str = ""
    beside: tuple[str, ...] = ()  # what else the interface has
    doubt: str = ""  # why it is not sure what it comes to


def way_of(scope: Scope, place: ValuePlace, by_interface: bool) -> SourcePath:
    """Return the address or interface of the source at a place; `by_interface`: it is given as an
    interface.
    """
    # Where the source is said counts as well: an interface may carry what leaves by one feed and
    # not by another.
    name = (place.table, place.label, place.said.value, place.said.lines, by_interface)
    return scope.once(lambda: _found_way(scope, place, by_interface), "source", *name)


def _found_way(scope: Scope, place: ValuePlace, by_interface: bool) -> SourcePath:
    records = scope.records
    value = str(place.said.value)
    lines = place.said.lines
    if not knows_interfaces(records):
        return SourcePath(value, (), lines) if by_interface else SourcePath(None, (value,), lines)
    if by_interface:
        row = records.row("interface", value)
        if row is None:
            why = f"interface {value} does not exist"
            return _named_elsewhere(records, value, lines) or SourcePath(value, (), lines, why)
        return _by_row(records, place, value, row, by_interface)
    every = records.rows_with("interface", "interface.address", value)
    if not every:
        why = f"no interface has the address {value}"
        return _named_elsewhere(records, value, lines) or SourcePath(None, (value,), lines, why)
    if len(every) > 1:
        ways = [_by_row(records, place, str(key[0]), row, by_interface) for key, row in every]
        # Whichever of them the platform takes, messages bear this address.
        if not any(way.wrong or way.doubt for way in ways):
            return SourcePath(None, (value,), lines)
        # It may take one that does not work, and nothing in the text says which it takes.
        names = " and ".join(str(key[0]) for key, _ in every)
        doubt = f"several interfaces have the address {value}: {names}"
        return SourcePath(None, (value,), lines, doubt=doubt)
    ((key, row),) = every
    return _by_row(records, place, str(key[0]), row, by_interface)


def _named_elsewhere(records: Records, value: str, lines: tuple[int, ...]) -> SourcePath | None:
    """Return the doubt about a source that no known part of the text says, but another part names;
    None if none does.
    """
    line = records.line_with(value)
    if line is None:
        return None
    doubt = f"line {line} names {value}, in a part that the dialect does not know"
    return SourcePath(value, (), (*lines, line), doubt=doubt)


def _by_row(
    records: Records, place: ValuePlace, name: str, row: Row, by_interface: bool
) -> SourcePath:
    """Return the source that is an interface, or one of its addresses."""
    value = str(place.said.value)
    lines = place.said.lines
    if DOUBT in row:
        said = row[DOUBT]
        doubt = f"{name}: line {said.lines[0]} is not understood: {said.value}"
        return SourcePath(name, (), (*lines, *said.lines), doubt=doubt)
    unsure = parts_off(row)
    if unsure:
        return SourcePath(name, (), (*lines, *unsure[1]), doubt=f"{name}: {unsure[0]}")
    addresses = in_use(row)
    wrong, more = _out_of_use(records, place, name, row, addresses)
    if wrong:
        return SourcePath(name, addresses, lines + more, wrong)
    said = records.get("interface.address", row)
    if by_interface:
        return SourcePath(name, addresses, lines + said.lines)
    if value not in addresses:
        # An address is there still, although its family is switched off.
        wrong = f"{value} is on {name}, where addresses of its family are off"
        return SourcePath(name, addresses, lines, wrong)
    values = values_of(row, "interface.address")
    at = [line for one, line in zip(values, said.lines, strict=False) if one == value]
    beside = tuple(a for a in addresses if a != value)
    return SourcePath(name, (value,), lines + tuple(at[:1]), beside=beside)


def _out_of_use(
    records: Records, place: ValuePlace, name: str, row: Row, addresses: tuple[str, ...]
) -> tuple[str, tuple[int, ...]]:
    """Return why nothing can leave by an interface, and the lines that say so; '' if it can."""
    if other_plane(records, row, place):
        plane = records.get("interface.plane", row)
        return f"{name} carries {plane.value} only", plane.lines
    if not addresses:
        return f"{name} has no address", ()
    state = records.get("interface.state", row)
    if state.value == "down" or values_of(row, "interface.part-state") == ("down",):
        return f"{name} is down", state.lines
    return "", ()


_FAMILY_STATES = {family: f"interface.{word}-state" for word, family in FAMILIES.items()}


def parts_off(row: Row) -> tuple[str, tuple[int, ...]] | None:
    """Return why it is not sure which addresses of an interface are in use: some of its parts are
    off, others are not.
    """
    for slot in ("interface.part-state", *_FAMILY_STATES.values()):
        states = values_of(row, slot)
        if len(states) > 1 and "down" in states:
            return "a part of it is off, and it is not told which addresses are of that part", row[
                slot
            ].lines
    return None


def in_use(row: Row) -> tuple[str, ...]:
    """Return the addresses of an interface whose family is not switched off there."""
    off = {family for family, slot in _FAMILY_STATES.items() if "down" in values_of(row, slot)}
    return tuple(
        a for a in map(str, values_of(row, "interface.address")) if family_of(a) not in off
    )


def other_plane(records: Records, row: Row, place: ValuePlace) -> bool:
    """Whether an interface carries the messages of another feed only."""
    plane = records.get("interface.plane", row).value
    return place.table == "feed" and plane is not None and plane != place.label


def leaving_by(scope: Scope, place: ValuePlace) -> dict[str, Destination]:
    """Return a destination of each address family that what leaves by a place goes to."""
    out: dict[str, Destination] = {}
    for d in scope.judged:
        if place.families and family_of_destination(scope, d) not in ("", *place.families):
            continue
        if place.table == "destination" and d.key != place.key:
            continue
        if place.table == "feed" and place.label not in scope.feeds([d]):
            continue
        out.setdefault(family_of_destination(scope, d), d)
    # A host name may stand for either family, so nothing follows from it.
    out.pop("", None)
    return out


def family_of_destination(scope: Scope, d: Destination) -> str:
    """Return the family that a destination is sent to by; '' if its host name may mean either."""
    known = scope.collectors[d.collector].address if d.collector else ""
    return family_of(str(d.endpoint[0])) or family_of(known)


def cannot_reach(scope: Scope, place: ValuePlace, by_interface: bool, way: SourcePath) -> str:
    """Return why messages cannot leave for a destination from here: no address of its family."""
    has = {family_of(a) for a in way.addresses}
    for family, d in leaving_by(scope, place).items():
        if has and family not in has:
            here = f"{way.name} has" if by_interface else f"{way.addresses[0]} is"
            return f"{here} no {family} address, and {d.title} is at {d.endpoint[0]}"
    return ""


def interface_with(records: Records, wanted: str) -> tuple[str, Row] | None:
    """Return the only interface with an address, and its row; None if there is none or several."""
    found = records.rows_with("interface", "interface.address", wanted)
    return (str(found[0][0][0]), found[0][1]) if len(found) == 1 else None
