"""Cover: how well a dialect knows the configurations of a fleet."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterable

from msgspec import Struct

from ivrel.core.authoring.abilities import unsaid
from ivrel.core.dialects import Dialect
from ivrel.core.reading.matcher import matcher
from ivrel.core.reading.records import read_records
from ivrel.core.reading.secrets import masked
from ivrel.core.reading.statements import NO_PATTERN, Strange, Understood
from ivrel.core.settings import SETTINGS, Scope, read_settings
from ivrel.core.settings.bearing import bearing
from ivrel.core.text.text import Text, decode
from ivrel.core.text.words import Path, Words
from ivrel.core.vocabulary.errors import Unreadable

MOST_KINDS = 2000  # of statements that are told apart; the rest is counted together
_VALUE = re.compile(r"[0-9]|[\"'/@]")  # a word with one of these is a value, and not a word


class Kind(Struct):
    """Statements that are not understood and differ in their values only.

    `says`: their words, with `…` for what differs; '' if they may not be shown; `inside`: the
    blocks in which they stand; `number`: of them, in `texts` configurations; `file`, `line`,
    `text`: one of them; `bears_on`: the settings whose verdicts they make unknown.
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


class Covered(Struct, frozen=True):
    """What a dialect knows of one configuration."""

    name: str
    understood: int
    strange: int


class Cover(Struct, frozen=True):
    """How well a dialect knows some configurations.

    `texts`: those that could be read, the worst known first; `kinds`: what is not understood, the
    most frequent first; `lacking`: words that the spelling lacks; `silent`: settings of which this
    dialect can speak, and no text does; `unused`: statements of the dialect that no text has;
    `unread`: texts that are none of this platform's, or cannot be read, and why.
    """

    texts: tuple[Covered, ...]
    kinds: tuple[Kind, ...]
    lacking: tuple[Lacking, ...]
    silent: tuple[str, ...]
    unused: tuple[Unused, ...]
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
        self._dialect, self._matcher = dialect, matcher(dialect)
        self._texts: list[Covered] = []
        self._unread: list[tuple[str, str]] = []
        self._kinds: dict[object, Kind] = {}
        self._lacking: dict[tuple[str, str], Lacking] = {}
        self._used: Counter[int] = Counter()
        self._spoken: set[str] = set()

    def take(self, name: str, data: bytes | str) -> None:
        """Take a configuration; one that cannot be read is told, and holds up no other."""
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
        for path, raw, line in self._matcher.shape.find(text, self._matcher.heads.every):
            found = self._matcher.match(path, raw)
            if isinstance(found, Understood) and found.pattern != NO_PATTERN:
                understood += 1
                self._used[found.pattern] += 1
            elif isinstance(found, Strange) and found.slots:
                strange += 1
                place = records.place(name)(line)
                self._take_strange(found, path, raw, place, seen)
        self._texts.append(Covered(name, understood, strange))

    def _take_strange(
        self, found: Strange, path: Path, raw: bytes, place: tuple[str, int], seen: set[object]
    ) -> None:
        words = tuple(self._matcher.shape.split(decode(raw)))
        if found.shown:
            self._take_lacking(path, words, place)
        inside = " / ".join(" ".join(map(_masked, header)) for header in path)
        # Words are told apart up to the first that is a value: behind it, they may be values, too.
        front = tuple(map(_masked, words))
        at = (inside, front[: front.index("…") + 1] if "…" in front else front, len(words))
        if not found.shown:
            at = (inside, ("",), 0)
        kind = self._kinds.get(at)
        if kind is None:
            if len(self._kinds) >= MOST_KINDS:
                return
            text = masked(decode(raw)) if found.shown else ""
            says = " ".join(front) if found.shown else ""
            bears_on = tuple(bearing(self._dialect, found))
            kind = Kind(says, inside, 0, 0, *place, text, bears_on)
            self._kinds[at] = kind
        elif found.shown:
            kind.says = _alike(kind.says.split(" "), front)
        kind.number += 1
        kind.texts += at not in seen
        seen.add(at)

    def _take_lacking(self, path: Path, words: Words, place: tuple[str, int]) -> None:
        lacking = self._matcher.lacking(path, words)
        if lacking is not None:
            known = self._lacking.setdefault(lacking, Lacking(*lacking, 0, *place))
            known.number += 1

    def cover(self) -> Cover:
        """Return what the configurations come to."""
        never = {*unsaid(self._dialect), *self._spoken}
        patterns = zip(self._dialect.patterns, self._dialect.says, strict=True)
        unused = [
            Unused(pattern.line, says)
            for n, (pattern, says) in enumerate(patterns)
            if not self._used[n]
        ]
        return Cover(
            tuple(sorted(self._texts, key=lambda t: (-t.strange, t.name))),
            tuple(sorted(self._kinds.values(), key=lambda k: (-k.texts, -k.number, k.says))),
            tuple(
                sorted(self._lacking.values(), key=lambda one: (-one.number, one.slot, one.word))
            ),
            tuple(name for name in SETTINGS if name not in never),
            tuple(unused),
            tuple(self._unread),
        )


def _masked(word: str) -> str:
    """Return a word, or '…' if it looks like a value."""
    return "…" if _VALUE.search(word) else word


def _alike(one: list[str], other: Words) -> str:
    """Return the words of two statements, with '…' where they differ."""
    return " ".join(a if a == b else "…" for a, b in zip(one, other, strict=True))
