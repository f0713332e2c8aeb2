"""What may be shown of a statement that no pattern understands.

A configuration holds secrets, and nobody knows which words of such a statement are one. So only
what is known is shown: words of the dialect and of the trade, addresses, small numbers. Everything
else is an ellipsis.
"""

from __future__ import annotations

import re
from collections.abc import Container

from ivrel.core.dialects.dialect import Dialect
from ivrel.core.dialects.items import Flag, Literal, Variable
from ivrel.core.vocabulary.addresses import is_address
from ivrel.core.vocabulary.trade import WORDS
from ivrel.core.vocabulary.wording import shorten

LONGEST_SHOWN = 120  # signs
HIDDEN = "…"

_PIECES = re.compile(r"""([^\s=;,"'(){}<>]+)""")
_PARTS = re.compile(r"[.:/@_\[\]-]+")
_SMALL = re.compile(r"[0-9]{1,5}")
_HIDDEN_RUN = re.compile(rf"{HIDDEN}(?:[\s,]*{HIDDEN})+")


def known_words(dialect: Dialect) -> frozenset[str]:
    """Return the words of the trade and those of a dialect, in small letters."""

    def find() -> frozenset[str]:
        words = {dialect.shape.remove, dialect.shape.negation, *WORDS}
        for pattern in (*dialect.patterns, *dialect.aside):
            for item in pattern.every_item():
                if isinstance(item, Literal | Flag):
                    words.add(item.word)
                elif isinstance(item, Variable):
                    words.update(item.values or ())
        return frozenset(word.casefold() for word in words)

    return dialect.once("known words", find)


def shown(dialect: Dialect, statement: str, most: int = LONGEST_SHOWN) -> str:
    """Return a statement with an ellipsis for everything that may be a secret.

    With a dialect that knows `send`: `send 198.51.100.21 hunter2` → `send 198.51.100.21 …`.
    """
    known = known_words(dialect)
    text = _PIECES.sub(lambda piece: _shown_word(piece[1], known), statement)
    return shorten(_HIDDEN_RUN.sub(HIDDEN, text), most)


def _shown_word(word: str, known: Container[str]) -> str:
    if word.casefold() in known or _SMALL.fullmatch(word) or is_address(word.partition("/")[0]):
        return word
    parts = [part for part in _PARTS.split(word) if part]
    if parts and all(part.casefold() in known or _SMALL.fullmatch(part) for part in parts):
        return word
    # An address with a port, say, in brackets or not.
    host, colon, rest = word.rpartition(":")
    if colon and is_address(host.strip("[]")) and _shown_word(rest, known) == rest:
        return word
    return HIDDEN
