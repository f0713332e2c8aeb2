"""Statements in doubt that are in parts that a dialect does not know."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator

from ivrel.core.dialects.slots import LAZY
from ivrel.core.reading.matcher import Matcher
from ivrel.core.reading.mentions import Hosts
from ivrel.core.reading.statements import TakenBack, Unparsed, UnparsedLine
from ivrel.core.shapes.shape import Found
from ivrel.core.text.text import LONGEST, Text, decode
from ivrel.core.text.words import Words


def resembling(reader: Matcher, text: Text) -> Iterator[UnparsedLine]:
    """Yield the statements that resemble what the dialect describes, and are elsewhere."""
    for statements in _likely_parts(reader, text):
        for path, raw, line in statements:
            found = reader.known(path, raw)
            # What it takes back was read elsewhere, without it.
            found = found.says if isinstance(found, TakenBack) else found
            # In an interface or a traffic rule, it must be about something else than these.
            if isinstance(found, Unparsed) and not set(found.tables) <= set(LAZY):
                yield reader.unparsed_line(path, raw, line, found)


def _likely_parts(reader: Matcher, text: Text) -> Iterator[Iterable[Found]]:
    """Yield the statements of the parts that may hold such statements, part by part."""
    places = reader.doubt.places
    if places is None:
        yield from _unknown_parts_of_tree(reader, text, reader.doubt.has_name)
        return
    # A line end is in front, so that all lines begin alike.
    data = b"\n" + text.data.lower()
    at = 0
    while found := places.search(data, at):
        end, statements = reader.shape.part_around(text, found.end() - 2)
        at = max(end, found.end() - 1)
        # What is in a part that is always read was read with it.
        yield _beyond(reader, text, end, statements, reader.heads.has_eager)


def mentioning(reader: Matcher, text: Text, hosts: Hosts) -> Iterator[UnparsedLine]:
    """Yield the statements that name a collector, or whose headers do, and are in none of the known
    parts.
    """
    for statements in _parts_with(reader, text, hosts):
        for path, raw, line in statements:
            named = hosts.are_in(raw) or any(
                hosts.are_in(reader.shape.join(header).encode()) for header in path
            )
            if named and not reader.is_aside(path, raw):
                yield reader.unparsed_line(path, raw, line, reader.doubt.of_destinations)


def _parts_with(reader: Matcher, text: Text, hosts: Hosts) -> Iterator[Iterable[Found]]:
    if not reader.shape.anchors[0]:
        yield from _unknown_parts_of_tree(reader, text, hosts.are_in)
        return
    looked_at: list[tuple[int, int]] = []  # from where to where
    for at in hosts.find(text.data.lower()):
        if any(begin <= at < end for begin, end in looked_at):
            continue
        end, statements = reader.shape.part_around(text, at)
        looked_at.append((at, max(end, at + 1)))
        yield _beyond(reader, text, end, statements, reader.heads.has)


def _beyond(
    reader: Matcher,
    text: Text,
    end: int,
    statements: Iterable[Found],
    is_known: Callable[[Words], bool],
) -> Iterator[Found]:
    """Yield the statements of the parts that are not known.

    `end`: where the part ends; one that ends with the text may be all of the text.
    """
    for path, raw, line in statements:
        top: Words = path[0] if path else tuple(reader.shape.split(decode(raw[:LONGEST])))
        if not top or not is_known(top):
            yield path, raw, line
        elif end < len(text.data):
            return


def _unknown_parts_of_tree(
    reader: Matcher, text: Text, is_likely: Callable[[bytes], bool]
) -> Iterator[Iterable[Found]]:
    """Yield the statements of those unknown parts of a tree whose content is likely to matter.

    In a tree of an open model, other parts are other modules, which say what they are about.
    """
    shape = reader.shape
    if shape.DERIVED or not shape.WHOLE or shape.is_of_model:
        return
    for number, words in enumerate(shape.tops(text)):
        if not words or reader.heads.has(words):
            continue
        content = repr(shape.content(text, number)).lower().encode()
        if is_likely(content) and not reader.dialect.sets_aside((), words):
            yield shape.statements_of(text, [number])
