"""Divides samples into statements: finds their shape and its options."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from typing import Any

from msgspec import Struct

from ivrel.core.authoring.draft import comment_sign, enclosing_words, fitting_shapes
from ivrel.core.authoring.learning.rules import NEVER_NAMES
from ivrel.core.authoring.learning.series import listings
from ivrel.core.authoring.learning.templates import SampleStatement
from ivrel.core.authoring.learning.trees import layout_of
from ivrel.core.authoring.shape_traits import TRAITS
from ivrel.core.shapes import SHAPES, Shape
from ivrel.core.shapes.lists import Listed, Listing
from ivrel.core.text.text import LONGEST, Text, decode
from ivrel.core.vocabulary.errors import InputError, Unreadable


class Sample(Struct, frozen=True):
    """A saved configuration, and what it is called."""

    name: str
    data: bytes


class CutSamples(Struct, frozen=True):
    """Samples in statements: the shape with the reason for it, its options as a dialect's file has
    them, and the statements.
    """

    shape: str
    why: str
    options: Mapping[str, Any]
    said: tuple[SampleStatement, ...]


def cut_up(samples: Sequence[Sample], shape: str = "") -> CutSamples:
    """Return the statements of samples; `shape`: how they fall into them, '' to find out.

    InputError if they are none, or of several platforms.
    """
    texts = [decode(sample.data) for sample in samples]
    chosen, why = _shape(texts, shape)
    comment = Counter(map(comment_sign, texts)).most_common(1)[0][0]
    options: dict[str, Any] = {"comment": comment}
    traits = TRAITS[chosen]
    if traits.is_document:
        options = layout_of([(sample.name, sample.data) for sample in samples])
    elif traits.has_wrapper:
        options |= _wrapper(samples, SHAPES[chosen].load().built({"comment": comment}))
    elif traits.has_block_words:
        options |= _enclosing(texts)
    grammar = _grammar(chosen, options)
    said = tuple(one for sample in samples for one in _statements(grammar, sample, chosen))
    lists = listings(said) if grammar.LISTS else []
    if lists:
        options["series"] = [_series(grammar, one) for one in lists]
        grammar = Listed(grammar.comment, grammar.remove, inner=grammar, lists=tuple(lists))
        said = tuple(one for sample in samples for one in _statements(grammar, sample, chosen))
    return CutSamples(chosen, why, options, said)


def _shape(texts: Sequence[str], given: str) -> tuple[str, str]:
    """Return the shape of some texts, and the reason for it."""
    if given:
        return given, "as it is said"
    votes = Counter(shape for text in texts for shape in fitting_shapes(text)[:1])
    chosen = next((shape for shape, _ in votes.most_common() if shape in TRAITS), "")
    if not chosen:
        raise InputError(
            f"the samples look like none of the shapes {', '.join(TRAITS)}; name one with --shape"
        )
    if len(votes) > 1:
        others = " and ".join(f"{n} like {shape}" for shape, n in votes.most_common())
        raise InputError(f"the samples look different, {others}; learn from one platform at a time")
    return chosen, TRAITS[chosen].reason


def _grammar(name: str, options: Mapping[str, Any]) -> Shape:
    """Return the shape that reads the samples."""
    more = dict(options)
    if TRAITS[name].is_document:
        more["wrapper"] = tuple(filter(None, [options.get("wrapper")]))
        more["lists"] = {tag: tuple(keys) for tag, keys in options["lists"].items()}
    return SHAPES[name].load().built(more)


def _series(grammar: Shape, listing: Listing) -> dict[str, str]:
    """Return a list within a statement as a dialect's file has it."""
    said = {
        "in": " / ".join(map(grammar.join, listing.path)),
        "says": grammar.join(listing.name),
        "divided": listing.divided,
        "inside": listing.inside,
        "within": listing.within,
    }
    return {name: value for name, value in said.items() if value}


def _enclosing(texts: Sequence[str]) -> dict[str, str]:
    """Return the words that open blocks and shut them."""
    pairs = {pair for text in texts if (pair := enclosing_words(text)) is not None}
    if len(pairs) != 1:
        raise InputError("it is not clear which words open blocks and shut them")
    return dict(zip(("opens", "shuts"), pairs.pop(), strict=True))


def _wrapper(samples: Sequence[Sample], grammar: Shape) -> dict[str, str]:
    """Return the block that holds the whole text, if there is one."""
    words: set[str] = set()
    for sample in samples:
        paths = [path for path, _, _ in grammar.everything(Text(sample.data))]
        headers = {path[:1] for path in paths}
        # Two blocks beside each other are two of a kind, and none holds the whole text.
        if () in headers or len(headers) != 1:
            return {}
        ((header,),) = headers
        words.add(header[0] if header else "")
    return {"wrapper": words.pop()} if len(words) == 1 and "" not in words else {}


def _statements(grammar: Shape, sample: Sample, shape: str) -> Iterable[SampleStatement]:
    has_lines = TRAITS[shape].joint == " "
    try:
        every = list(grammar.everything(Text(sample.data)))
        headers = {path[:n] for path, _, _ in every for n in range(1, len(path) + 1)}
        for path, raw, line in every:
            words = tuple(grammar.split(decode(raw[:LONGEST])))
            if not words:
                continue
            assigns = "=" in words
            if not assigns and (not has_lines or (*path, words) in headers):
                continue  # a header, which says nothing but what stands below it
            at = words.index("=") if assigns else _front(words)
            if not words[:at] and not any(path):
                continue  # no word leads to its value, so that nobody could tell what it is
            values = words[at + assigns :]
            listed = isinstance(grammar, Listed) and grammar.holds_list(path, words)
            yield SampleStatement(path, words[:at], values, assigns, sample.name, line, listed)
    except Unreadable as problem:
        raise InputError(f"{sample.name}: {problem}") from None


def _front(words: Sequence[str]) -> int:
    """Return how many words lead to the values of a statement: the first, and what it is about."""
    at = 1
    while at + 1 < len(words) and NEVER_NAMES.fullmatch(words[at].lower()):
        at += 1
    return at
