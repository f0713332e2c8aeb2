"""Templates: statements that differ in their values only, as one."""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Container, Iterable, Iterator, Sequence

from msgspec import Struct

NAME = "*"  # in the place of a name
ALIKE = 0.5  # of what stands below two words, by which they are names of two rows of one table
LOOKS_NAMED = re.compile(r".*[0-9-]")

Keys = tuple[str, ...]


class SampleStatement(Struct, frozen=True):
    """One statement of a sample.

    `path`: the words of the blocks above it; `front`: its words up to its value; `assigns`: whether
    a sign is between them; `values`: the rest; `listed`: whether it is one of a list within a
    statement.
    """

    path: tuple[Keys, ...]
    front: Keys
    values: Keys
    assigns: bool
    sample: str
    line: int
    listed: bool = False

    @property
    def place(self) -> str:
        """Its place."""
        return f"{self.sample}:{self.line}"

    @property
    def keys(self) -> Keys:
        """All words that lead to the value."""
        return tuple(word for header in self.path for word in header) + self.front


class Template(Struct):
    """Statements that differ in their values, and in the names of rows.

    `path`, `front`: with NAME in the place of names; `names`: by the place among the keys, the
    names that were seen; `said`: the statements.
    """

    path: tuple[Keys, ...]
    front: Keys
    assigns: bool
    names: dict[int, list[str]]
    said: list[SampleStatement]

    @property
    def keys(self) -> Keys:
        """All words that lead to the value, with NAME for names."""
        return tuple(word for header in self.path for word in header) + self.front

    @property
    def row(self) -> Keys:
        """The keys up to the last name; () if there is none."""
        at = max((n for n, word in enumerate(self.keys) if word == NAME), default=-1)
        return self.keys[: at + 1]

    @property
    def named(self) -> str:
        """The words that identify it: those that lead to its values."""
        return " ".join(self.keys)

    def column(self, n: int) -> list[str]:
        """Return the different words at a place among the values, as they were first seen."""
        words = (said.values[n] for said in self.said if len(said.values) > n)
        return list(dict.fromkeys(words))


def templates(
    said: Sequence[SampleStatement], known: Container[str], never: re.Pattern[str]
) -> list[Template]:
    """Return the templates of statements, in their order.

    `known`: words that are surely names, of collectors; `never`: what words match that are none.
    """
    names = _Names(known, never)
    names.find((), [one.keys for one in said])
    found: dict[object, Template] = {}
    for one in said:
        general = names.general(one.keys)
        path = []
        at = 0
        for header in one.path:
            path.append(general[at : at + len(header)])
            at += len(header)
        key = (tuple(path), general[at:], one.assigns)
        template = found.get(key)
        if template is None:
            template = found[key] = Template(tuple(path), general[at:], one.assigns, {}, [])
        template.said.append(one)
        for n, word in enumerate(general):
            if word == NAME and one.keys[n] not in template.names.setdefault(n, []):
                template.names[n].append(one.keys[n])
    return list(found.values())


class _Names:
    """Finds which words on the way to a value are names of rows."""

    def __init__(self, known: Container[str], never: re.Pattern[str]) -> None:
        self._known = known
        self._never = never
        self._found: dict[Keys, set[str]] = {}

    def find(self, above: Keys, rows: Sequence[Keys]) -> None:
        """Find the names behind some words, and behind those."""
        depth = len(above)
        below: dict[str, list[Keys]] = defaultdict(list)
        for row in rows:
            if len(row) > depth + 1:
                below[row[depth]].append(row)
        leaves = {row[depth] for row in rows if len(row) == depth + 1}
        numbers = {word for word in leaves if word.isdigit() and depth}
        may = [w for w in below if w not in leaves and self._may_be(w)]
        signs = {word: {row[depth + 1] for row in below[word]} for word in may}
        names = {w for w in may if w in self._known or LOOKS_NAMED.fullmatch(w)}
        for group in _alike(may, signs):
            if len(group) > 1:
                names |= set(group)
        # What holds nothing but what rows hold is a row, too.
        common = {sign for word in names for sign in signs.get(word, ())}
        names |= {word for word in may if signs[word] <= common}
        if names or numbers:
            # A row whose only value stands right behind its number has a name, too.
            self._found[above] = names | numbers
            self.find((*above, NAME), [row for word in names for row in below[word]])
        for word, some in below.items():
            if word not in names:
                self.find((*above, word), some)

    def _may_be(self, word: str) -> bool:
        return word in self._known or not self._never.fullmatch(word.lower())

    def general(self, keys: Keys) -> Keys:
        """Return keys with NAME in the place of names."""
        out: Keys = ()
        for word in keys:
            out = (*out, NAME if word in self._found.get(out, ()) else word)
        return out


def _alike(words: Iterable[str], signs: dict[str, set[str]]) -> Iterator[list[str]]:
    """Yield groups of words with similar content below them."""
    groups: list[tuple[list[str], set[str]]] = []
    for word in words:
        for group, common in groups:
            both = signs[word] & common
            if len(both) >= ALIKE * len(signs[word] | common):
                group.append(word)
                common |= signs[word]
                break
        else:
            groups.append(([word], set(signs[word])))
    return (group for group, _ in groups)
