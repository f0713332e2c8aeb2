"""Words: how a line is divided into them, and how a word is written to be read as one."""

from __future__ import annotations

import re

Words = tuple[str, ...]
Path = tuple[Words, ...]  # the headers that a statement stands below, the outermost first

_WORDS = re.compile(r'"((?:[^"\\]|\\.)*)"|(\S+)')


def split_words(line: str) -> list[str]:
    """Return the words of a line, divided by white space; double quotes hold one together.

    >>> split_words('name "the north pier" 5')
    ['name', 'the north pier', '5']
    """
    if '"' not in line:
        return line.split()
    return [
        m[2] if m[2] is not None else re.sub(r"\\(.)", r"\1", m[1]) for m in _WORDS.finditer(line)
    ]


def quote(word: str) -> str:
    """Return a word as it must be written to be read as one.

    >>> print(quote("the north pier"), quote("pier"))
    "the north pier" pier
    """
    if word and not re.search(r'[\s"]', word):
        return word
    return '"' + re.sub(r'(["\\])', r"\\\1", word) + '"'


_QUOTED = re.compile(r'"((?:[^"\\]|\\.)*)"')


def unquoted(value: str) -> str:
    """Return the value of an assignment: of one in quotes, the text between them; a backslash
    precedes quotes and backslashes.

    >>> unquoted('"the north pier"')
    'the north pier'
    """
    found = _QUOTED.fullmatch(value) if value[:1] == '"' else None
    return re.sub(r'\\(["\\])', r"\1", found[1]) if found else value


def quoted(value: str, *, always: bool = False) -> str:
    """Return a value as it must be in an assignment to be read as it is; `always`: in quotes,
    whether it needs them or not.
    """
    if not always and value == value.strip() and not _QUOTED.fullmatch(value):
        return value
    return '"' + re.sub(r'(["\\])', r"\\\1", value) + '"'
