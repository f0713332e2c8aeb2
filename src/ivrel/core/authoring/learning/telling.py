"""What a learned dialect may show of its samples: nothing that may be a secret.

Samples are saved configurations. Of what nobody understands, only words of the trade, addresses,
small numbers and words that several statements have in the same place go into a file or on a
screen.
"""

from __future__ import annotations

import re

from ivrel.core.authoring.learning.templates import NAME, Template
from ivrel.core.reading.shown import HIDDEN
from ivrel.core.text.words import quote
from ivrel.core.vocabulary.addresses import is_address
from ivrel.core.vocabulary.trade import WORDS

NAMES_VALUE = re.compile(r"[a-z][a-z-]{0,9}")  # a word of the platform, by its looks
_SMALL = re.compile(r"[0-9]{1,5}")


def may_tell(word: str) -> bool:
    """Whether a word is surely no secret."""
    plain = word.partition("/")[0]
    return word.casefold() in WORDS or bool(_SMALL.fullmatch(word)) or is_address(plain)


def is_shared(template: Template, n: int) -> bool:
    """Whether several statements have the same word at a place among the values."""
    return len(template.said) > 1 and len(template.column(n)) == 1


def as_told(template: Template) -> str:
    """Return the first statement of a template as it may be told."""
    words: list[str] = []
    several = len({said.sample for said in template.said}) > 1
    for header in (*template.path, template.front):
        # The first word of a header or a statement is a word of the platform.
        words += header[:1]
        words += [w if several or w == NAME or may_tell(w) else HIDDEN for w in header[1:]]
    for n, word in enumerate(template.said[0].values):
        told = is_shared(template, n) or may_tell(word)
        words.append(quote(word) if told else HIDDEN)
    return " ".join(words)
