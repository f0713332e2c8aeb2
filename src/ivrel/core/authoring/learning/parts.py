"""Parts of samples: which are about export, and what else is of use."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Container, Sequence
from itertools import pairwise
from pathlib import PurePath

from ivrel.core.authoring.learning.rules import CLOCK, GATE, RESOLVER
from ivrel.core.authoring.learning.spellings import (
    coded,
    fits,
    is_facility,
    is_prefix,
    is_severity,
)
from ivrel.core.authoring.learning.templates import SampleStatement

_SHARE = 0.1  # of a part's statements that look like export, from which on it is about export


def parts_of(said: Sequence[SampleStatement], collectors: Container[str]) -> list[str]:
    """Return the first words of the parts that are about export, in their order."""
    number: Counter[str] = Counter()
    telling: Counter[str] = Counter()
    for one in said:
        head = one.keys[0]
        number[head] += 1
        telling[head] += any(
            is_severity(word) or is_facility(word) or word in collectors for word in one.values
        ) or _says_code(one)
    return [head for head, n in number.items() if telling[head] >= max(1, _SHARE * n)]


def _says_code(one: SampleStatement) -> bool:
    """Whether a statement says a severity or a facility as a number, behind the word for it."""
    words = (*one.front[-1:], *one.values)
    kinds = (("severity", "severity"), ("facility|facil", "facility"))
    return any(
        re.fullmatch(named, before.lower()) and coded(kind, word)
        for before, word in pairwise(words)
        for named, kind in kinds
    )


def _gates(said: Sequence[SampleStatement]) -> set[str]:
    """Return the first words of the parts that hold traffic rules, some of which record."""
    recording = {one.keys[0] for one in said if len(one.keys) > 1 and _says(one, "gate.tell")}
    return {one.keys[0] for one in said if one.keys[0] in recording and _says(one, "gate.action")}


def _is_of_gate(one: SampleStatement) -> bool:
    """Whether a statement may say of a traffic rule what it does, what it records, or whereto."""
    return any(rule.hints(one.front[-1:]) for rule in GATE)


def _says(one: SampleStatement, slot: str) -> bool:
    return any(
        rule.slot == slot and rule.hints(one.front[-1:]) and fits(slot, one.values[:1])
        for rule in GATE
        if one.values
    )


def _is_beside(one: SampleStatement) -> bool:
    """Whether a statement of another part may be of use: of an interface, a clock, a resolver, or
    the device's own name.
    """
    words = one.keys
    return (
        any(map(is_prefix, one.values))
        or any(CLOCK.fullmatch(word) or RESOLVER.fullmatch(word) for word in words)
        or PurePath(one.sample).name.split(".")[0] in one.values
        or (one.values in (("up",), ("down",)))
    )


def kept_of(said: Sequence[SampleStatement], parts: Container[str]) -> list[SampleStatement]:
    """Return the statements of these parts, and what is of use of others."""
    gates = _gates(said)
    return [
        one
        for one in said
        if one.keys[0] in parts or _is_beside(one) or (one.keys[0] in gates and _is_of_gate(one))
    ]
