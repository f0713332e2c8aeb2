"""Beginnings: one fast expression for statements that begin with one of many sequences of words."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence

_END = rb'(?![\w-])"?+'  # behind a whole word


def expression(
    anchors: tuple[bytes, bytes, bytes], beginnings: Sequence[tuple[bytes, ...]]
) -> re.Pattern[bytes]:
    """Return an expression for statements that begin with one of these sequences of words, or have
    one more word in front of it.

    `anchors`: as a shape gives them. An empty word is any word. Sequences that begin with any word
    are found behind one more only.

    >>> anchors = rb"\\n *+", rb"[^ ]++", rb" ++"
    >>> found = expression(anchors, [(b"send",), (b"", b"through")])
    >>> [bool(found.search(text)) for text in (b"\\nsend x", b"\\nno send", b"\\nx through")]
    [True, True, True]
    """
    plain = [words for words in beginnings if words[0]]
    # In front of these, one word may be any other one.
    behind = [words[1:] for words in beginnings if not words[0] and len(words) > 1]
    start, word, between = anchors
    first = _branch(plain, word, between)
    more = _branch([*plain, *behind], word, between)
    front = word + between
    choices = [first, front + more] if first else [front + more]
    return re.compile(start + rb'"?+(?:' + b"|".join(choices) + rb")")


def _branch(sequences: Iterable[tuple[bytes, ...]], word: bytes, between: bytes) -> bytes:
    """Return an expression for any of these sequences."""
    ends = False
    by_first: dict[bytes, list[tuple[bytes, ...]]] = {}
    for words in sequences:
        if words:
            by_first.setdefault(words[0], []).append(words[1:])
        else:
            ends = True
    if ends or not by_first:
        return b""
    by_rest: dict[bytes, list[bytes]] = {}
    for first, rests in by_first.items():
        rest = _branch(rests, word, between)
        by_rest.setdefault(between + rb'"?+' + rest if rest else b"", []).append(first)
    choices = []
    for rest, firsts in by_rest.items():
        named = [one for one in firsts if one]
        if named:
            choices.append(_any_of(named) + _END + rest)
        if b"" in firsts:
            choices.append(word + rest)
    return rb"(?:" + b"|".join(choices) + rb")"


def _any_of(words: Iterable[bytes]) -> bytes:
    """Return an expression for any of these words, letter by letter, so that most other words are
    seen to be none of them at once.
    """
    ends = False
    by_letter: dict[bytes, list[bytes]] = {}
    for word in words:
        if word:
            by_letter.setdefault(word[:1], []).append(word[1:])
        else:
            ends = True
    choices = [re.escape(letter) + _any_of(rests) for letter, rests in sorted(by_letter.items())]
    if not choices:
        return b""
    if len(choices) == 1 and not ends:
        return choices[0]
    more = rb"(?:" + b"|".join(choices) + rb")"
    return more + rb"?+" if ends else more
