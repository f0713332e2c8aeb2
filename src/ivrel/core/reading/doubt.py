"""Doubt: what a statement that no pattern understands may say of export.

Ivrel passes a statement over only if it resembles nothing that the dialect describes. Everything
else that no pattern understands is in doubt, and the settings that it may say are `unknown`:

- in a known block: the statements that begin alike, or if none does, all of that block;
- anywhere else: a statement, or a header above it, that reads as one that the dialect describes,
  even with one word changed, in another case, abbreviated, or behind one more word, such as a
  negation.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence
from functools import cached_property

from ivrel.core.dialects.dialect import Dialect
from ivrel.core.dialects.items import Any, Flag, Item, Literal, Variable, match
from ivrel.core.dialects.pattern import Pattern
from ivrel.core.dialects.slots import LAZY, SLOTS
from ivrel.core.reading.beginnings import expression
from ivrel.core.reading.likeness import (
    CLEARLY,
    FAINTLY,
    NOT,
    SHORTEST,
    evidence,
    fixed,
    likeness,
    variants,
)
from ivrel.core.reading.statements import NO_PATTERN, Understood, Unparsed
from ivrel.core.text.words import Path, Words
from ivrel.core.vocabulary.memo import remember
from ivrel.core.vocabulary.trade import GENERIC


class DoubtFinder:
    """Tells what the statements that no pattern of one dialect understands may say."""

    def __init__(self, dialect: Dialect) -> None:
        self._dialect = dialect
        # What resembles a negation resembles what it negates.
        self._every = [p for p in dialect.patterns if not p.is_negation]
        # Interfaces and traffic rules are looked up by themselves, where a setting needs them.
        self._patterns = [
            p
            for p in self._every
            if p.table not in LAZY and any(not SLOTS[slot].idle for slot in p.own_slots)
        ]
        self._firsts = {_first_word(p.path[0] if p.path else p.items) for p in self._every}
        # Words of the headers above each pattern, but for those that occur everywhere.
        self._header_words = [_words_of(p.path) - GENERIC for p in self._patterns]
        self._header_firsts = {_first_word(h) for p in self._patterns for h in p.path} - {""}
        self._likenesses: dict[Words, Mapping[int, int]] = {}
        # A statement that holds no word of a pattern, not even shortened, does not resemble it.
        self._with_word: dict[str, set[int]] = {}
        for number, pattern in enumerate(self._patterns):
            for item in fixed(pattern.items):
                if isinstance(item, Literal | Flag) and item.word != "=":
                    word = item.word.casefold()
                    for end in range(min(SHORTEST, len(word)), len(word) + 1):
                        self._with_word.setdefault(word[:end], set()).add(number)

    def of(self, path: Path, words: Words) -> Unparsed | None:
        """Return the possible meanings of a statement; None if it does not concern export."""
        dialect = self._dialect
        # An open part holds much that is no export setting. Only what begins as a pattern does is
        # of interest there.
        if path and path[0] and path[0][0] in dialect.open and not _resembles(dialect, path, words):
            return None
        # Where statements are worked out from lines, the shape says itself what they are about.
        resembled = [] if dialect.shape.DERIVED else self.resembled(path, words)
        if not path and (words[0] in self._firsts or dialect.shape.DERIVED):
            return self._at_the_top(words, resembled)
        known = [(p, _known_depth(p, path)) for p in self._every if p.path]
        deepest = max((depth for _, depth in known), default=0)
        if path and deepest:
            inside = [p for p, depth in known if depth == deepest]
            # Those that could be in its very place come first; else it may be any of the block.
            here = [p for p in inside if len(p.path) == len(path) == deepest]
            alike = _alike(here, dialect.shape.negated(words) or words)
            # In an interface or a traffic rule, most statements have nothing to do with export.
            if not alike and resembled and all(p.table in LAZY for p in inside):
                return saying(resembled, shown=True)
            return saying((*(alike or inside), *resembled), shown=True)
        if path:
            # Its block is not known, but begins as one that is: a variant of it, perhaps.
            beside = [p for p, _ in known if _is_like_header(p.path[0], path[0])]
            if beside:
                return saying((*resembled, *beside), shown=False)
        return saying(resembled, shown=True) if resembled else None

    def resembled(self, path: Path, words: Words) -> list[Pattern]:
        """Return the patterns that a statement resembles, or one of the headers above it does.

        A word that occurs all over a configuration (GENERIC) counts only below a header that
        resembles one of the pattern's, and at the top only for a pattern at the top.
        """
        # Where words are divided by dots, one in front of a statement is a part of its first word.
        whole = [(*said[0].split(" "), *said[1:]) for said in (*path, words) if said]
        likenesses: dict[int, int] = {}
        for said in whole:
            for number, like in self._likenesses_of(said).items():
                likenesses[number] = max(like, likenesses.get(number, NOT))
        found = []
        for number, own in sorted(likenesses.items()):
            pattern = self._patterns[number]
            if own == FAINTLY:
                related = any(likeness(h, said) for h in pattern.path for said in path)
                # What is in a block elsewhere may be in one line here.
                related = related or whole[-1][0].casefold() in self._header_words[number]
                own = CLEARLY if related or not (path or pattern.path) else NOT
            if own == CLEARLY:
                found.append(pattern)
        # A header behind one more word may take its whole block away.
        said = whole[-1][1:]
        if said and said[0] in self._header_firsts:
            behind = (p for p in self._patterns if any(_reads(h, said) for h in p.path))
            found += [p for p in behind if p not in found]
        return found

    def _likenesses_of(self, said: Words) -> Mapping[int, int]:
        """Return how much words resemble the patterns that they resemble at all, by their numbers.

        Most headers of a text are those of many statements.
        """
        try:
            return self._likenesses[said]
        except KeyError:
            likely: set[int] = set()
            for word in said:
                likely |= self._with_word.get(word.casefold(), frozenset())
            each = ((n, likeness(self._patterns[n].items, said)) for n in likely)
            return remember(self._likenesses, said, {n: like for n, like in each if like != NOT})

    def as_read(self, match: Understood) -> Unparsed:
        """Return the possible meanings of a statement that a pattern reads, if it is one."""
        if match.pattern == NO_PATTERN:
            return Unparsed((), (match.table,))
        return saying([self._dialect.patterns[match.pattern]], shown=True)

    @cached_property
    def of_destinations(self) -> Unparsed:
        """What a statement may say that names a collector, and resembles no other."""
        of_them = [p for p in self._patterns if p.table == "destination"]
        said = saying(of_them, shown=True)
        return Unparsed(said.slots or ("destination.address",), ("destination",))

    def _at_the_top(self, words: Words, resembled: Sequence[Pattern]) -> Unparsed:
        here = [p for p in self._every if not p.path]
        beside = [p for p in self._every if p.path and _is_like_header(p.path[0], words)]
        alike = _alike(here, words)
        if alike or not beside:
            return saying((*(alike or here), *resembled), shown=True)
        return saying((*beside, *resembled), shown=False)

    @cached_property
    def places(self) -> re.Pattern[bytes] | None:
        """An expression that finds, in a text in small letters with a line end in front of it,
        where statements begin that may be in doubt; None if none can be.

        It finds more than `of` holds to be in doubt, and nothing less.
        """
        anchors = self._dialect.shape.anchors
        if not anchors[0]:
            return None
        every: dict[tuple[bytes, ...], None] = {}
        for pattern in self._patterns:
            headers = [(items, True) for items in pattern.path]
            for items, is_header in (*headers, (pattern.items, not pattern.path)):
                for variant in variants(items):
                    every |= dict.fromkeys(evidence(variant, enough=is_header))
            if own := _first_word(pattern.items).lower().encode():
                above = _words_of(pattern.path) - GENERIC
                every |= dict.fromkeys((word.encode(), own) for word in above)
        return expression(anchors, list(every)) if every else None

    def has_name(self, content: bytes) -> bool:
        """Whether a part of a tree, in small letters, holds a word that only this dialect's
        statements begin with.
        """
        return self._names.search(content) is not None

    @cached_property
    def _names(self) -> re.Pattern[bytes]:
        every = (items for p in self._patterns for items in (*p.path, p.items))
        words = {items[0].word.lower() for items in every if isinstance(items[0], Literal | Flag)}
        own = sorted(words - GENERIC)
        return re.compile(
            rb"(?<![\w-])(?:" + b"|".join(re.escape(w.encode()) for w in own) + rb")(?![\w-])"
            if own
            else rb"(?!)"
        )


def _first_word(items: Sequence[Item]) -> str:
    """Return the word that a statement or a header begins with; '' if that is a value."""
    first = items[0] if items else None
    return first.word if isinstance(first, Literal | Flag) else ""


def _words_of(path: Iterable[tuple[Item, ...]]) -> set[str]:
    """Return the words of headers, in small letters."""
    return {i.word.casefold() for items in path for i in items if isinstance(i, Literal | Flag)}


def _reads(items: tuple[Item, ...], words: Words) -> bool:
    """Whether words are a header, to the last of them."""
    return bool(words) and match(items, words, 0) is not None


def saying(patterns: Iterable[Pattern], *, shown: bool) -> Unparsed:
    """Return the possible meanings of a statement that may be one of these patterns.

    `shown`: whether it surely concerns export.
    """
    slots: dict[str, None] = {}
    tables: dict[str, None] = {}
    for p in patterns:
        own = [slot for slot in p.own_slots if not SLOTS[slot].idle]
        slots |= dict.fromkeys(own)
        if own:
            tables[p.table] = None
    return Unparsed(tuple(slots), tuple(tables), shown)


def _resembles(dialect: Dialect, path: Path, words: Words) -> bool:
    """Whether a statement of an open part begins as a pattern does, or is in a block that does."""
    whole = (*path, words)
    for pattern in dialect.patterns:
        known = (*pattern.path, pattern.items)
        if len(known) > 1 and len(whole) > 1 and all(map(_opens_alike, known[:2], whole[:2])):
            return True
    return False


def _opens_alike(items: tuple[Item, ...], words: Words) -> bool:
    first = items[0]
    return isinstance(first, Variable) or (
        isinstance(first, Literal | Flag) and first.word == words[0]
    )


def _alike(patterns: Sequence[Pattern], words: Words) -> list[Pattern]:
    """Return the patterns that share the longest beginning with these words."""
    alike: list[Pattern] = []
    longest = 1
    for pattern in patterns:
        same = 0
        shorter = min(len(pattern.opening), len(words))
        while same < shorter and pattern.opening[same] == words[same]:
            same += 1
        if same > longest:
            alike = [pattern]
            longest = same
        elif same == longest:
            alike.append(pattern)
    return alike


def _known_depth(pattern: Pattern, path: Path) -> int:
    """Return how many of the headers above a statement are those of a pattern."""
    depth = 0
    for items, header in zip(pattern.path, path, strict=False):
        if match(items, header, 0) is None:
            break
        depth += 1
    return depth


def _is_like_header(items: tuple[Item, ...], words: Words) -> bool:
    """Whether words begin as a header does, but for words that are not known or too many."""
    if len(words) < len(items) or not isinstance(items[0], Literal | Flag):
        return False
    for item, word in zip(items, words, strict=False):
        if not isinstance(item, Variable | Any) and not (
            isinstance(item, Literal | Flag) and item.word == word
        ):
            return False
    return True
