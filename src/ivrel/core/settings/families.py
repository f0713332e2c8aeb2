"""Families: where a platform says the source of one address family by itself."""

from __future__ import annotations

from collections.abc import Sequence

from msgspec.structs import replace

from ivrel.core.settings.places import ValuePlace
from ivrel.core.settings.scope import Scope
from ivrel.core.settings.source_path import family_of_destination
from ivrel.core.vocabulary.addresses import FAMILIES

KINDS = (("interface", True), ("address", False))
SLOTS = tuple(f"source.{word}-{kind}" for word in FAMILIES for kind, _ in KINDS)

Found = tuple[ValuePlace, bool]


def by_family(
    scope: Scope, found: Sequence[Found], kinds: Sequence[tuple[str, bool]], every: bool
) -> list[Found]:
    """Return where the source is said, with the places of single address families.

    `found`: the places that hold for both, each with whether the source is an interface there;
    `kinds`: interface and address, the one to write first. What is said of a family holds for it,
    and what is said of both for the rest. `every`: also places of families that nothing leaves by.
    """
    has = scope.records.dialect.has
    if not any(map(has, SLOTS)):
        return list(found)
    used = {family_of_destination(scope, d) for d in scope.judged}
    # A host name may stand for either family.
    families = set(FAMILIES.values()) if every or "" in used else used
    said: list[Found] = []
    unsaid: list[Found] = []
    for word, family in FAMILIES.items():
        slots = [(f"source.{word}-{kind}", is_interface) for kind, is_interface in kinds]
        some = [
            (
                ValuePlace(family, "", (), slot, scope.records.get(slot), family, (family,)),
                is_interface,
            )
            for slot, is_interface in slots
            if has(slot)
        ]
        there = [one for one in some if one[0].said.value is not None]
        if some and family in families:
            (said if there else unsaid).extend((there or some)[:1])
    own = {place.families[0] for place, _ in said}
    rest = tuple(family for family in FAMILIES.values() if family not in own)
    wide = [
        (replace(place, families=rest if own else ()), is_interface)
        for place, is_interface in found
        if set(rest) & families
    ]
    # Where one statement may hold for both, it is the one that is missing.
    return [*wide, *said, *(() if wide else unsaid)]
