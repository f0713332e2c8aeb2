"""Looks up tables that are long and seldom needed: interfaces and traffic rules.

What was found depends on the text alone, and is kept with it.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import suppress

from msgspec import structs

from ivrel.core.reading.heads import head_of
from ivrel.core.reading.layout import other_text, told_apart
from ivrel.core.reading.matcher import Matcher
from ivrel.core.reading.negations import Negation, carried_out
from ivrel.core.reading.statements import (
    DOUBT,
    NO_PATTERN,
    Key,
    Mark,
    TakenBack,
    Understood,
    Unparsed,
)
from ivrel.core.reading.tables import rows_of, values_of
from ivrel.core.text.text import LONGEST, Text, decode
from ivrel.core.text.words import Path
from ivrel.core.vocabulary.errors import Unreadable
from ivrel.core.vocabulary.sourced import Row
from ivrel.core.vocabulary.values import Value


def lookup(
    matcher: Matcher, text: Text, table: str, keys: Sequence[Value] | None = None
) -> list[Mark]:
    """Return the statements of a lazy table; with `keys`, only those of rows with these names.

    A statement that begins as a pattern of the table does and is strange makes its row doubtful. So
    does one that the platform may not read, since it is in a comment over several lines or the
    like.
    """
    marks = _marks_in(matcher, text, table, keys)
    other = other_text(matcher.dialect, text)
    if other is None:
        return marks
    others: list[Mark] = []
    with suppress(Unreadable):
        others = _marks_in(matcher, other, table, keys)
    sure, doubtful = told_apart(marks, others)
    every = [*sure, *((_doubted(matcher, match), line) for match, line in doubtful)]
    return sorted(every, key=lambda mark: mark[1])


def _doubted(matcher: Matcher, match: Understood) -> Understood:
    """Return a statement with the note that its row is doubtful."""
    said = matcher.shown(matcher.shape.join(match.words).encode())
    return structs.replace(match, fields=(*match.fields, (DOUBT, said)))


def _marks_in(matcher: Matcher, text: Text, table: str, keys: Sequence[Value] | None) -> list[Mark]:
    """Return the statements of a lazy table in one text."""
    # Most texts negate nothing; a single head is found faster than two.
    negation = (matcher.shape.negation or matcher.shape.remove).encode()
    negates = text.once(("holds", negation), lambda: negation in text.data)
    heads = matcher.heads.lazy[table] if negates else matcher.heads.lazy_as_said[table]
    if keys is not None:
        named = []
        for head in heads:
            named += [(*head, str(k)) for k in keys] if head in matcher.heads.named else [head]
        heads = tuple(named)
    marks: list[Mark] = []
    negations: list[Negation] = []
    for path, raw, line in matcher.shape.find(text, heads):
        found = matcher.known(path, raw)
        if isinstance(found, TakenBack):
            negations.append(Negation(found, len(marks), (path, raw, line)))
        elif isinstance(found, Understood):
            if found.table == table:
                marks.append((found, line))
        elif isinstance(found, Unparsed):
            # An address that nobody understood may be the one that is looked for.
            doubt = _doubtful_row(matcher, table, path, raw)
            if doubt is not None:
                marks.append((doubt, line))
    if negations:
        outcome = carried_out(matcher.dialect, marks, negations)
        marks = list(outcome.left)
        for (path, raw, line), _ in outcome.doubtful:
            doubt = _doubtful_row(matcher, table, path, raw)
            if doubt is not None:
                marks.append((doubt, line))
    return marks


class LookedUp:
    """What was looked up in one text, as one dialect understands it."""

    def __init__(self, matcher: Matcher, text: Text) -> None:
        self._matcher = matcher
        self._text = text
        self._marks: dict[str, Sequence[Mark]] = {}
        self._rows: dict[str, Mapping[Key, Row]] = {}
        self._single: dict[tuple[str, Value], Row | None] = {}
        self._having: dict[tuple[str, str, Value], tuple[tuple[Key, Row], ...]] = {}

    def marks(self, table: str) -> Sequence[Mark]:
        """Return the statements of a table, in the order of the text."""
        if table not in self._marks:
            self._marks[table] = lookup(self._matcher, self._text, table)
        return self._marks[table]

    def rows(self, table: str) -> Mapping[Key, Row]:
        """Return the rows of a table, by key, in the order of the text."""
        if table not in self._rows:
            self._rows[table] = rows_of(self._matcher.dialect, self.marks(table))
        return self._rows[table]

    def row(self, table: str, key: Value, others: Callable[[], Iterable[Value]]) -> Row | None:
        """Return one row, read alone unless all of the table is known.

        `others`: gives the keys that will be asked for, too, and cost little more now.
        """
        if table in self._rows:
            return self._rows[table].get((key,))
        if (table, key) not in self._single:
            self._look_up(table, tuple(dict.fromkeys((key, *others()))))
        return self._single[table, key]

    def _look_up(self, table: str, keys: Sequence[Value]) -> None:
        marks = lookup(self._matcher, self._text, table, keys)
        found = rows_of(self._matcher.dialect, marks)
        self._single.update({(table, k): found.get((k,)) for k in keys})

    def having(self, table: str, slot: str, value: Value) -> tuple[tuple[Key, Row], ...]:
        """Return the rows one of whose `many` values is this one, in the order of the text."""
        at = (table, slot, value)
        if at not in self._having:
            likely = tuple(dict.fromkeys(likely_keys(self._matcher, self._text, slot, value)))
            if any((table, key) not in self._single for key in likely):
                self._look_up(table, likely)
            rows: dict[Key, Row | None] = {(key,): self._single[table, key] for key in likely}
            found = [(k, row) for k, row in rows.items() if row and value in values_of(row, slot)]
            if not found:
                every = self.rows(table).items()
                found = [(k, row) for k, row in every if value in values_of(row, slot)]
            self._having[at] = tuple(found)
        return self._having[at]


def _doubtful_row(matcher: Matcher, table: str, path: Path, raw: bytes) -> Understood | None:
    """Return the row of a lazy table that a strange statement is about."""
    words = tuple(matcher.shape.split(decode(raw[:LONGEST])))
    # A statement that takes an address away is about the row that has it.
    negated = matcher.shape.negated(words) if words else ()
    words = negated or words
    for pattern in matcher.lazy:
        # A header that is negated takes all of its block away.
        takes_block = bool(negated) and pattern.leads(path, words)
        if pattern.table != table or not words or not (takes_block or pattern.alike(words)):
            continue
        if pattern.path and not takes_block:
            above = pattern.read_path(path) or ()
            fields = tuple(f for f in above if f[0] in matcher.keys)
        else:
            fields = pattern.naming(path, words, matcher.keys)
        if fields:
            key = tuple(value for _, value in fields)
            doubt = ((DOUBT, matcher.shown(raw)),)
            return Understood(NO_PATTERN, table, key, fields, doubt, (), (), path, words)
    return None


def likely_keys(matcher: Matcher, text: Text, slot: str, value: Value) -> Iterator[Value]:
    """Yield the keys of rows that say a value in its usual spelling.

    A quick look that may miss some: only lines are read that hold the value as it is written.
    """
    patterns = [p for p in matcher.dialect.patterns if slot in p.slots]
    heads = tuple(dict.fromkeys(head_of(p) for p in patterns))
    behind = frozenset(p.before(slot).encode() for p in patterns)
    shape = matcher.shape
    word = str(value).encode()
    # All of it will be parsed anyhow, and a parse is kept with its text.
    if text.whole and shape.WHOLE:
        said = [found for found in shape.find(text, heads) if word in found[1]]
    else:
        said = list(shape.holding(text, word, heads, behind))
    for path, raw, _ in said:
        words = tuple(shape.split(decode(raw)))
        for pattern in patterns:
            fields = pattern.read(path, words)
            if fields and dict(fields)[slot] == value:
                yield dict(fields)[matcher.dialect.keys[pattern.table][0]]
