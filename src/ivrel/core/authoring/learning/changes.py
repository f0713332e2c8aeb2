"""Learns from changes that were once made how this platform takes statements away.

Of all words that a change begins its lines with, the right one turns the text before into the text
after when the change is carried out.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence

from msgspec import Struct
from msgspec.structs import replace

from ivrel.core.authoring.learning.answers import UserAnswers
from ivrel.core.authoring.learning.learn import Learned
from ivrel.core.authoring.learning.written import written
from ivrel.core.correcting.changes import apply_change
from ivrel.core.dialects import Dialect
from ivrel.core.dialects.load import read_dialect
from ivrel.core.shapes.shape import UNKNOWN
from ivrel.core.text.text import Text, decode
from ivrel.core.text.words import Path, Words
from ivrel.core.vocabulary.errors import InputError, Refused, Unreadable


class PastChange(Struct, frozen=True):
    """A change that was once made: the texts before and after it, and what was typed; `name`: what
    that is called.
    """

    name: str
    before: bytes
    after: bytes
    typed: str


def from_changes(learned: Learned, changes: Sequence[PastChange]) -> UserAnswers:
    """Return the answers that changes give in addition to those that were given.

    InputError if a change does not lead from its text before to the one after, or does with several
    words.
    """
    ways = [
        answers
        for answers in _ways(learned, changes)
        if all(_leads(_dialect(learned, answers), change) for change in changes)
    ]
    if not ways:
        names = " and ".join(change.name for change in changes)
        said = "whatever word removes, the text before does not become the one after"
        raise InputError(f"{names}: {said}")
    # Where no change takes anything away, every word leads there, and none is learned.
    removes = {way.remove for way in ways}
    insides = {way.inside for way in ways}
    return replace(
        learned.answers,
        remove=removes.pop() if len(removes) == 1 else learned.answers.remove,
        inside=insides.pop() if len(insides) == 1 else learned.answers.inside,
    )


def _ways(learned: Learned, changes: Sequence[PastChange]) -> Iterator[UserAnswers]:
    """Yield the answers that may be meant: what is known, and each word that a line begins with."""
    given = learned.answers
    words = dict.fromkeys(word for change in changes for word in _first_words(change.typed))
    removes = [given.remove] if given.remove != UNKNOWN else [UNKNOWN, *words]
    insides = [given.inside]
    if learned.traits.has_wrapper and given.inside == UNKNOWN:
        insides = ["", *words]
    for remove in removes:
        for inside in insides:
            if remove != inside or UNKNOWN in (remove, inside):
                yield replace(given, remove=remove, inside=inside)


def _first_words(typed: str) -> Iterator[str]:
    """Yield the first words of lines, blocks and headers of a change."""
    for line in typed.replace("{", "\n").replace(";", "\n").replace("[", "\n").splitlines():
        words = line.replace("}", " ").replace("]", " ").split()
        if words:
            yield words[0]


def _dialect(learned: Learned, answers: UserAnswers) -> Dialect:
    return read_dialect(written(replace(learned, answers=answers)), f"{learned.name}.yaml")


def _leads(dialect: Dialect, change: PastChange) -> bool:
    """Whether a change, read with the words of a dialect, leads from one text to the other."""
    try:
        found = apply_change(dialect, change.before, change.typed, change.name)
    except (InputError, Refused, Unreadable):
        return False
    return _statements(dialect, found) == _statements(dialect, change.after)


def _statements(dialect: Dialect, data: bytes) -> Counter[tuple[Path, Words]]:
    """Return the statements of a text; a platform may write them in another order."""
    shape = dialect.shape
    return Counter(
        (path, tuple(shape.split(decode(raw)))) for path, raw, _ in shape.everything(Text(data))
    )
