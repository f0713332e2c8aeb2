"""What every shape offers: the base class, and the edits that it carries out.

A shape knows nothing of what statements mean. It finds those whose first words a dialect names,
passes over all others without looking at them, and carries out edits on a text as the platform
would.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Container, Iterable, Iterator, Mapping, Sequence
from typing import Any, ClassVar

from msgspec import Struct

from ivrel.core.form import Key
from ivrel.core.form import TextField as Word
from ivrel.core.text.text import LONGEST, Text, decode
from ivrel.core.text.words import Path, Words
from ivrel.core.vocabulary.errors import InputError, Mistake, Refused
from ivrel.core.vocabulary.software import Software
from ivrel.core.vocabulary.wording import shorten

Found = tuple[Path, bytes, int]  # the path above a statement, its text, its line from 1
Identity = Callable[[Path, Words], object]


UNKNOWN = "?"  # stands in a dialect for a word that nobody knows yet


class Edit(Struct, frozen=True):
    """One step of a change: sets a statement, or removes the statements with these first words
    (`removes`).

    `body`: the statements of a block that is rewritten as a whole; `words` is then its header.
    `line`: the line in the text of the change, or 0.
    `ahead_of`: the entry before which a new entry of a user-ordered list is inserted.
    """

    path: Path
    words: Words
    removes: bool = False
    line: int = 0
    body: tuple[Words, ...] | None = None
    ahead_of: Words = ()


class Shape(Struct, frozen=True, eq=False):
    """Divides text into statements and writes statements as text. Its fields come from the dialect.

    `comment`: how comments start; `remove`: the word that removes a statement; `negation`: the word
    that negates a statement in a text, if it differs from `remove`; `at_end`: whether that word
    follows the statement.
    """

    ATOMIC: ClassVar[bool] = False  # a change is carried out as a whole or not at all
    LISTS: ClassVar[bool] = False  # a statement may hold a list (`lists.py`)
    ASSIGNS: ClassVar[bool] = False  # a statement is a name, a sign and one value
    DERIVED: ClassVar[bool] = (
        False  # statements are worked out from lines rather than stand in them
    )
    NEGATES: ClassVar[bool] = False  # a text may hold statements that are negated
    ASKS: ClassVar[str] = ""  # the program that says whether it takes a configuration
    WHOLE: ClassVar[bool] = False  # a part is found only by parsing all before it
    # Expressions for the begin of a statement, for one word, and for the gap between two words.
    # Empty where statements are found in another way.
    ANCHORS: ClassVar[tuple[bytes, bytes, bytes]] = (b"", b"", b"")
    QUALIFIED: ClassVar[bool] = False  # values may bear the name of the module that defines them
    OPTIONS: ClassVar[Mapping[str, Key]] = {
        "comment": Key(Word("text"), "what a comment line begins with")
    }
    CHANGE: ClassVar[Mapping[str, Key]] = {
        "remove": Key(Word("text"), "the word that takes a statement away", must=True)
    }

    comment: str = "#"
    remove: str = "remove"
    negation: str = ""
    at_end: bool = False

    @classmethod
    def built(cls, options: Mapping[str, Any]) -> Shape:
        """Return the shape with what a dialect says under the keys of OPTIONS and CHANGE."""
        return cls(**options)

    def on(self, software: Software) -> Shape:
        """Return this shape for a device with this software; most texts do not depend on it."""
        return self

    def sends_at(self, text: Text) -> Iterable[tuple[str, int, int]]:
        """Return the places of what sends, where the platform's own program names lines: the file's
        name in its bundle, the first line and the last.
        """
        return ()

    def knowing(self, blocks: Sequence[str]) -> Shape:
        """Return this shape for a dialect with only these words as block headers."""
        return self

    def unsaid(self, edits: Sequence[Edit]) -> str:
        """Return why a change of these edits cannot be written yet, since the dialect does not say
        how; '' if it does.
        """
        if getattr(self, "inside", "") == UNKNOWN and edits:
            return "the dialect does not say in which block a change stands (change: inside)"
        if self.remove == UNKNOWN and any(edit.removes for edit in edits):
            return "the dialect does not say which word takes a statement away (change: remove)"
        return ""

    def split(self, line: str) -> list[str]:
        """Return the words of a statement."""
        raise NotImplementedError

    def join(self, words: Sequence[str]) -> str:
        """Return a statement of these words, or the beginning of one."""
        raise NotImplementedError

    @property
    def anchors(self) -> tuple[bytes, bytes, bytes]:
        """What ANCHORS says of this shape, or of the one that it adds to."""
        return self.ANCHORS

    @property
    def is_of_model(self) -> bool:
        """Whether the text is a tree of an open model, whose parts name their modules."""
        return False

    @property
    def ordered_names(self) -> tuple[str, ...]:
        """The first words of statements whose order the user chose, and which says something."""
        return ()

    def negated(self, words: Words) -> Words:
        """Return the statement that one of a text negates; nothing if it negates none.

        >>> Shape(remove="no").negated(("no", "facility"))
        ('facility',)
        >>> Shape(negation="off", at_end=True).negated(("facility", "off"))
        ('facility',)
        """
        word = self.negation or self.remove
        if self.at_end:
            return words[:-1] if words[-1:] == (word,) else ()
        first, _, rest = words[0].partition(" ") if words else ("", "", "")
        if first != word:
            return ()
        # Where words are divided by dots, the negation and the first of them are one.
        return (rest.strip(), *words[1:]) if rest else words[1:]

    def negation_of(self, words: Words) -> Words:
        """Return the words that negate a statement of a text.

        >>> Shape(remove="no").negation_of(("facility",))
        ('no', 'facility')
        """
        word = self.negation or self.remove
        return (*words, word) if self.at_end else (word, *words)

    @property
    def removes_as_texts_negate(self) -> bool:
        """Whether a removal in a change reads as a negation in a text does."""
        return not self.at_end and self.negation in ("", self.remove)

    def part_around(self, text: Text, at: int) -> tuple[int, Iterable[Found]]:
        """Return the end of the top-level part that contains a position, and the part's statements.

        By default, the whole text is one part.
        """
        return len(text.data), self.statements(text)

    def find(self, text: Text, heads: Sequence[Words]) -> Iterable[Found]:
        """Return the statements that start with one of `heads`, or are nested in one that does.

        They keep the order of the text. Raise Unreadable if the text is damaged.
        """
        if not text.whole or not self.WHOLE:
            return self.scan(text, heads)
        tops, by_first = self._tops(text)
        numbers: list[int] = []
        for first in dict.fromkeys(head[0] for head in heads):
            behind = [head for head in heads if head[0] == first]
            some = by_first.get(first, ())
            if min(map(len, behind)) > 1:
                some = [n for n in some if any(tops[n][: len(head)] == head for head in behind)]
            numbers += some
        return self.statements_of(text, sorted(numbers))

    def tops(self, text: Text) -> Sequence[Words]:
        """Return the heads of the top-level parts of a text: the header of a block, the words of a
        statement.
        """
        return self._tops(text)[0]

    def _tops(self, text: Text) -> tuple[Sequence[Words], Mapping[str, Sequence[int]]]:
        """Return the heads of all parts of a text, and the numbers of those with a first word."""
        return text.once("tops", lambda: self._numbered(text))

    def _numbered(self, text: Text) -> tuple[Sequence[Words], Mapping[str, Sequence[int]]]:
        self.check(text)
        by_first: defaultdict[str, list[int]] = defaultdict(list)
        tops = self.find_tops(text)
        for n, words in enumerate(tops):
            if words:
                by_first[words[0]].append(n)
        return tops, dict(by_first)

    def find_tops(self, text: Text) -> Sequence[Words]:
        """Find the parts that `tops` yields. Here each statement is a part of its own."""
        return [
            path[0] if path else tuple(self.split(decode(raw[:LONGEST])))
            for path, raw, _ in self.statements(text)
        ]

    def statements_of(self, text: Text, numbers: Sequence[int]) -> list[Found]:
        """Return the statements of some of the parts that `tops` tells."""
        every = self.statements(text)
        return [every[n] for n in numbers]

    def content(self, text: Text, number: int) -> object:
        """Return the content of a part; parts with equal content have equal statements."""
        path, raw, _ = self.statements(text)[number]
        return path, raw

    def statements(self, text: Text) -> list[Found]:
        """Return every statement of the text."""
        return text.once("statements", lambda: list(self.everything(text)))

    @property
    def apart(self) -> bool:
        """Whether the text can be divided into parts that are read independently."""
        return False

    def begins_anew(self, line: bytes) -> bool:
        """Whether the text from a line on reads the same, whatever comes before that line."""
        return False

    def check(self, text: Text) -> None:
        """Raise Unreadable if a text is damaged."""

    def scan(self, text: Text, heads: Sequence[Words]) -> Iterator[Found]:
        """Yield what `find` returns, by a look at the parts of the text that matter alone."""
        raise NotImplementedError

    def holding(
        self, text: Text, word: bytes, heads: Sequence[Words], behind: Container[bytes]
    ) -> Iterator[Found]:
        """Yield statements of `scan` on lines that hold a word right behind one of these.

        A quick look: it may miss some, and may find more.
        """
        if word in text.data:
            yield from (found for found in self.find(text, heads) if word in found[1])

    def everything(self, text: Text) -> Iterator[Found]:
        """Yield every statement of the text."""
        raise NotImplementedError

    def write_change(self, text: Text, edits: Sequence[Edit], identity: Identity) -> str:
        """Return the text of a change that carries out the edits on a text."""
        raise NotImplementedError

    def read_change(self, change: str, file: str) -> list[Edit]:
        """Return the edits of a change's text; InputError if it is none."""
        raise NotImplementedError

    def said_by(self, edit: Edit) -> list[tuple[Path, Words]]:
        """Return the statements that an edit sets, or the beginning of those that it removes."""
        if edit.body is None:
            return [(edit.path, edit.words)]
        return [((edit.words,), words) for words in edit.body]

    def fine(self, text: Text, edits: Sequence[Edit], identity: Identity) -> list[Edit]:
        """Return the single statements that edits set or remove, to be left out one by one."""
        return list(edits)

    def apply(self, text: Text, edits: Sequence[Edit], identity: Identity) -> bytes:
        """Return the text after the edits; a statement replaces that of the same identity.

        Refused where the platform would not take one of them.
        """
        raise NotImplementedError


def missing(edit: Edit, join: Callable[[Sequence[str]], str]) -> Refused:
    """Return the platform's message if there is nothing to remove."""
    return Refused(f"there is no '{shorten(join(edit.words))}' to remove", edit.line)


def refuse(file: str, line: int, said: str) -> InputError:
    """Return a mistake in the text of a change."""
    return InputError([Mistake(file, said, line, 1)])
