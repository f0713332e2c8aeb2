"""Groups of patterns that write the same statement, and patterns that may contradict others."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from yaml import Node

from ivrel.core.dialects.items import Flag, Variable
from ivrel.core.dialects.pattern import Pattern
from ivrel.core.dialects.slots import SLOTS
from ivrel.core.form import Report
from ivrel.core.vocabulary.values import Value


def groups_of(
    compiled: Sequence[tuple[Node, Pattern]], keys: Sequence[str], report: Report
) -> tuple[int, ...]:
    """Return the groups of patterns that write the same statement.

    Each value must have one statement that says it.

    A value in two statements could be said twice, and it would depend on their order which one
    holds.
    """
    groups: list[int] = []
    carried: dict[str, list[int]] = {}
    for number, (node, pattern) in enumerate(compiled):
        # Keys are in every statement of a row, and a slot of several values may be said several
        # times: neither makes two statements the same.
        values = [s for s in pattern.own_slots if s not in keys and not SLOTS[s].many]
        others = (group for slot in values for group in carried.get(slot, ()))
        group = next(
            (g for g in others if not _of_other_rows(compiled[g][1], pattern, keys)), number
        )
        first = compiled[group][1]
        groups.append(group)
        for slot in values:
            carried.setdefault(slot, []).append(group)
        if group == number:
            continue
        # Two patterns that begin alike are two spellings of one statement. Those that begin in
        # different ways would be beside each other.
        if (first.table, first.path, first.stem) != (pattern.table, pattern.path, pattern.stem):
            slot = next(s for s in values if s in first.own_slots)
            said = f"{slot} is said by the statement in line {first.line}, too"
            report.add(
                node,
                f"{said}; of two that can stand beside each other it is not clear which one holds",
            )
        elif set(values) != {s for s in first.own_slots if s not in keys and not SLOTS[s].many}:
            said = f"begins like the statement in line {first.line}, and says something else"
            report.add(node, f"{said}; expected one statement with its optional parts in brackets")
    return tuple(groups)


def _of_other_rows(one: Pattern, other: Pattern, keys: Sequence[str]) -> bool:
    """Whether two statements are never of the same row: a word in their headers says so, or the
    family of an address that is a key.
    """
    return _differ(_marks(one), _marks(other)) or _differ(
        _families(one, keys), _families(other, keys)
    )


def _marks(pattern: Pattern) -> dict[str, Value]:
    """Return what the words in the headers of a statement mean."""
    return {i.slot: i.value for items in pattern.path for i in items if isinstance(i, Flag)}


def _families(pattern: Pattern, keys: Sequence[str]) -> dict[str, str]:
    """Return the families of the addresses that are keys of a statement's row."""
    families = {i.slot: i.family for i in pattern.every_item() if isinstance(i, Variable)}
    return {slot: family for slot, family in families.items() if family and slot in keys}


def _differ(one: Mapping[str, Value], other: Mapping[str, Value]) -> bool:
    return any(other.get(slot, value) != value for slot, value in one.items())
