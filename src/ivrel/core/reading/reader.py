"""Reads a whole text as one dialect understands it: what it says, and what is in doubt."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from contextlib import suppress

from ivrel.core.reading.elsewhere import mentioning, resembling
from ivrel.core.reading.layout import other_text, told_apart
from ivrel.core.reading.matcher import Matcher
from ivrel.core.reading.mentions import Hosts
from ivrel.core.reading.negations import Negation, carried_out
from ivrel.core.reading.statements import (
    Aside,
    Explained,
    Mark,
    Statement,
    TakenBack,
    Understood,
    Undone,
    UnparsedLine,
)
from ivrel.core.shapes.shape import Found
from ivrel.core.text.text import Text
from ivrel.core.text.words import Words
from ivrel.core.vocabulary.errors import Foreign, Unreadable


def read(
    matcher: Matcher, text: Text, heads: tuple[Words, ...]
) -> tuple[list[Mark], tuple[UnparsedLine, ...]]:
    """Return the statements in the parts of a configuration with these heads, and those in doubt.
    Foreign if nothing in the text is of this platform.
    """
    marks: list[Mark] = []
    unparsed: list[UnparsedLine] = []
    known = _collect(matcher, text, heads, marks, unparsed)
    if not known:
        # Lazy parts are looked at before a text is called foreign: it may hold nothing but
        # interfaces.
        others = tuple(head for head in matcher.heads.every if head not in heads)
        if not _collect(matcher, text, others, [], []):
            raise Foreign(f"none of the statements of {matcher.dialect.name} occur in it")
    other = other_text(matcher.dialect, text)
    if other is not None:
        marks, unparsed = _sure(matcher, other, heads, marks, unparsed)
    return marks, (*unparsed, *outside(matcher, text))


def _collect(
    matcher: Matcher,
    text: Text,
    heads: tuple[Words, ...],
    marks: list[Mark],
    unparsed: list[UnparsedLine],
) -> bool:
    """Gather what is understood and in doubt; say whether anything is of this platform."""
    known = False
    seen = matcher.seen
    negations: list[Negation] = []
    for path, raw, line in matcher.shape.find(text, heads):
        # Most statements of a fleet have been seen before: no call is made for those.
        try:
            found = seen[path, raw]
        except KeyError:
            found = matcher.known(path, raw)
        if isinstance(found, Understood):
            marks.append((found, line))
        elif isinstance(found, Aside):
            known = True
        elif isinstance(found, TakenBack):
            negations.append(Negation(found, len(marks), (path, raw, line)))
        # What bears on no slot, no setting would ask about.
        elif found.slots:
            unparsed.append(matcher.unparsed_line(path, raw, line, found))
    if negations:
        outcome = carried_out(matcher.dialect, marks, negations)
        marks[:] = outcome.left
        unparsed += [matcher.unparsed_line(*place, strange) for place, strange in outcome.doubtful]
        unparsed.sort(key=lambda unparsed_line: unparsed_line.line)
    return known or bool(marks or negations)


def _sure(
    matcher: Matcher,
    other: Text,
    heads: tuple[Words, ...],
    marks: list[Mark],
    unparsed: list[UnparsedLine],
) -> tuple[list[Mark], list[UnparsedLine]]:
    """Return the statements that both of two texts have, and all that is in doubt.

    `marks`, `strays`: what is understood and in doubt in the text beside `other`.
    """
    other_marks: list[Mark] = []
    other_strays: list[UnparsedLine] = []
    with suppress(Unreadable):
        _collect(matcher, other, heads, other_marks, other_strays)
    sure, doubtful = told_apart(marks, other_marks)
    every = [*unparsed, *other_strays, *(_doubted(matcher, mark) for mark in doubtful)]
    return sure, sorted(dict.fromkeys(every), key=lambda unparsed_line: unparsed_line.line)


def _doubted(matcher: Matcher, mark: Mark) -> UnparsedLine:
    """Return a statement that is understood, and that the platform may not read."""
    match, line = mark
    said = matcher.shape.join(match.words).encode()
    return matcher.unparsed_line(match.path, said, line, matcher.doubt.as_read(match))


def outside(matcher: Matcher, text: Text) -> tuple[UnparsedLine, ...]:
    """Return the statements in doubt outside the parts that the dialect knows."""
    return text.once(("outside", matcher.dialect), lambda: tuple(resembling(matcher, text)))


def mentions(matcher: Matcher, text: Text, hosts: Hosts) -> tuple[UnparsedLine, ...]:
    """Return the statements outside the parts that the dialect knows that name a collector, or are
    below a header that does.
    """
    at = "mentions", matcher.dialect, hosts.names
    return text.once(at, lambda: tuple(mentioning(matcher, text, hosts)))


def understood(matcher: Matcher, text: Text) -> int:
    """Return how many statements of a text this platform understands."""
    try:
        found = known_parts(matcher, text)
        matches = (matcher.match(path, raw) for path, raw, _ in found)
        return sum(1 for match in matches if isinstance(match, Understood))
    except Unreadable:
        return 0


def known_parts(matcher: Matcher, text: Text) -> Iterable[Found]:
    """Return the statements of all parts that the dialect knows, whatever they say."""
    return matcher.shape.find(text, matcher.heads.every)


def explained(matcher: Matcher, text: Text) -> Iterator[tuple[int, str, Explained]]:
    """Yield the statements of all known parts, and those in doubt elsewhere: line, text ('' if it
    must not be shown), and what is known of it.
    """
    for (_, raw, line), found in judged_parts(matcher, text):
        yield line, matcher.as_shown(raw, found), found
    for unparsed_line in outside(matcher, text):
        yield unparsed_line.line, unparsed_line.text, unparsed_line.strange


def judged_parts(matcher: Matcher, text: Text) -> Iterator[tuple[Found, Explained]]:
    """Yield the statements of all known parts, each with what is known of it."""
    here = tuple(known_parts(matcher, text))
    other = other_text(matcher.dialect, text)
    there = here
    if other is not None:
        there = ()
        with suppress(Unreadable):
            there = tuple(known_parts(matcher, other))
    both = set(here) & set(there)
    known = [(place, matcher.known(*place[:2])) for place in dict.fromkeys((*here, *there))]
    for place, found in _with_negations(matcher, known):
        if isinstance(found, Understood) and place not in both:
            yield place, matcher.doubt.as_read(found)
        elif isinstance(found, TakenBack) and place not in both:
            yield place, found.says
        else:
            yield place, found


def _with_negations(
    matcher: Matcher, known: Sequence[tuple[Found, Statement]]
) -> Iterator[tuple[Found, Explained]]:
    """Yield statements with what is known of them after the negations among them."""
    marks: list[Mark] = []
    places: list[Found] = []
    negations: list[Negation] = []
    for place, found in known:
        if isinstance(found, Understood):
            marks.append((found, place[2]))
            places.append(place)
        elif isinstance(found, TakenBack):
            negations.append(Negation(found, len(marks), place))
    if not negations:
        yield from known
        return
    outcome = carried_out(matcher.dialect, marks, negations)
    undone = {places[number]: Undone(by) for number, by in outcome.undone.items()}
    doubtful = dict(outcome.doubtful)
    for place, found in known:
        yield place, undone.get(place) or doubtful.get(place) or found
