"""Cover: how well a dialect knows the configurations of a fleet."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterable, Iterator

from msgspec import Struct

from ivrel.core.authoring.abilities import unsaid
from ivrel.core.dialects import Dialect
from ivrel.core.reading.matcher import matcher
from ivrel.core.reading.reader import judged_parts
from ivrel.core.reading.records import read_records
from ivrel.core.reading.shown import HIDDEN, known_words
from ivrel.core.reading.statements import NO_PATTERN, TakenBack, Understood, Undone, Unparsed
from ivrel.core.settings import SETTINGS, Scope, read_settings
from ivrel.core.settings.relevance import bearing
from ivrel.core.shapes.shape import Found
from ivrel.core.text.text import Text, decode
from ivrel.core.text.words import Path, Words
from ivrel.core.vocabulary.errors import Unreadable

MOST_KINDS = 2000  # of statements that are told apart; the rest is counted together
# First words that are shown although neither the dialect nor the trade knows them: plain words
# that several statements begin with. A secret is neither.
_PLAIN_WORD = re.compile(r"[a-z][a-z-]{1,19}")
_OFTEN = 3


class Kind(Struct):
    """Statements that are not understood and differ in their values only.

    `says`: their words, with `…` for what differs; '' if they may not be shown; `inside`: the
    blocks around them; `number`: of them, in `texts` configurations; `file`, `line`, `text`: one of
    them; `bears_on`: the settings whose verdicts they make unknown.
    """

    says: str
    inside: str
    number: int
    texts: int
    file: str
    line: int
    text: str
    bears_on: tuple[str, ...]


class Lacking(Struct):
    """A word that the spelling of a slot lacks: without it, the statement would be understood."""

    slot: str
    word: str
    number: int
    file: str
    line: int


class Unused(Struct, frozen=True):
    """A statement of the dialect that no text has: the line of its file, and what it says."""

    line: int
    says: str


class PassedOver(Struct):
    """Statements that were passed over, since they resemble nothing that the dialect describes.

    `begins`: the first word of the part that they are in, `…` if it may be a secret; `number`: of
    them, in `texts` configurations; `file`, `line`: the first of them.
    """

    begins: str
    number: int
    texts: int
    file: str
    line: int


class Covered(Struct, frozen=True):
    """What a dialect knows of one configuration."""

    name: str
    understood: int
    strange: int


class Cover(Struct, frozen=True):
    """How well a dialect knows some configurations.

    `texts`: those that could be read, the worst known first; `kinds`: what is not understood, the
    most frequent first; `lacking`: words that the spelling lacks; `silent`: settings that this
    dialect can express and no text contains; `unused`: statements of the dialect that no text has;
    `passed_over`: what has nothing to do with export, as far as the dialect tells, the most
    frequent first; `unread`: texts that are none of this platform's, or cannot be read, and why.
    """

    texts: tuple[Covered, ...]
    kinds: tuple[Kind, ...]
    lacking: tuple[Lacking, ...]
    silent: tuple[str, ...]
    unused: tuple[Unused, ...]
    passed_over: tuple[PassedOver, ...]
    unread: tuple[tuple[str, str], ...]

    @property
    def understood(self) -> int:
        """How many statements of the export parts are understood."""
        return sum(one.understood for one in self.texts)

    @property
    def strange(self) -> int:
        """How many are not."""
        return sum(one.strange for one in self.texts)


def cover(dialect: Dialect, texts: Iterable[tuple[str, bytes | str]]) -> Cover:
    """Return how well a dialect knows some configurations.

    `texts`: what each is called, and its bytes, or why there are none.
    """
    going = _Going(dialect)
    for name, data in texts:
        going.take(name, data)
    return going.cover()


class _Going:
    """Goes through configurations one by one; what is kept does not grow with their number."""

    def __init__(self, dialect: Dialect) -> None:
        self._dialect = dialect
        self._matcher = matcher(dialect)
        self._texts: list[Covered] = []
        self._unread: list[tuple[str, str]] = []
        self._kinds: dict[object, Kind] = {}
        self._lacking: dict[tuple[str, str], Lacking] = {}
        self._used: Counter[int] = Counter()
        self._passed_over: dict[str, PassedOver] = {}
        self._known_words = known_words(dialect)
        self._spoken: set[str] = set()

    def take(self, name: str, data: bytes | str) -> None:
        """Take a configuration; one that cannot be read is reported, and holds up no other."""
        if isinstance(data, str):
            self._unread.append((name, data))
            return
        text = Text(data)
        try:
            records = read_records(self._dialect, text)
            facts = read_settings(Scope(None, records, {}))
        except Unreadable as problem:
            self._unread.append((name, str(problem)))
            return
        self._spoken |= {fact.setting for fact in facts if not fact.default}
        understood = strange = 0
        seen: set[object] = set()
        for (path, raw, line), found in judged_parts(self._matcher, text):
            if isinstance(found, Understood) and found.pattern != NO_PATTERN:
                understood += 1
                self._used[found.pattern] += 1
            elif isinstance(found, TakenBack | Undone):
                understood += 1
            elif isinstance(found, Unparsed) and found.slots:
                strange += 1
                place = records.place(name)(line)
                self._take_strange(found, path, raw, place, seen)
        for path, raw, line in self._elsewhere(text):
            found = self._matcher.known(path, raw)
            place = records.place(name)(line)
            if isinstance(found, Unparsed) and found.slots:
                strange += 1
                self._take_strange(found, path, raw, place, seen)
            elif not self._matcher.is_aside(path, raw):
                top = path[0] if path else tuple(self._matcher.shape.split(decode(raw)))
                self._pass_over(top[0] if top else "", place, seen)
        self._texts.append(Covered(name, understood, strange))

    def _elsewhere(self, text: Text) -> Iterator[Found]:
        """Yield the statements that are in none of the parts that the dialect knows."""
        shape = self._matcher.shape
        if shape.DERIVED:
            return
        for path, raw, line in shape.statements(text):
            top = path[0] if path else tuple(shape.split(decode(raw)))
            if top and not self._matcher.heads.has(top):
                yield path, raw, line

    def _pass_over(self, begins: str, place: tuple[str, int], seen: set[object]) -> None:
        file, line = place
        one = self._passed_over.get(begins)
        if one is None:
            if len(self._passed_over) >= MOST_KINDS:
                return
            one = self._passed_over[begins] = PassedOver(begins, 0, 0, file, line)
        one.number += 1
        one.texts += ("passed over", begins) not in seen
        seen.add(("passed over", begins))

    def _hide_rare(self) -> Iterator[PassedOver]:
        """Yield what was passed over; of first words that may be secrets, all together."""
        hidden: PassedOver | None = None
        for one in self._passed_over.values():
            plain = _PLAIN_WORD.fullmatch(one.begins) and one.number >= _OFTEN
            if plain or one.begins.casefold() in self._known_words:
                yield one
            elif hidden is None:
                hidden = PassedOver(HIDDEN, one.number, one.texts, one.file, one.line)
            else:
                hidden.number += one.number
                hidden.texts = max(hidden.texts, one.texts)
        if hidden is not None:
            yield hidden

    def _take_strange(
        self, found: Unparsed, path: Path, raw: bytes, place: tuple[str, int], seen: set[object]
    ) -> None:
        words = tuple(self._matcher.shape.split(decode(raw)))
        if found.shown:
            self._take_lacking(path, words, place)
        inside = " / ".join(" ".join(map(self._word, header)) for header in path)
        # Words are distinguished up to the first that is not known: behind it, all may be values.
        front = tuple(map(self._word, words))
        known = front.index(HIDDEN) if HIDDEN in front else len(front)
        first = words[0] if _PLAIN_WORD.fullmatch(words[0]) else ""
        at = (inside, first, front[:known], len(words))
        if not found.shown:
            at = (inside, "", (), 0)
        kind = self._kinds.get(at)
        if kind is None:
            if len(self._kinds) >= MOST_KINDS:
                return
            text = self._matcher.shown(raw) if found.shown else ""
            says = " ".join(front) if found.shown else ""
            bears_on = tuple(bearing(self._dialect, found))
            file, line = place
            kind = Kind(says, inside, 0, 0, file, line, text, bears_on)
            self._kinds[at] = kind
        elif found.shown:
            kind.says = _alike(kind.says.split(" "), front)
        kind.number += 1
        kind.texts += at not in seen
        seen.add(at)

    def _word(self, word: str) -> str:
        """Return a word as it may be shown: one that nobody knows may be a secret."""
        return word if word.casefold() in self._known_words else HIDDEN

    def _take_lacking(self, path: Path, words: Words, place: tuple[str, int]) -> None:
        lacking = self._matcher.lacking(path, words)
        if lacking is not None:
            slot, word = lacking
            file, line = place
            known = self._lacking.setdefault(lacking, Lacking(slot, word, 0, file, line))
            known.number += 1

    def cover(self) -> Cover:
        """Return how well a dialect knows configurations."""
        never = {*unsaid(self._dialect), *self._spoken}
        patterns = zip(self._dialect.patterns, self._dialect.says, strict=True)
        unused = [
            Unused(pattern.line, says)
            for n, (pattern, says) in enumerate(patterns)
            if not self._used[n] and not pattern.is_negation
        ]
        return Cover(
            tuple(sorted(self._texts, key=lambda t: (-t.strange, t.name))),
            tuple(sorted(self._kinds.values(), key=lambda k: (-k.texts, -k.number, k.says))),
            tuple(
                sorted(self._lacking.values(), key=lambda one: (-one.number, one.slot, one.word))
            ),
            tuple(name for name in SETTINGS if name not in never),
            tuple(unused),
            tuple(sorted(self._hide_rare(), key=lambda one: (-one.number, one.begins))),
            tuple(self._unread),
        )


def _alike(one: list[str], other: Words) -> str:
    """Return the words of two statements, with '…' where they differ."""
    return " ".join(a if a == b else "…" for a, b in zip(one, other, strict=True))
