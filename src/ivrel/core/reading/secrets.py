"""Statements as they may be shown: what follows a word for secrets is left out."""

from __future__ import annotations

import re

from ivrel.core.vocabulary.wording import shorten

LONGEST_SHOWN = 120  # signs

# Words behind which secrets stand.
_SECRETS = re.compile(
    r"secret|passw|passphrase|watchword|credential|token|community|cipher|digest|hash|private|"
    r"pre-?shared|psk|\bkeys?\b|[-_.]key\b|\bpin\b",
    re.IGNORECASE,
)
_WORD_END = re.compile(r"[\s=:.\"'(\[{<>]|$")


def masked(text: str, most: int = LONGEST_SHOWN) -> str:
    """Return a statement shortened, and without what follows a word for secrets.

    >>> masked("send 198.51.100.21"), masked("password xyzzy")
    ('send 198.51.100.21', 'password …')
    """
    found = _SECRETS.search(text)
    if found is None:
        return shorten(text, most)
    # The word for a secret may be part of a longer one; the secret begins behind all of it.
    end = _WORD_END.search(text, found.end())
    return shorten(text[: end.start() if end else found.end()], most) + " …"
