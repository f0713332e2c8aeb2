"""Negations: statements of a text that negate another one, and what they lead to.

    export on
    no facility
    no export

Where a dialect says what a negation leads to, it is read as that, in the order of the text. It
takes back what stood before, so that the platform's default holds (`default`), or it means a
value of its own (`negated: {export: off}`), which is then written in the same way. Where a dialect
says neither, a negation is in doubt.
"""

from __future__ import annotations

from msgspec.structs import replace
from yaml import ScalarNode

from ivrel.core.dialects.items import Fields, Flag, Implied, Item, Literal, Variable, flat, opening
from ivrel.core.dialects.pattern import UNKNOWN_NEGATED, Negated, Pattern
from ivrel.core.form import Key, MappingField, Node, Raw, Report, TextField
from ivrel.core.shapes import Shape
from ivrel.core.vocabulary.wording import not_one_of, shorten

DEFAULT = "default"
UNKNOWN = "unknown"


def _one_word(text: str) -> str:
    if text.split() != [text]:
        raise ValueError(f"'{shorten(text)}' is not one word")
    return text


NEGATION = MappingField(
    "a negation",
    {
        "word": Key(
            TextField("a word", _one_word),
            "the word that negates; the one that removes, if not said",
        ),
        "place": Key(
            TextField("a place", choices=("start", "end")), "where it stands in the statement"
        ),
        "leads-to": Key(
            TextField("what it leads to", choices=(DEFAULT, UNKNOWN)),
            "`default`: what stood before is taken back, and the default holds",
        ),
    },
    lambda at, **said: (at, said),
)

NEGATED = Key(
    Raw({"anyOf": [{"enum": [DEFAULT, UNKNOWN]}, {"type": "object"}]}),
    "what its negation in a text leads to: `default`, `unknown`, or the values that it means",
)

TAKES_BACK = Negated(takes_back=True)
BY_RULE = Negated(takes_back=True, by_rule=True)


def negated_by_word(said: Node, report: Report) -> Negated | None:
    """Return the word that `negated` leads to; None if it leads to values."""
    if not isinstance(said, ScalarNode):
        return None
    if said.value not in (DEFAULT, UNKNOWN):
        report.add(said, f"{not_one_of(said.value, (DEFAULT, UNKNOWN))}, or a value of a slot")
    return TAKES_BACK if said.value == DEFAULT else UNKNOWN_NEGATED


def negation_of(pattern: Pattern, means: Fields, shape: Shape) -> Pattern:
    """Return the pattern of a statement that negates another one and means values of its own.

    ValueError if nothing names the statement without its values.
    """
    removal = name_of(pattern)
    if not removal:
        raise ValueError("nothing names the statement without its value; expected 'removed-by'")
    first = removal[0]
    if shape.at_end:
        items = (*removal, *_literals(shape.negation_of(())))
    elif isinstance(first, Literal):
        items = (*_literals(shape.negation_of((first.word,))), *removal[1:])
    else:
        items = (*_literals(shape.negation_of(())), *removal)
    items = (*items, *(Implied(slot, value) for slot, value in means))
    return replace(pattern, items=items, opening=opening(items), is_negation=True)


def name_of(pattern: Pattern) -> tuple[Item, ...]:
    """Return the name of a statement in its negation: the words that remove it, or its first word,
    which may also be a value.
    """
    first = pattern.items[0]
    return pattern.removal or ((Literal(first.word),) if isinstance(first, Flag) else ())


def _literals(words: tuple[str, ...]) -> tuple[Item, ...]:
    return tuple(Literal(word) for word in words)


def text_of(pattern: Pattern, shape: Shape) -> str:
    """Return a pattern as a person would write it."""
    words = [
        item.word if isinstance(item, Literal) else f"{{{item.slot}}}"
        for item in flat(pattern.items)
        if isinstance(item, Literal | Variable)
    ]
    return shape.join(words)
