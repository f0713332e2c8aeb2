"""Negations in a text: what each takes back, in the order of the text."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence

from msgspec import Struct

from ivrel.core.dialects.dialect import Dialect
from ivrel.core.dialects.items import Fields, match, write
from ivrel.core.dialects.negations import name_of
from ivrel.core.dialects.pattern import Pattern
from ivrel.core.dialects.slots import SLOTS
from ivrel.core.reading.doubt import saying
from ivrel.core.reading.statements import (
    NO_PATTERN,
    Key,
    Mark,
    TakenBack,
    Understood,
    Unparsed,
)
from ivrel.core.shapes.shape import Found
from ivrel.core.text.beginnings import Beginnings
from ivrel.core.text.words import Path, Words


class Negation(Struct, frozen=True):
    """A negation that is in a text.

    `behind`: how many understood statements precede it; `found`: where it is.
    """

    taken: TakenBack
    behind: int
    found: Found


class NegationEffects(Struct, frozen=True):
    """What negations lead to.

    `left`: the statements that none takes back; `doubtful`: the negations whose effect is not
    known, each with what it may say; `undone`: the numbers of the statements that are taken back,
    each with the line of the negation.
    """

    left: Sequence[Mark]
    doubtful: Sequence[tuple[Found, Unparsed]]
    undone: Mapping[int, int]


class Negations:
    """Tells what the negations of one dialect's texts lead to."""

    def __init__(self, dialect: Dialect) -> None:
        self._dialect = dialect
        self._patterns = [
            (number, p) for number, p in enumerate(dialect.patterns) if not p.is_negation
        ]

    def of(self, path: Path, words: Words) -> TakenBack | None:
        """Return the statements that a negation undoes; None if that is not certain.

        `words`: those that are negated. If several statements of the dialect could be meant, it
        cannot be told.
        """
        found = dict.fromkeys((*self._statements(path, words), *self._blocks(path, words)))
        return next(iter(found)) if len(found) == 1 else None

    def meaning(self, path: Path, words: Words) -> Words | None:
        """Return the words that name a statement whose negation means a value of its own, if these
        are all of such a statement; None if they are not, or say that value themselves.
        """
        for _, pattern in self._patterns:
            fields = pattern.read(path, words) if pattern.negated.means else None
            if fields is None:
                continue
            values = dict(fields)
            if any(values.get(slot) == value for slot, value in pattern.negated.means):
                return None  # a value that negates, negated
            standing = pattern.standing(path, words)
            named = write(name_of(pattern), values.get, values.get, standing)
            return None if named is None else tuple(named)
        return None

    def _statements(self, path: Path, words: Words) -> Iterator[TakenBack]:
        """Yield what takes back single statements, or several of one that begin alike."""
        for number, pattern in self._patterns:
            if not pattern.negated.takes_back:
                continue
            above = pattern.read_path(path)
            name = name_of(pattern)
            if above is None or not name:
                continue
            own = pattern.read_words(words)
            if own is not None:
                standing = pattern.standing(path, words)
                get = dict((*above, *own)).get
                named = write(name, get, get, standing)
            else:
                short = match(name, words, 0)
                own = None if short is None else tuple(short)
                named = list(words)
            if own is None or named is None or list(words[: len(named)]) != named:
                continue
            yield TakenBack(
                path,
                tuple(named),
                _saying_alone(pattern),
                self._row(pattern, (*above, *own)),
                group=self._dialect.groups[number],
                whole=words if len(words) > len(named) else (),
                adds=any(SLOTS[slot].many for slot in pattern.own_slots),
                by_rule=pattern.negated.by_rule and not pattern.table,
            )

    def _blocks(self, path: Path, words: Words) -> Iterator[TakenBack]:
        """Yield what takes back all that is in a block, or all of a row."""
        below = [
            (p, fields)
            for _, p in self._patterns
            if len(p.path) > len(path) and (fields := p.read_headers((*path, words))) is not None
        ]
        if below and all(p.negated.takes_back or self._names_row(p, fields) for p, fields in below):
            says = saying([p for p, _ in below], shown=True)
            row = next((self._row(p, f) for p, f in below if self._has_key(p, f)), None)
            yield TakenBack(path, words, says, row, block=True)
        for table, pattern in self._dialect.removal.items():
            fields = pattern.read(path, words)
            of_row = [p for _, p in self._patterns if p.table == table]
            if fields is not None and not below and all(p.negated.takes_back for p in of_row):
                row = self._row(pattern, fields)
                yield TakenBack(path, words, saying(of_row, shown=True), row)

    def _names_row(self, pattern: Pattern, fields: Fields) -> bool:
        """Whether a row of the pattern goes as a whole with a block whose headers say these values,
        and it is known what negations of its statements lead to.
        """
        return bool(pattern.negated.means) and self._has_key(pattern, fields)

    def _has_key(self, pattern: Pattern, fields: Fields) -> bool:
        """Whether values tell a row of the pattern's table apart."""
        keys = self._dialect.keys.get(pattern.table, ())
        return bool(keys) and set(keys) <= {slot for slot, _ in fields}

    def _row(self, pattern: Pattern, fields: Fields) -> tuple[str, Key]:
        """Return the row that a statement is of: its table and key, as `Understood` has them."""
        values = dict(fields)
        keys = self._dialect.keys.get(pattern.table, ())
        return pattern.table, tuple(values.get(slot, "") for slot in keys)


def _saying_alone(pattern: Pattern) -> Unparsed:
    """Return the possible meanings of a negation for single values."""
    said = saying([pattern], shown=True)
    return Unparsed(said.slots, tuple(filter(None, said.tables)))


def carried_out(
    dialect: Dialect, marks: Sequence[Mark], negations: Sequence[Negation]
) -> NegationEffects:
    """Carry negations out on the statements of a text, in their order.

    A negation that may mean something else than what it would take back takes nothing back.
    """

    def group(said: Understood) -> int | None:
        return None if said.pattern == NO_PATTERN else dialect.groups[said.pattern]

    left: dict[int, Mark] = {}
    known = Beginnings()
    of_row: dict[tuple[str, Key], list[int]] = {}
    doubtful: list[tuple[Found, Unparsed]] = []
    undone: dict[int, int] = {}
    at = 0
    for negation in negations:
        for number in range(at, negation.behind):
            said = marks[number][0]
            left[number] = marks[number]
            known.add(number, said.path, said.words)
            of_row.setdefault((said.table, said.key), []).append(number)
        at = negation.behind
        taken = negation.taken
        alike = {n for n, _, _ in known.find(taken.path, taken.words) if isinstance(n, int)}
        same = {n for n in _of_row(of_row, taken) if taken.group in (None, group(marks[n][0]))}
        hits = sorted(n for n in alike | same if n in left)
        if taken.adds and taken.whole:
            hits = [n for n in hits if left[n][0].words == taken.whole]
        if not hits and taken.by_rule:
            # A platform would hardly save what changes nothing.
            doubtful.append((negation.found, taken.says))
        elif taken.block or _are_meant(taken, [left[n][0] for n in hits], group):
            for number in hits:
                del left[number]
                undone[number] = negation.found[2]
        else:
            doubtful.append((negation.found, taken.says))
    return NegationEffects((*left.values(), *marks[at:]), doubtful, undone)


def _of_row(rows: Mapping[tuple[str, Key], Sequence[int]], taken: TakenBack) -> Sequence[int]:
    return () if taken.of_row is None else rows.get(taken.of_row, ())


def _are_meant(
    taken: TakenBack, said: Sequence[Understood], group: Callable[[Understood], int | None]
) -> bool:
    """Whether statements are certainly those that a negation takes back."""
    # Of several that say the same value, the last holds: a negation that repeats another value may
    # not mean it.
    if taken.whole and said and said[-1].words != taken.whole:
        return False
    return all(_is_meant(taken, one, group(one)) for one in said)


def _is_meant(taken: TakenBack, said: Understood, group: int | None) -> bool:
    if group is None:
        return True  # it only names a row
    if taken.of_row is not None and taken.of_row != (said.table, said.key):
        return False
    return taken.group in (None, group)
