"""The pieces of statements that may leave words out, and the slots of these."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from ivrel.core.authoring.learning.aligning import StatementPart, aligned
from ivrel.core.authoring.learning.meaning import SIGNS, Around, Meaning, Piece, can_be
from ivrel.core.authoring.learning.rules import GENERIC, SlotRule
from ivrel.core.authoring.learning.spellings import fits, is_facility, is_severity
from ivrel.core.authoring.learning.templates import Template
from ivrel.core.vocabulary.addresses import is_address


def in_pieces(template: Template, first: str, rules: Sequence[SlotRule], around: Around) -> Meaning:
    """Return the meaning of statements that may leave words out; `first`: the slot of what they
    begin with, '' if it is any slot of `rules`.
    """
    local = [rule for rule in GENERIC if rule.slot in {r.slot for r in rules}]
    telling = local or rules

    def tells(word: str, value: str) -> bool:
        may = [rule for rule in telling if rule.hints((word,))]
        return any(can_be(rule.slot, [value], around) for rule in may)

    row = aligned([said.values for said in template.said], _kind_of, tells)
    if isinstance(row, str):
        return Meaning(doubt=row)
    if any(SIGNS.search(word) for part in row.parts for word in part.words):
        return Meaning(doubt="its words hold signs that mean something in a pattern")
    slots: dict[StatementPart, str] = {}
    for part in row.parts:
        words = row.column(part)
        if not part.kind:
            if part not in row.always:
                return Meaning(doubt=f"'{' '.join(part.words)}' stands in some of them only")
            continue
        may = [rule.slot for rule in telling if rule.hints(part.words[-1:])]
        if part.kind != "told":
            may = [f"destination.{part.kind}"] if first else [rule.slot for rule in rules]
            # A small number may be a port, or a severity.
            may += ["destination.level"] if first and part.kind == "port" else []
        if first and not slots:
            may = [first] if part in row.always and not part.words else []
        may = [slot for slot in may if slot not in slots.values() and _fits(slot, words, around)]
        if len(may) != 1:
            return Meaning(doubt=f"it is not clear what '{words[0]}' is in it")
        slots[part] = may[0]
    pieces = tuple(
        Piece(part.words, slots.get(part, ""), part not in row.always, row.nests)
        for part in row.parts
    )
    seen = tuple(
        {slots[part]: word for part, word in said.items() if part in slots} for said in row.values
    )
    why = (
        "it begins with the address of a collector"
        if first
        else f"'{template.front[0]}' tells of it"
    )
    return Meaning({}, {}, why, pieces=pieces, words=seen)


# The kinds of words that show by themselves, named as the fields of a collector.
_KINDS: Sequence[tuple[str, Callable[[str], bool]]] = (
    ("address", is_address),
    ("transport", lambda word: fits("destination.transport", [word])),
    ("level", is_severity),
    ("facility", is_facility),
    ("port", str.isdigit),
)


def _fits(slot: str, words: Sequence[str], around: Around) -> bool:
    return mostly(slot, words, lambda word: can_be(slot, [word], around))


def _kind_of(word: str) -> str:
    """Return the kind that a word shows by itself; '' if it shows none."""
    return next((kind for kind, is_one in _KINDS if is_one(word)), "")


def mostly(slot: str, words: Sequence[str], fits_slot: Callable[[str], bool]) -> bool:
    """Whether most words are values of a slot, and the others at least nothing else: those that are
    not known stay without a spelling, and their statements are not understood.
    """
    others = [word for word in words if not fits_slot(word)]
    kinds = {_kind_of(word) for word in others} - {"", slot.rpartition(".")[2]}
    return 2 * len(others) <= len(words) > 0 and not kinds
