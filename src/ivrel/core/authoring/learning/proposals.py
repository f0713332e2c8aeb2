"""Proposals for an existing dialect: what more samples teach, as comments in its file."""

from __future__ import annotations

from collections.abc import Sequence

from msgspec import Struct

from ivrel.core.authoring.learning.learn import Learned, LearnedRow
from ivrel.core.authoring.learning.spellings import value_of
from ivrel.core.authoring.learning.templates import SampleStatement
from ivrel.core.authoring.learning.written import statement
from ivrel.core.dialects import Dialect
from ivrel.core.dialects.slots import SLOTS
from ivrel.core.reading.matcher import Matcher, matcher
from ivrel.core.text.words import Words


class Proposal(Struct, frozen=True):
    """What a dialect lacks: a statement, or a word in the spelling of a slot.

    `line`: as it would be in the file; `why`: the reason for it; `place`: where a sample says so;
    `number`: how often.
    """

    part: str
    line: str
    why: str
    place: str
    number: int


def proposals(dialect: Dialect, learned: Learned) -> list[Proposal]:
    """Return the statements and words that samples show and a dialect does not know."""
    known = matcher(dialect)
    statements: list[Proposal] = []
    words: dict[tuple[str, str], list[SampleStatement]] = {}
    for row in learned.known:
        new = [said for said in row.template.said if not _is_known(known, dialect, said)]
        lacking = [(said, known.lacking(said.path, _words(said))) for said in new]
        for said, lack in lacking:
            if lack is not None:
                words.setdefault(lack, []).append(said)
        unsaid = [said for said, lack in lacking if lack is None]
        if unsaid:
            statements.append(_statement(learned, row, unsaid))
    return [*statements, *(_spelling(slot, word, said) for (slot, word), said in words.items())]


def _is_known(known: Matcher, dialect: Dialect, said: SampleStatement) -> bool:
    words = _words(said)
    if known.find(said.path, words) is not None:
        return True
    return dialect.sets_aside(said.path, words)


def _words(said: SampleStatement) -> Words:
    return (*said.front, "=", *said.values) if said.assigns else (*said.front, *said.values)


def _statement(learned: Learned, row: LearnedRow, said: Sequence[SampleStatement]) -> Proposal:
    line = f"- {{{statement(learned, row)}}}"
    return Proposal("statements", line, row.meaning.why, said[0].place, len(said))


def _spelling(slot: str, word: str, said: Sequence[SampleStatement]) -> Proposal:
    value = value_of(SLOTS[slot].type.name, word)
    line = f"{slot}: {{{value or '?'}: {word}}}"
    why = "a word that engineers use for it" if value else "which value it is, nobody knows"
    return Proposal("spelling", line, why, said[0].place, len(said))


def commented(found: Sequence[Proposal], samples: Sequence[str]) -> str:
    """Return proposals as comments for the end of a dialect's file."""
    named = ", ".join(samples[:6])
    lines = [f"# Proposals, learned from {named}. Are they true? Then put each in its place.\n"]
    for part in dict.fromkeys(one.part for one in found):
        lines.append(f"#   {part}:\n")
        for one in found:
            if one.part == part:
                times = f", {one.number} times" if one.number > 1 else ""
                lines.append(f"#     {one.line}   # {one.why} ({one.place}{times})\n")
    return "".join(lines)
