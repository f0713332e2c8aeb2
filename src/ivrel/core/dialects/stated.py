"""Values that the file of a dialect states: defaults, and its platform's words."""

from __future__ import annotations

from collections.abc import Mapping

from ivrel.core.dialects.form import SPELLED, TEXT
from ivrel.core.dialects.slots import SLOTS, unknown_slot
from ivrel.core.form import Node, Report, pairs
from ivrel.core.vocabulary.sourced import SourcedValue
from ivrel.core.vocabulary.values import Value
from ivrel.core.vocabulary.wording import not_one_of


def values_of(node: Node | None, report: Report, what: str) -> dict[str, Value]:
    """Return the values of slots that a node gives; `what`: what such a value is called."""
    out: dict[str, Value] = {}
    if node is None:
        return out
    for key, child in pairs(node, report):
        slot = key.value
        word = TEXT.read(child, report)
        if slot not in SLOTS:
            report.add(key, f"{what} for a slot: {unknown_slot(slot)}")
        elif word is not None:
            try:
                out[slot] = SLOTS[slot].type.parse(word)
            except ValueError as problem:
                choices = SLOTS[slot].type.choices
                why = not_one_of(word, choices) if choices else problem
                report.add(child, f"{what} of {slot}: {why}")
    return out


def conditional_defaults(
    said: Mapping[str, Mapping[str, Mapping[str, str]]], report: Report
) -> dict[str, tuple[str, dict[Value, SourcedValue]]]:
    """Return the defaults that depend on another value: of each slot, that value's slot, and the
    default for its values.
    """
    out: dict[str, tuple[str, dict[Value, SourcedValue]]] = {}
    for slot, where in said.items():
        for other, values in where.items():
            try:
                parse = SLOTS[slot].type.parse
                condition = SLOTS[other].type.parse
                cases = {
                    condition(value): SourcedValue(parse(default), (), True)
                    for value, default in values.items()
                }
                out[slot] = other, cases
            except (KeyError, ValueError) as problem:
                report.add(None, f"'defaults-when': {problem} is not known")
    return out


def spelling_of(node: Node | None, report: Report) -> dict[str, dict[str, tuple[str, ...]]]:
    """Return the words of values, each of a type or of a slot that there is, and each value one
    that there is.
    """
    out: dict[str, dict[str, tuple[str, ...]]] = {}
    types = {slot.type.name: slot.type for slot in SLOTS.values()}
    for key, child in pairs(node, report) if node is not None else ():
        # The spelling of one slot goes before that of its type.
        kind = SLOTS[key.value].type if key.value in SLOTS else types.get(key.value)
        if kind is None:
            report.add(key, f"type or slot {not_one_of(key.value, (*types, *SLOTS))}")
            continue
        words = out[key.value] = {}
        for name, said in pairs(child, report):
            if kind.choices and name.value not in kind.choices:
                report.add(name, f"value {not_one_of(name.value, kind.choices)}")
                continue
            read = SPELLED.read(said, report)
            if read:
                words[name.value] = read
    return out
