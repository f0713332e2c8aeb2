"""Secrets in a correction: values that it carries along and has nothing to do with.

A statement that is replaced, or a row that goes and comes back, may hold a password or a key. The
texts that are sent keep it; everything that is shown hides it.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence

from ivrel.core.dialects.dialect import Dialect
from ivrel.core.reading.shown import HIDDEN, shown
from ivrel.core.text.text import Text, decode
from ivrel.core.text.words import Path, Words

SHORTEST = 5  # signs of a value that is hidden: shorter ones stand everywhere

# Parameters of rules whose values are secrets.
_PARAMETER = re.compile(
    rb"[\w.\-]*(?:passw|passphrase|secret|token|credential|authkey|apikey|\bpwd|\bkey\b|psk|"
    rb"community)[\w.\-]*\s*=\s*(\"(?:[^\"\\]|\\.)*\"|[^\s\")]+)",
    re.IGNORECASE,
)
_LOGIN = re.compile(rb"://[^\s/@\"]*:([^\s/@\"]+)@")


def secrets_of(
    dialect: Dialect, text: Text, carried: Iterable[tuple[Path, Words]]
) -> tuple[str, ...]:
    """Return the values of a configuration that nothing may show.

    `carried`: statements beyond export settings that the correction takes away and brings back.
    """
    found = set()
    if dialect.shape.DERIVED:
        for expression in (_PARAMETER, _LOGIN):
            found |= {decode(m[1]).strip('"') for m in expression.finditer(text.data)}
    for path, words in carried:
        for word in (*(w for header in path for w in header[1:]), *words[1:]):
            if HIDDEN in shown(dialect, word) and word not in ("true", "false"):
                found.add(word)
    return tuple(sorted((one for one in found if len(one) >= SHORTEST), key=len, reverse=True))


def hidden(text: str, secrets: Sequence[str]) -> str:
    """Return a text with an ellipsis for each of some values.

    >>> hidden("target a, passwd hunter22", ["hunter22"])
    'target a, passwd …'
    """
    for secret in secrets:
        if secret in text:
            text = text.replace(secret, HIDDEN)
    return text
