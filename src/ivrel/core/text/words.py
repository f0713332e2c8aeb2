"""Words: how a line falls into them, and how a word must stand to be read as one."""

from __future__ import annotations

import re

Words = tuple[str, ...]
Path = tuple[Words, ...]  # the headers that a statement stands below, the outermost first

_WORDS = re.compile(r'"((?:[^"\\]|\\.)*)"|(\S+)')


def split_words(line: str) -> list[str]:
    """Return the words of a line, divided by white space; double quotes hold one together."""
    if '"' not in line:
        return line.split()
    return [
        m[2] if m[2] is not None else re.sub(r"\\(.)", r"\1", m[1]) for m in _WORDS.finditer(line)
    ]


def quote(word: str) -> str:
    """Return a word as it must stand to be read as one."""
    if word and not re.search(r'[\s"]', word):
        return word
    return '"' + re.sub(r'(["\\])', r"\\\1", word) + '"'


def unquote(word: str) -> str:
    """Return a word without the pair of quotes around it, if it has one."""
    return word[1:-1] if len(word) > 1 and word[0] == word[-1] == '"' else word
