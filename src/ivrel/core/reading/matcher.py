"""Finds the pattern of a dialect that understands a statement."""

from __future__ import annotations

from msgspec import Struct, structs

from ivrel.core.dialects.dialect import Dialect
from ivrel.core.dialects.items import Fields, Outline, Variable, outline
from ivrel.core.dialects.pattern import Pattern
from ivrel.core.dialects.slots import LAZY, SLOTS
from ivrel.core.reading.doubt import DoubtFinder, saying
from ivrel.core.reading.heads import Heads
from ivrel.core.reading.negations import Negations
from ivrel.core.reading.secrets import masked
from ivrel.core.reading.shown import LONGEST_SHOWN, shown
from ivrel.core.reading.statements import (
    NO_PATTERN,
    Aside,
    Explained,
    Key,
    Statement,
    TakenBack,
    Understood,
    Undone,
    Unparsed,
    UnparsedLine,
)
from ivrel.core.text.text import LONGEST, decode
from ivrel.core.text.words import Path, Words
from ivrel.core.vocabulary.memo import remember
from ivrel.core.vocabulary.wording import shorten

_ASIDE = Aside()
_HEADER = Aside(header=True)


class _Layout(Struct, frozen=True):
    """Which of a statement's values are what, by their places.

    `key`: None where one is not said.
    """

    table: str
    key: tuple[int | None, ...]
    named: tuple[int, ...]
    rest: tuple[int, ...]
    many: tuple[int, ...]
    silent: tuple[str, ...]


def matcher(dialect: Dialect) -> Matcher:
    """Return the matcher of a dialect, which lives as long as the dialect does."""
    return dialect.once("matcher", lambda: Matcher(dialect))


class Matcher:
    """Finds the pattern of a statement; remembers what it saw, for fleets repeat themselves."""

    def __init__(self, dialect: Dialect) -> None:
        self.dialect = dialect
        self.shape = dialect.shape
        self.heads = Heads(dialect)
        self.keys = self.heads.keys
        self.doubt = DoubtFinder(dialect)
        self.negations = Negations(dialect)
        self.lazy = [p for p in dialect.patterns if p.table in LAZY]
        self.seen: dict[tuple[Path, bytes], Statement] = {}
        self._identities: dict[tuple[Path, Words], object] = {}
        self._fitting: dict[tuple[int, str, int], list[tuple[int, Pattern, Outline]]] = {}
        self._paths: dict[tuple[int, Path], Fields | None] = {}
        self._layouts: dict[tuple[int, tuple[str, ...]], _Layout] = {}
        self._by_opening: dict[tuple[int, str], list[tuple[int, Pattern]]] = {}
        for number, pattern in enumerate(dialect.patterns):
            at = len(pattern.path), pattern.opening[0] if pattern.opening else ""
            self._by_opening.setdefault(at, []).append((number, pattern))

    def is_aside(self, path: Path, raw: bytes) -> bool:
        """Whether the dialect sets a statement aside."""
        words = tuple(self.shape.split(decode(raw[:LONGEST])))
        return self.dialect.sets_aside(path, words)

    def unparsed_line(self, path: Path, raw: bytes, line: int, found: Unparsed) -> UnparsedLine:
        """Return a statement that is not understood, with its line and as it may be shown."""
        said = self.shown(raw) if found.shown else ""
        return UnparsedLine(line, said, found, self._row_of(path))

    def shown(self, raw: bytes, most: int = LONGEST_SHOWN) -> str:
        """Return a statement that is not understood, as it may be shown."""
        said = decode(raw[:LONGEST])
        # What a shape worked out is a sentence of its own, which quotes no more than it must.
        return masked(said, most) if self.shape.DERIVED else shown(self.dialect, said, most)

    def _row_of(self, path: Path) -> tuple[str, Key] | None:
        """Return the row that the innermost header names, where a statement of its own names it."""
        header = self.find(path[:-1], path[-1]) if path and path[-1] else None
        return (header.table, header.key) if header is not None and header.table else None

    def as_shown(self, raw: bytes, found: Explained) -> str:
        """Return a statement as it may be shown, '' if it must not be.

        `found`: what is known of it.
        """
        if isinstance(found, Understood) and found.pattern != NO_PATTERN:
            return shorten(decode(raw[:LONGEST]), LONGEST)
        if isinstance(found, TakenBack | Undone):
            return self.shown(raw, LONGEST)
        # The header of a known block is its own words; what stands aside may be anything.
        may_show = found.shown if isinstance(found, Unparsed) else getattr(found, "header", False)
        return self.shown(raw, LONGEST) if may_show else ""

    def known(self, path: Path, raw: bytes) -> Statement:
        """Return the match of a statement, from the cache if it was read before."""
        try:
            return self.seen[path, raw]
        except KeyError:
            return remember(self.seen, (path, raw), self.match(path, raw))

    def lacking(self, path: Path, words: Words) -> tuple[str, str] | None:
        """Return the slot and the only word that keep a pattern from understanding a statement."""
        for first in (words[0], ""):
            for _, pattern, form in self._of_length(len(path), first, len(words)):
                if form.values is None or pattern.read_path(path) is None:
                    continue
                if any(words[at] != word for at, word in form.fixed):
                    continue
                wrong = [
                    (item.slot, words[at])
                    for at, item in form.values
                    if isinstance(item, Variable) and item.decode(words[at]) is None
                ]
                if len(wrong) == 1:
                    return wrong[0]
        return None

    def match(self, path: Path, raw: bytes) -> Statement:
        """Return the match of a statement with the dialect."""
        # A statement that is too long is never taken for one that is understood: its end may say
        # more.
        words = tuple(self.shape.split(decode(raw[:LONGEST])))
        if not words:
            return _ASIDE
        if len(raw) <= LONGEST:
            found = self.find(path, words) or self.negation(path, words)
            if found:
                return found
        # What bears on nothing bears on nothing where it is negated, either.
        for said in filter(None, (words, self.shape.negated(words))):
            if self.dialect.sets_aside(path, said):
                return _ASIDE
        named = self._naming(path, words)
        # Whatever is in a row of a lazy table shows that the row is there. If it resembles a
        # statement that is known, it is in doubt instead, and may bear on the row.
        if named and not self._is_doubtful(path, words) and not self.doubt.resembled(path, words):
            return named
        if self.is_header(path, words):
            return _HEADER
        negated = self.shape.negated(words)
        taken = [p for p in self.lazy if p.leads(path, negated)] if negated else []
        if taken:
            return saying(taken, shown=True)
        return self.doubt.of(path, words) or _ASIDE

    def negation(self, path: Path, words: Words) -> Understood | TakenBack | None:
        """Return the effect of a statement that negates another one; None if it negates none, or if
        its effect is not known.
        """
        negated = self.shape.negated(words)
        if not negated:
            return None
        named = self.negations.meaning(path, negated)
        if named is not None:
            found = self.find(path, self.shape.negation_of(named))
            return None if found is None else structs.replace(found, words=words)
        return self.negations.of(path, negated)

    def _is_doubtful(self, path: Path, words: Words) -> bool:
        """Whether a statement in a row of a lazy table begins as one that this dialect knows, or
        takes one away.
        """
        words = self.shape.negated(words) or words
        for p in self.lazy:
            if p.path:
                if p.alike(words) and p.read_path(path) is not None:
                    return True
            elif not path and p.alike(words):
                return True
        return False

    def _naming(self, path: Path, words: Words) -> Understood | None:
        """Return a statement that says nothing known, but stands where a lazy row is named."""
        for pattern in self.lazy:
            fields = pattern.naming(path, words, self.keys)
            if fields:
                key = tuple(value for _, value in fields)
                return Understood(NO_PATTERN, pattern.table, key, fields, (), (), (), path, words)
        return None

    def find(self, path: Path, words: Words) -> Understood | None:
        """Return the statement as a pattern understands it; None if none does."""
        # Patterns that begin with a word come before those that begin with a value.
        for first in (words[0], ""):
            for number, pattern, form in self._of_length(len(path), first, len(words)):
                for at, word in form.fixed:
                    if words[at] != word:
                        break
                else:
                    fields = self._read(number, pattern, form, path, words)
                    if fields is not None:
                        return self._laid(number, pattern, fields, path, words)
        return None

    def _of_length(self, depth: int, first: str, length: int) -> list[tuple[int, Pattern, Outline]]:
        """Return the patterns of a first word that so many words can fit, with their outlines."""
        at = depth, first, length
        if at not in self._fitting:
            fitting = []
            for number, pattern in self._by_opening.get((depth, first), ()):
                form = outline(pattern.items)
                if form.least <= length <= form.most:
                    fitting.append((number, pattern, form))
            self._fitting[at] = fitting
        return self._fitting[at]

    def _read(
        self, number: int, pattern: Pattern, form: Outline, path: Path, words: Words
    ) -> Fields | None:
        """Return the values that the pattern reads; a path is read once."""
        at = number, path
        try:
            above = self._paths[at]
        except KeyError:
            above = remember(self._paths, at, pattern.read_path(path))
        if above is None:
            return None
        # With optional parts in it, the places of values are not the same each time.
        if form.values is None:
            own = pattern.read_words(words)
            return None if own is None else (*above, *own)
        out = list(above)
        for place, item in form.values:
            value = item.decode(words[place]) if isinstance(item, Variable) else item.value
            if value is None:
                return None
            out.append((item.slot, value))
        return tuple(out)

    def _laid(
        self, number: int, pattern: Pattern, fields: Fields, path: Path, words: Words
    ) -> Understood:
        slots = tuple([slot for slot, _ in fields])
        layout = self._layouts.get((number, slots))
        if layout is None:
            layout = self._layouts[number, slots] = self._layout(pattern, slots)
        key = tuple(["" if n is None else fields[n][1] for n in layout.key])
        named = tuple([fields[n] for n in layout.named])
        rest = tuple([fields[n] for n in layout.rest])
        many = tuple([fields[n] for n in layout.many])
        return Understood(number, layout.table, key, named, rest, many, layout.silent, path, words)

    def _layout(self, pattern: Pattern, slots: tuple[str, ...]) -> _Layout:
        last = {slot: n for n, slot in enumerate(slots)}
        named = tuple(n for n, slot in enumerate(slots) if slot in self.keys)
        many = tuple(n for n, slot in enumerate(slots) if SLOTS[slot].many)
        rest = tuple(n for n in range(len(slots)) if n not in named and n not in many)
        key = tuple(last.get(slot) for slot in self.dialect.keys.get(pattern.table, ()))
        silent = tuple(slot for slot in pattern.slots if slot not in last)
        return _Layout(pattern.table, key, named, rest, many, silent)

    def is_header(self, path: Path, words: Words) -> bool:
        """Whether a statement without inside is the header of a block that could have one."""
        return any(p.leads(path, words) for p in self.dialect.patterns)

    def identity(self, path: Path, words: Words) -> object:
        """Return the key of a statement; two with the same key exclude each other.

        The later of them replaces the earlier.
        """
        at = path, words
        found = self._identities.get(at)
        if found is None:
            # A statement takes the place of the one that takes it away, and the other way round.
            negated = self.shape.negated(words)
            match = self.find(path, words) or (self.find(path, negated) if negated else None)
            taken = self.negation(path, words) if match is None else None
            if match is not None:
                found = self.identity_of(match)
            elif isinstance(taken, TakenBack) and taken.group is not None and taken.of_row:
                found = taken.group, taken.of_row[1]
            else:
                found = at
            remember(self._identities, at, found)
        return found

    def identity_of(self, match: Understood) -> object:
        """Return the identity of a statement that a pattern understands."""
        # A row may hold several of these, which are beside each other if their words differ.
        if match.many:
            return match.path, match.words
        return self.dialect.groups[match.pattern], match.key
