"""Likeness: how much a statement resembles one that a pattern describes, and the words that show
it.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from msgspec import Struct

from ivrel.core.dialects.items import Any, Flag, Item, Literal, Maybe, Rest, Variable
from ivrel.core.dialects.slots import SLOTS
from ivrel.core.text.words import Words
from ivrel.core.vocabulary.trade import GENERIC
from ivrel.core.vocabulary.values import ORIGIN, SHOWN, STATE, SWITCH, TRANSPORT

SHORTEST = 2  # letters of an abbreviation
SPEAKING = 4  # letters of an abbreviation that says enough by itself

NOT = 0
FAINTLY = 1
CLEARLY = 2


# Types whose values occur all over a configuration, too: on and off, names of transports.
_NOT_TELLING = (SWITCH, STATE, SHOWN, TRANSPORT, ORIGIN)


def _is_telling(slot: str) -> bool:
    """Whether the values of a slot are words that few other settings have."""
    kind = SLOTS[slot].type
    return bool(kind.choices) and kind not in _NOT_TELLING


def likeness(items: Sequence[Item], words: Words) -> int:
    """Return how much words resemble what a pattern describes, perhaps behind one more word."""
    return max(_aligned(items, words), _aligned(items, words[1:]))


class _Shared(Struct):
    """What words share with a pattern: words that are the same, and those that are short for one;
    how many are others; whether a value is there that only few settings have, or one that the
    pattern cannot carry.
    """

    same: list[str]
    short: list[str]
    other: int = 0
    telling: bool = False
    wrong: bool = False


def _aligned(items: Sequence[Item], words: Words) -> int:
    """Return how much words resemble what a pattern describes, from the first one on."""
    shared = _compared(items, words)
    if shared is None or shared.other > 1 or not (shared.same or shared.short):
        return NOT
    specific = any(word.casefold() not in GENERIC for word in shared.same)
    if not shared.other and shared.same:
        # A single word with a value that the setting cannot have says little by itself.
        fits = not shared.wrong or len(shared.same) > 1
        return CLEARLY if (specific and fits) or (shared.telling and fits) else FAINTLY
    # Of a statement that begins in another way, the next word must be the same.
    if shared.other and not (_is_same_at(items, words, 0) or _is_same_at(items, words, 1)):
        return NOT
    # One word is another one, or shorter: all the rest must fit, and all of it be there.
    speaking = any(len(w) >= SPEAKING and w.casefold() not in GENERIC for w in shared.short)
    sure = specific or speaking or len(shared.same) + len(shared.short) > 1 or shared.telling
    whole = len(words) >= len(fixed(items))
    return CLEARLY if sure and whole and not shared.wrong else NOT


def _compared(items: Sequence[Item], words: Words) -> _Shared | None:
    """Return the words shared with a pattern, place by place; None if a sign is missing."""
    shared = _Shared([], [])
    for item, word in zip(fixed(items), words, strict=False):
        if isinstance(item, Variable):
            if item.decode(word) is None:
                shared.wrong = True
            elif _is_telling(item.slot):
                shared.telling = True
        elif isinstance(item, Literal | Flag):
            if item.word == "=" != word:
                return None
            if item.word.casefold() == word.casefold():
                shared.same += [item.word] if word != "=" else []
            elif _is_short_for(word, item.word):
                shared.short.append(word)
            else:
                shared.other += 1
    return shared


def _is_same_at(items: Sequence[Item], words: Words, at: int) -> bool:
    """Whether a word of a pattern is at a place, perhaps abbreviated."""
    item = items[at] if at < min(len(items), len(words)) else None
    return isinstance(item, Literal | Flag) and (
        item.word.casefold() == words[at].casefold() or _is_short_for(words[at], item.word)
    )


def _is_short_for(word: str, whole: str) -> bool:
    return len(word) >= SHORTEST and whole.casefold().startswith(word.casefold())


def fixed(items: Sequence[Item]) -> list[Item]:
    """Return the items up to the first that may be left out: those whose places are known."""
    out: list[Item] = []
    for item in items:
        if isinstance(item, Maybe | Rest):
            break
        out.append(item)
    return out


def variants(items: Sequence[Item]) -> Iterator[list[Item]]:
    """Yield the items whose places are known, and the same with any word in place of each."""
    said = [item for item in fixed(items) if not _is_sign(item)]
    yield said
    for n, item in enumerate(said):
        if isinstance(item, Literal | Flag) and (n or _is_word(said[1:2])):
            yield [*said[:n], Any(), *said[n + 1 :]]


def _is_word(items: Sequence[Item]) -> bool:
    return bool(items) and isinstance(items[0], Literal | Flag)


def _is_sign(item: Item) -> bool:
    return isinstance(item, Literal) and item.word == "="


def evidence(items: Sequence[Item], *, enough: bool) -> list[tuple[bytes, ...]]:
    """Return the first words of a statement, in small letters, that show that it may be in doubt;
    empty for any word.

    `enough`: whether any known word shows it; else it takes one that is not generic, or a value
    that only few settings have. None if none of its words shows it.
    """
    out: list[tuple[bytes, ...]] = [()]
    said = False
    for item in items:
        if isinstance(item, Literal | Flag):
            word = item.word.lower()
            ends = range(min(SHORTEST, len(word)), len(word) + 1)
            out = [(*before, word[:end].encode()) for before in out for end in ends]
            said = True
            if enough or item.word.casefold() not in GENERIC:
                return out
        elif isinstance(item, Variable) and _is_telling(item.slot) and said:
            words = item.values if item.values is not None else SLOTS[item.slot].type.choices
            return [(*before, word.lower().encode()) for before in out for word in words]
        else:
            out = [(*before, b"") for before in out]
    return []
