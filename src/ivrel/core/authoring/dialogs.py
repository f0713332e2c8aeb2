"""Derives the `session:` of a dialect from a recorded dialog with a device.

A last line is a prompt if the device repeats it after an empty line. The command with the longest
answer prints the configuration; commands without an answer before it prepare the terminal. Commands
at which the prompt changes are proposed as `open` and `hold`.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Sequence
from itertools import pairwise
from typing import Any

import yaml
from msgspec import Struct

from ivrel.core.delivery.dialog import cleaned
from ivrel.core.text.text import decode
from ivrel.core.vocabulary.wording import shorten

PAGE = " "  # what turns a page
LONG = 5  # lines of an answer, from which on it is more than a remark
_WORD = re.compile(r"[\w.-]+")


class Turn(Struct, frozen=True):
    """One step of a dialog: what was typed, and the device's answer.

    `hidden`: a password was typed; `ended`: the device closed the session.
    """

    typed: str
    answered: bytes = b""
    hidden: bool = False
    ended: bool = False

    @property
    def lines(self) -> list[str]:
        """The lines of the answer, without the echo of what was typed and without the last."""
        lines = decode(cleaned(self.answered)).split("\n")[:-1]
        return lines[1:] if lines and lines[0].strip() == self.typed.strip() else lines

    @property
    def last(self) -> str:
        """The last line of the answer, after which the device waits."""
        return decode(cleaned(self.answered)).rpartition("\n")[2]


class Proposed(Struct, frozen=True):
    """A proposed `session:` as YAML, and remarks on what to check."""

    text: str
    remarks: tuple[str, ...] = ()


# The keys in the order in which a session is written.
ORDER = "prompt errors start rise pages questions show open hold leave".split()


def proposed(turns: Sequence[Turn]) -> Proposed:
    """Return the session derived from a dialog whose first turn is the login."""
    prompts = _prompts(turns)
    if not prompts:
        why = "the device never showed the same last line again; type empty lines first (Enter)"
        return Proposed("", (why,))
    said: dict[str, Any] = {"prompt": _pattern(prompts)}
    said |= _asked(turns, prompts) | _printed(turns, prompts)
    remarks = []
    if "rise" not in said:
        said |= _around(turns, prompts)
    if "open" in said:
        remarks.append("'open' and 'hold' are the lines at which the prompt changed: check them")
    errors = sorted({_literal(word, at_end=False) for word in _error_words(turns, prompts)})
    if errors:
        said["errors"] = [f"^{one}" for one in errors]
        remarks.append("'errors' is what single lines of answers begin with: keep those of errors")
    else:
        remarks.append("no 'errors' seen: type something wrong once, so that refusals are known")
    if "show" not in said:
        remarks.append(f"nothing printed {LONG} lines or more, so 'show' is not known")
    elif alike := _alike(said["prompt"], turns):
        remarks.append(f"a line that it printed looks like the prompt, too: '{shorten(alike, 40)}'")
    rows = {name: said[name] for name in ORDER if name in said}
    whole = yaml.safe_dump({"session": rows}, sort_keys=False, width=90, allow_unicode=True)
    return Proposed(whole, tuple(remarks))


def _printed(turns: Sequence[Turn], prompts: Sequence[str]) -> dict[str, Any]:
    """Return the commands that prepare the terminal, print the configuration, and log out."""
    said: dict[str, Any] = {}
    at = _longest(turns)
    if at:
        quiet = (t for t in turns[1:at] if t.typed.strip() and not any(t.lines) and not t.hidden)
        start = [t.typed for t in quiet if t.last in prompts]
        said = {"start": start} if start else {}
        said["show"] = turns[at].typed
    ended = next((t.typed for t in turns if t.ended and t.typed), "")
    return {**said, "leave": ended} if ended else said


def _asked(turns: Sequence[Turn], prompts: Sequence[str]) -> dict[str, Any]:
    """Return the device's questions (last lines other than the prompt) and the replies."""
    said: dict[str, Any] = {}
    for before, after in pairwise(turns):
        if after.hidden and not before.hidden:
            said["rise"] = {"say": before.typed, "ask": _literal(before.last)}
        elif before.last not in prompts and before.last.strip() and not after.hidden:
            seen = {"seen": _literal(before.last), "say": after.typed}
            if after.typed == PAGE:
                said["pages"] = seen
            elif seen not in said.setdefault("questions", []):
                said["questions"].append(seen)
    return said


def _around(turns: Sequence[Turn], prompts: Sequence[str]) -> dict[str, Any]:
    """Return the commands at which the prompt changes, and changes back."""
    said: dict[str, Any] = {}
    for before, after in pairwise(turns):
        if before.last == prompts[0] and after.last in prompts[1:]:
            said["open"] = after.typed
        elif before.last in prompts[1:] and after.last == prompts[0] and said:
            said["hold"] = after.typed
    return said


def _prompts(turns: Sequence[Turn]) -> list[str]:
    """Return the prompts: last lines that the device repeats after an empty line (numbers may
    differ), and last lines that resemble them.
    """
    out: list[str] = []
    for before, after in pairwise(turns):
        again = _masked(before.last) == _masked(after.last)
        is_idle = not after.typed.strip() and not after.hidden and after.typed != PAGE
        if is_idle and again and after.last.strip() and not any(after.lines):
            out += [after.last] if after.last not in out else []
    names = {word for one in out for word in _WORD.findall(one) if not word.isdigit()}
    for turn in turns:
        # A prompt of another mode names the device, too.
        if turn.last and turn.last not in out and not turn.ended:
            is_named = any(word in turn.last for word in names if len(word) > 1)
            if is_named or _masked(turn.last) in map(_masked, out):
                out.append(turn.last)
    return out


def _masked(text: str) -> str:
    return re.sub(r"\d+", "0", text)


def _pattern(prompts: Iterable[str]) -> str:
    """Return a pattern for prompts that allows another device's name and other numbers."""
    return "|".join(dict.fromkeys(map(_generic, prompts)))


def _generic(prompt: str) -> str:
    words = _WORD.findall(prompt)
    longest = max(words, key=len, default="")
    out = "" if words else "^"
    at = 0
    for found in _WORD.finditer(prompt):
        word = found[0]
        out += _escaped(prompt[at : found.start()])
        at = found.end()
        if word.isdigit():
            out += r"\d+"
        elif word == longest or any(sign.isdigit() for sign in word):
            out += r"[\w.-]+"
        else:
            out += _escaped(word)
    return f"{out}{_escaped(prompt[at:])}$"


def _literal(text: str, *, at_end: bool = True) -> str:
    """Return a pattern for a text that allows other numbers."""
    pattern = re.sub(r"\d+", r"\\d+", _escaped(text.lstrip()))
    return f"{pattern}$" if at_end else pattern


def _escaped(text: str) -> str:
    # Blanks need no sign in front of them, and are read better without.
    return re.sub(r"\\([ ~\"'<>=,:%&@-])", r"\1", re.escape(text))


def _longest(turns: Sequence[Turn]) -> int:
    """Return the index of the turn with the longest answer, including its further pages; 0 if no
    answer is long.
    """
    sizes: dict[int, int] = {}
    at = 0
    for n, turn in enumerate(turns):
        if not n or turn.hidden or not turn.typed.strip():
            if turn.typed == PAGE and at:
                sizes[at] += len(turn.lines)
            continue
        at = n
        sizes[n] = len(turn.lines)
    best = max(sizes, key=lambda n: sizes[n], default=0)
    return best if best and sizes[best] >= LONG else 0


def _error_words(turns: Sequence[Turn], prompts: Sequence[str]) -> Iterator[str]:
    """Yield the first word of each answer that is a single line, with the sign after it."""
    for turn in turns[1:]:
        lines = [line for line in turn.lines if line.strip()]
        if len(lines) == 1 and turn.typed.strip() and turn.last in prompts and not turn.hidden:
            found = re.match(r"\W*\w+\W? ?", lines[0])
            if found is not None:
                yield found[0]


def _alike(prompt: str, turns: Sequence[Turn]) -> str:
    """Return a line of a long answer that matches the prompt's pattern; empty if none does."""
    every = (line for turn in turns if len(turn.lines) >= LONG for line in turn.lines)
    return next((line for line in every if re.search(prompt, line)), "")
