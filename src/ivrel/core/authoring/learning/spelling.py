"""Writes the spelling of a learned dialect: the platform's words for the values of its slots."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence

from ivrel.core.authoring.learning.as_yaml import flow, word
from ivrel.core.authoring.learning.learn import Learned, LearnedRow
from ivrel.core.authoring.learning.spellings import fits, spelled
from ivrel.core.dialects.slots import SLOTS

_MOST_NUMBERS = 64  # of collectors that have numbers for names
_WIDTH = 110  # columns of a line that may go on in the next


def spelling(learned: Learned) -> str:
    """Return the part of a dialect's file that says this platform's words for values."""
    found: dict[str, list[str]] = {}
    for row in learned.known:
        for slot, words in _words(row):
            found.setdefault(slot, []).extend(words)
    of_slots = {slot: of for slot, words in found.items() if (of := spelled(slot, words))}
    by_type: dict[str, list[str]] = {}
    for name in of_slots:
        by_type.setdefault(SLOTS[name].type.name, []).append(name)
    said: dict[str, Mapping[str, Sequence[str]]] = {}
    for kind, slots in by_type.items():
        first = of_slots[slots[0]]
        # Slots of one type that have the same words say them once.
        if len(slots) > 1 and all(of_slots[slot] == first for slot in slots):
            said[kind] = first
        else:
            said.update((slot, of_slots[slot]) for slot in slots)
    # Planes are those that there are, whatever other words stand where their names do.
    planes = learned.answers.channels or learned.names("feed.name")
    slots = [slot for slot in ("feed.name", "give.feed") if learned.names(slot)]
    if "feed.name" in slots:
        said |= {slot: {name: [name] for name in planes} for slot in slots}
    numbers = learned.names("destination.name")
    if numbers and all(map(str.isdigit, numbers)):
        # Which numbers there are is not known, but for those that were seen, or are all it holds.
        low = min(map(int, numbers))
        high = max(map(int, numbers))
        most = learned.answers.most.get("destination", "")
        high = low + int(most) - 1 if most.isdigit() and low < 2 else high
        # Numbers far apart are names like any others.
        if high - low < _MOST_NUMBERS:
            said["destination.name"] = {str(n): [str(n)] for n in range(low, high + 1)}
    if not said:
        return ""
    return (
        "# This platform's words for values; one that is not listed cannot be said.\nspelling:\n"
        + "".join(_filled(name, of) for name, of in said.items())
    )


def _filled(name: str, words: Mapping[str, Sequence[str]]) -> str:
    """Return the spelling of a slot or a type, on as many lines as it takes."""
    pairs = (f"{value}: {_one_or_more(some)}" for value, some in words.items())
    lines = []
    line = f"  {name}: {{"
    for n, pair in enumerate(pairs, 1):
        pair += "}" if n == len(words) else ","
        if len(line) + len(pair) > _WIDTH:
            lines.append(line.rstrip())
            line = "    "
        line += f"{pair} "
    return "".join(f"{one}\n" for one in (*lines, line.rstrip()))


def _one_or_more(words: Sequence[str]) -> str:
    return word(words[0]) if len(words) == 1 else flow(words)


def _words(row: LearnedRow) -> Iterable[tuple[str, list[str]]]:
    """Yield the slots of a row with the words that were seen for them."""
    template = row.template
    meaning = row.meaning
    for slot in row.slots:
        words = list(dict.fromkeys(word for _, word in row.values(slot)))
        if words:
            yield slot, words
    for slot in meaning.flow:
        if slot.endswith(("kind", "precision")):
            every = dict.fromkeys(word for said in template.said for word in said.values)
            yield slot, [word for word in every if fits(slot, [word])]
