"""Nodes: the statements and blocks of a text in braces, found and parsed."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence

from msgspec import Struct

from ivrel.core.text.text import LONGEST, decode
from ivrel.core.text.words import Words, quote
from ivrel.core.vocabulary.errors import Unreadable

DEEPEST = 200


class Signs(Struct, frozen=True):
    """What a dialect says about its braces.

    `comment`: what a comment begins with; `wrapper`: the block that everything is in, '' if there
    is none; `blocks`: the words that alone are headers of blocks.
    """

    comment: str
    wrapper: str
    blocks: tuple[str, ...]


class TextNode(Struct, frozen=True):
    """A statement or a block, and where it is: from its first byte to behind its last."""

    words: Words
    start: int
    stop: int
    inner: int  # where the block's inside begins; -1 for a statement
    children: tuple[TextNode, ...] = ()


_SAFE = re.compile(r"[\w./:-]+")
_SAFE_LINE = re.compile(r"[\w./: -]+")


def join(words: Sequence[str]) -> str:
    """Return a statement of these words, quoted where they must be."""
    said = " ".join(words)
    # Most statements hold no word that needs quotes, and one look at the whole tells it. A word
    # that holds a blank, or is empty, shows in the count.
    if _SAFE_LINE.fullmatch(said) and said.count(" ") == len(words) - 1 and "" not in words:
        return said
    return " ".join(_quoted(w) for w in words)


def _quoted(word: str) -> str:
    """Return a word as it must be written: in quotes if it holds what ends statements or needs
    them.
    """
    if _SAFE.fullmatch(word):
        return word
    plain = word and not re.search(r"[{};#\\]", word)
    return quote(word) if plain else '"' + re.sub(r'(["\\])', r"\\\1", word) + '"'


def _tokens(signs: Signs) -> re.Pattern[bytes]:
    comment = re.escape(signs.comment.encode())
    return re.compile(rb'%s[^\n]*|"(?:[^"\\\n]|\\.)*"|[{};]|[^\s{};"]+|"' % comment)


# A statement or a header without quotes, up to the sign that ends it: where its first word begins,
# what it says, the sign.
_UNQUOTED = re.compile(rb'\s*([^{};"]*)([{};])')


def parse(
    data: bytes, signs: Signs, start: int = 0, stop: int | None = None
) -> tuple[TextNode, ...]:
    """Return the members between two places; braces that do not pair end what they can."""
    end = len(data) if stop is None else stop
    comment = signs.comment.encode()
    tokens = _tokens(signs)
    parser = _Parser(data)
    at = start
    while at < end:
        found = _UNQUOTED.match(data, at, end)
        # Nearly all statements hold neither quotes nor comments, and are divided at their blanks.
        if found and comment not in found[1] and len(found[1]) <= LONGEST:
            if found[1]:
                parser.say(decode(b" ".join(found[1].split())).split(" "), found.start(1))
            parser.sign(found[2], found.start(2))
            at = found.end()
        else:
            at = parser.token_by_token(tokens.finditer(data, at, end), comment, end)
    return parser.ended(end)


def tops(data: bytes, signs: Signs) -> tuple[TextNode, ...] | None:
    """Return the members at the top, without their contents.

    None if the signs alone do not tell: some are in quotes or in comments, or do not pair.
    """
    if not _signs_are_plain(data, signs.comment.encode()):
        return None
    wrapper = (signs.wrapper,) if signs.wrapper else None
    out: list[TextNode] = []
    head = TextNode((), 0, 0, -1)  # of the block that is open at the top
    depth = 0
    level = 0
    inner = 0
    begin = 0

    def take(stop: int) -> tuple[TextNode, ...]:
        """Take the statements from `begin` to some place; a wrapper that is none says nothing."""
        said = parse(data, signs, begin, stop)
        return said if level else tuple(n for n in said if n.words[:1] != wrapper)

    for found in re.finditer(rb"[{};]", data):
        sign = found[0]
        at = found.start()
        if sign == b";":
            if depth == level:
                out += take(at + 1)
                begin = at + 1
        elif sign == b"{":
            if depth == level:
                said = parse(data, signs, begin, at)
                head = said[0] if said else TextNode((), at, at, -1)
                inner = begin = at + 1
                level += head.words[:1] == wrapper and not level  # its inside is at the top, too
            depth += 1
        else:
            depth -= 1
            if depth < level:
                out += take(at)
                level = 0
                begin = at + 1
            elif depth == level:
                out.append(TextNode(head.words, head.start, at + 1, inner))
                begin = at + 1
        if not 0 <= depth <= DEEPEST:
            return None
    return None if depth else (*out, *take(len(data)))


def _signs_are_plain(data: bytes, comment: bytes) -> bool:
    """Whether no brace and no end sign is in quotes or in a comment, and no quote in one."""
    if b"\\" in data:
        return False  # a quote may be none
    at = data.find(comment)
    while at >= 0:
        end = data.find(b"\n", at)
        end = len(data) if end < 0 else end
        if any(sign in b'{};"' for sign in data[at:end]):
            return False
        at = data.find(comment, end)
    return not any(
        sign in piece for piece in data.split(b'"')[1::2] for sign in (b"{", b"}", b";", b"\n")
    )


class _Parser:
    """Parses one piece of a text, statement by statement."""

    def __init__(self, data: bytes) -> None:
        self._data = data
        # What is open: header, where it begins, where its inside does, the members beside it.
        self._stack: list[tuple[Words, int, int, list[TextNode]]] = []
        self._members: list[TextNode] = []
        self._words: list[str] = []
        self._first = -1  # where the statement begins that is on its way

    def say(self, words: list[str], first: int) -> None:
        """Take the words of a statement, which begins at a place."""
        self._words = words
        self._first = first

    def sign(self, sign: bytes, start: int) -> None:
        """Take the sign that ends a statement, a header or a block."""
        if sign == b";":
            self._statement(start + 1)
        elif sign == b"{":
            self._open(start, start + 1)
        else:
            self._statement(start)
            if self._stack:
                self._close(start + 1)

    def token_by_token(self, tokens: Iterator[re.Match[bytes]], comment: bytes, end: int) -> int:
        """Take the tokens of a statement up to its sign, and return where that ends; `end` if none
        is left.
        """
        for found in tokens:
            token = found[0]
            if token in (b";", b"{", b"}"):
                self.sign(token, found.start())
                return found.end()
            if token.startswith(comment):
                continue
            if self._first < 0:
                self._first = found.start()
            text = decode(token[:LONGEST])
            quoted = len(text) > 1 and text[0] == text[-1] == '"'
            self._words.append(re.sub(r"\\(.)", r"\1", text[1:-1]) if quoted else text)
        return end

    def ended(self, end: int) -> tuple[TextNode, ...]:
        """Return the members, now that the piece ends."""
        self._statement(end)
        while self._stack:
            self._close(end)
        return tuple(self._members)

    def _statement(self, stop: int) -> None:
        if self._words:
            self._members.append(TextNode(tuple(self._words), self._first, stop, -1))
        self._words = []
        self._first = -1

    def _open(self, start: int, stop: int) -> None:
        if len(self._stack) >= DEEPEST:
            line = self._data.count(b"\n", 0, start) + 1
            raise Unreadable(f"line {line}: nested deeper than {DEEPEST} levels")
        begin = self._first if self._first >= 0 else start
        self._stack.append((tuple(self._words), begin, stop, self._members))
        self._members = []
        self._words = []
        self._first = -1

    def _close(self, stop: int) -> None:
        header, begin, inner, outer = self._stack.pop()
        outer.append(TextNode(header, begin, stop, inner, tuple(self._members)))
        self._members = outer


def balanced(data: bytes, signs: Signs) -> bool:
    """Whether every brace has its partner; those in quotes and comments are none."""
    depth = 0
    for match in _tokens(signs).finditer(data):
        depth += (match[0] == b"{") - (match[0] == b"}")
        if depth < 0:
            return False
    return depth == 0
