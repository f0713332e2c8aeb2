"""Questions that a learned dialect leaves open, in the user's words, the most useful first."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from itertools import islice, product

from msgspec import Struct
from msgspec.structs import replace

from ivrel.core.authoring.learning.answers import NOTHING, UserAnswers
from ivrel.core.authoring.learning.learn import Learned, LearnedRow
from ivrel.core.authoring.learning.rules import DESTINATION, SINGLES, SlotRule
from ivrel.core.authoring.learning.spellings import fits, may_be
from ivrel.core.authoring.learning.telling import as_told
from ivrel.core.dialects.slots import SLOTS, table_of
from ivrel.core.settings import SETTINGS
from ivrel.core.settings.relevance import OWNER
from ivrel.core.settings.unstated import may_lack_default

MOST_CHOICES = 4
MOST_VALUES = 3  # of a statement that is asked about


class AnswerChoice(Struct, frozen=True):
    """What may be answered, and what that means in words."""

    answer: str
    words: str


class Question(Struct, frozen=True):
    """A question: what it is about, the line that it is about ('' if none) and its place; no
    choices, where any word may be the answer.

    `about`: the field of the answers, and the key in it if it has any.
    """

    about: tuple[str, str]
    text: str
    line: str = ""
    place: str = ""
    choices: tuple[AnswerChoice, ...] = ()


def questions(learned: Learned) -> Iterator[Question]:
    """Yield what is open: statements in doubt, the most frequent first; what no sample tells."""
    answers = learned.answers
    taken = {slot for row in learned.known for slot in row.slots}
    for row in learned.doubtful:
        template = row.template
        first = row.template.said[0]
        if template.named in answers.means or not 0 < len(first.values) <= MOST_VALUES:
            continue
        line = as_told(template)
        choices = tuple(_choices(row, taken))[:MOST_CHOICES]
        nothing = AnswerChoice(NOTHING, "nothing that matters for export")
        about = ("means", template.named)
        yield Question(about, "what does this say?", line, first.place, (*choices, nothing))
    if learned.lacks_word:
        yield Question(("remove", ""), "which word takes a statement away?")
    if learned.lacks_block:
        yield Question(("inside", ""), "in which block does a change stand?")
    asked = {slot: (text, choices) for slot, text, choices in _DEFAULTS}
    lacking = [slot for slot in taken if slot not in asked and may_lack_default(slot)]
    for slot in (*asked, *sorted(lacking)):
        if slot in taken and slot not in answers.defaults:
            text, choices = asked.get(slot, (f"what is {slot}?", _choices_of(slot)))
            yield Question(
                ("defaults", slot), f"where a text says nothing, {text}", choices=choices
            )


def _choices_of(slot: str) -> tuple[AnswerChoice, ...]:
    return tuple(AnswerChoice(value, value) for value in SLOTS[slot].type.choices)


_DEFAULTS = (
    ("export", "is export on?", (AnswerChoice("on", "it is on"), AnswerChoice("off", "it is off"))),
    (
        "destination.port",
        "which port is taken?",
        (AnswerChoice("514", "514"), AnswerChoice("601", "601")),
    ),
    (
        "destination.transport",
        "which transport is taken?",
        (AnswerChoice("udp", "UDP"), AnswerChoice("tcp", "TCP"), AnswerChoice("tls", "TLS")),
    ),
    ("destination.level", "which severity is the threshold? (by its name in RFC 5424)", ()),
    ("level", "which severity is the threshold? (by its name in RFC 5424)", ()),
    ("facility", "which facility is taken? (local7, user, …)", ()),
    ("destination.facility", "which facility is taken? (local7, user, …)", ()),
)


def with_answer(answers: UserAnswers, question: Question, said: str) -> UserAnswers:
    """Return the answers with one more; ValueError if a question has no such answer."""
    field, key = question.about
    if question.choices and said not in {choice.answer for choice in question.choices}:
        raise ValueError(said)
    if field == "defaults":
        SLOTS[key].type.parse(said)
    if not said.strip():
        raise ValueError(said)
    if not key:
        return replace(answers, **{field: said})
    return replace(answers, **{field: {**getattr(answers, field), key: said}})


def candidates(learned: Learned, row: LearnedRow) -> Iterator[str]:
    """Yield what a statement in doubt may say, the likeliest first, each with the reason."""
    template = row.template
    if not 0 < len(template.said[0].values) <= MOST_VALUES:
        return
    taken = {slot for known in learned.known for slot in known.slots}
    rules = DESTINATION if template.row else SINGLES
    for choice in islice(_choices(row, taken), MOST_CHOICES):
        slots = choice.answer.split()
        told = any(rule.slot in slots and rule.hints(template.keys) for rule in rules)
        why = "its words tell of it, and its values fit" if told else "its values fit"
        yield f"{choice.answer}: {why}"


def _choices(row: LearnedRow, taken: set[str]) -> Iterator[AnswerChoice]:
    """Yield what a statement may say, the likeliest first: what its words announce, then what its
    values fit.
    """
    template = row.template
    rules = DESTINATION if template.row else SINGLES
    columns = range(len(template.said[0].values))
    may = [_slots(template.column(n), rules, template.keys, taken) for n in columns]
    if any(not some and len(template.column(n)) > 1 for n, some in zip(columns, may, strict=True)):
        return
    for slots in product(*(some or ["-"] for some in may)):
        said = [slot for slot in slots if slot != "-"]
        # What one statement says is of one thing.
        if said and len(set(said)) == len(said) and len({_of(slot) for slot in said}) == 1:
            words = "; ".join(f"{slot}: {SETTINGS[OWNER[slot]].meaning}" for slot in said)
            yield AnswerChoice(" ".join(slots), words)


def _of(slot: str) -> str:
    return table_of(slot) or slot.partition(".")[0]


def _slots(
    words: Sequence[str], rules: Sequence[SlotRule], keys: Sequence[str], taken: set[str]
) -> list[str]:
    fitting = [
        rule for rule in rules
        if rule.slot not in taken and rule.slot in OWNER
        # A number may be a severity where a word tells of one, and is one of many things elsewhere.
        and (may_be if rule.hints(keys) else fits)(rule.slot, words)
        and SLOTS[rule.slot].type.name != "word"
    ]  # fmt: skip
    return [rule.slot for rule in sorted(fitting, key=lambda rule: not rule.hints(keys))]
