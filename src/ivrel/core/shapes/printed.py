"""The shape `printed`: a display for people, as devices print their present state.

    export to 198.51.100.21:514/udp (beacon-a): up
      sent: 1,204 messages, 3 dropped

A line that is moved in belongs to the line above it, which is a statement by itself, too. Signs
between words count as blanks, so that a pattern need not repeat them: the second line reads as
`sent 1204 messages 3 dropped`, below `export to 198.51.100.21 514 udp beacon-a up`. It is read, and
never changed.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence

from ivrel.core.shapes.indented import depth_of
from ivrel.core.shapes.shape import Found, Shape
from ivrel.core.text.text import LONGEST, Text, decode
from ivrel.core.text.words import Path, quote, split_words
from ivrel.core.vocabulary.addresses import is_address

_THOUSANDS = re.compile(r"(?<=\d),(?=\d\d\d(?!\d))")
_BETWEEN = re.compile(r"[(){}\[\]<>|,;=]+")
_ENDS = ":.!"  # of a word
# A port behind an address, a transport behind a port, a number behind its name.
_JOINTS = re.compile(r"(?<=\d)/(?=[A-Za-z])|(?<=[A-Za-z])[/:](?=\d)|(?<=\d):(?=[A-Za-z])")
_SLOT = re.compile("[\ue000-\uefff]")  # what stands for a slot while a pattern is divided
_PORT = re.compile(r"(\d+\.\d+\.\d+\.\d+):(\d+.*)")


class Printed(Shape, frozen=True):
    """The shape `printed`, which has no options."""

    def split(self, line: str) -> list[str]:
        if '"' in line:
            return split_words(line)
        plain = _BETWEEN.sub(" ", _THOUSANDS.sub("", line))
        out: list[str] = []
        for word in plain.split():
            out += _parts(word)
        return out

    def join(self, words: Sequence[str]) -> str:
        return " ".join(quote(word) for word in words)

    def everything(self, text: Text) -> Iterator[Found]:
        above: list[tuple[int, Path]] = []
        for number, raw in enumerate(text.data.split(b"\n"), 1):
            said = raw.strip()
            if not said:
                continue
            depth = depth_of(raw)
            while above and above[-1][0] >= depth:
                above.pop()
            path = above[-1][1] if above else ()
            yield path, said, number
            words = tuple(self.split(decode(said[:LONGEST])))
            above.append((depth, (*path, words)))


def _parts(word: str) -> list[str]:
    """Return the words that signs within one divide."""
    if _SLOT.search(word):
        return [part for part in re.split("[:/]", word.strip(_ENDS)) if part]
    word = word.strip(_ENDS) if not is_address(word) else word
    if not word or is_address(word):
        return [word] if word else []
    found = _PORT.fullmatch(word)
    if found:
        return [found[1], *_parts(found[2])]
    return [part for part in _JOINTS.split(word) if part]
