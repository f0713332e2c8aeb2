"""Mistakes in what the user gave: where, what, and what was expected. All of them at once, never a traceback."""

from __future__ import annotations

from collections.abc import Iterable
from difflib import get_close_matches

from msgspec import Struct


class Mistake(Struct, frozen=True):
    """One thing that is wrong with an input; `line` and `column` count from 1, 0 means not known."""

    file: str
    said: str
    line: int = 0
    column: int = 0

    def __str__(self) -> str:
        place = ":".join(str(part) for part in (self.file, self.line, self.column) if part)
        return f"{place}: {self.said}" if place else self.said


class InputError(Exception):
    """The input or the call is wrong; carries every mistake that was found."""

    def __init__(self, mistakes: Iterable[Mistake] | str) -> None:
        self.mistakes = (
            (Mistake("", mistakes),)
            if isinstance(mistakes, str)
            else tuple(sorted(mistakes, key=lambda m: (m.file, m.line, m.column)))
        )
        super().__init__("\n".join(str(m) for m in self.mistakes))


class Unreadable(Exception):
    """One configuration cannot be read; the other devices go on."""


class Foreign(Unreadable):
    """A text holds nothing that the platform would say: it may be another platform's."""


def own_error(problem: Exception) -> str:
    """What to say of an error of the program's own, where others must not be stopped by it."""
    return f"an error in Ivrel itself, {type(problem).__name__}; IVREL_TRACEBACK=1 shows where"


def listed(names: Iterable[str]) -> str:
    """Names as a sentence takes them: 'a, b or c'."""
    names = list(names)
    return names[0] if len(names) == 1 else f"{', '.join(names[:-1])} or {names[-1]}"


def not_one_of(word: str, names: Iterable[str]) -> str:
    """'… is not known; expected a, b or c', with the likeliest meant name first where one is near."""
    names = list(names)
    near = get_close_matches(word, names, 1)
    if near:
        return f"'{word}' is not known; did you mean '{near[0]}'?"
    return f"'{word}' is not known; expected {listed(names)}" if names else f"'{word}' is not known"


def plain(text: str) -> str:
    """Text as a terminal or a file may show it: no control character but line ends."""
    return text if text.isprintable() else "".join(c if c.isprintable() or c == "\n" else "·" for c in text)
