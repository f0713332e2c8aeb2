"""Takes answers of a device apart: echo, answer, prompt, and error line."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator

from msgspec import Struct

from ivrel.core.dialects.dialect import Dialect
from ivrel.core.dialects.items import Literal
from ivrel.core.dialects.session import Reply, Session
from ivrel.core.text.text import decode

# Sequences that steer a terminal (ECMA-48 section 5.4), and single signs that do.
_STEERS = re.compile(rb"\x1b\[[0-?]*[ -/]*[@-~]|\x1b[@-Z\\-_]|[\x00\x07\x0e\x0f]")
_BACK = re.compile(rb"[^\x08\n]\x08")
LONGEST_PROMPT = 256  # bytes, with what steers the terminal
SHOWN, LONG = 3, 160  # lines of an answer that are kept, and signs of each


class Exchange(Struct, frozen=True):
    """A line that was typed, and what the device answered, as far as it may be shown."""

    typed: str
    answered: tuple[str, ...] = ()


def cleaned(data: bytes) -> bytes:
    r"""Return the output of a device without terminal control sequences.

    >>> cleaned(b"\x1b[1mpier> \x1b[0m"), cleaned(b"abx\x08c")
    (b'pier> ', b'abc')
    """
    if b"\x1b" in data or b"\x00" in data or b"\x07" in data:
        data = _STEERS.sub(b"", data)
    while b"\x08" in data:
        shorter = _BACK.sub(b"", data)
        if shorter == data:
            break
        data = shorter
    return data.replace(b"\r\n", b"\n").replace(b"\r", b"")


def waits(session: Session, data: bytes) -> bool:
    """Whether a device waits for the next line: the last line is its prompt."""
    last = data[-2 * LONGEST_PROMPT :].rsplit(b"\n", 1)[-1]
    # A long line is no prompt, and patterns are slow on it.
    if not last or len(last) > LONGEST_PROMPT:
        return False
    return re.search(session.prompt, decode(cleaned(last))) is not None


def reply(session: Session, data: bytes) -> Reply | None:
    """Return the reply to the question in the device's last line; None if it is not a question."""
    last = cleaned(data[-2 * LONGEST_PROMPT :]).rsplit(b"\n", 1)[-1]
    if not last or len(last) > LONGEST_PROMPT:
        return None
    return next((one for one in _replies(session) if re.search(one.seen, decode(last))), None)


def _replies(session: Session) -> Iterator[Reply]:
    if session.pages is not None:
        yield session.pages
    yield from session.questions


# What a device wipes a question out with: blanks between returns, or steps back.
_WIPED = rb"(?:\r *\r|\x08[ \x08]*|\x1b\[[0-?]*[ -/]*[@-~])*"


def without_questions(session: Session, data: bytes) -> bytes:
    """Return the output of a device without answered questions and what erases them."""
    for one in _replies(session):
        # The end of the pattern is that of the text that was seen; here more follows.
        seen = one.seen.removesuffix("$").encode()
        # A sign that turns a page may be a blank, which some devices echo as well.
        echo = re.escape((one.say.strip() or one.say).encode())
        data = re.sub(
            rb"(?m)" + seen + rb"(?:" + echo + rb"(?=\r?\n|\r|\x08|\x1b))?" + _WIPED, b"", data
        )
    return data


def answer(session: Session, typed: str, data: bytes) -> bytes:
    """Return an answer without the echo of what was typed and without the prompt behind it."""
    text = cleaned(data)
    first, end, rest = text.partition(b"\n")
    if end and decode(first).strip() == typed.strip():
        text = rest
    head, end, last = text.rpartition(b"\n")
    if re.search(session.prompt, decode(last)):
        return head + end
    return text


def error_in(session: Session, said: bytes) -> str:
    """Return the line of an answer that reports an error; empty if there is none."""
    for line in decode(said).splitlines():
        if any(re.search(pattern, line) for pattern in session.errors):
            return line.strip()
    return ""


def configuration(session: Session, said: bytes) -> bytes:
    """Return a printed configuration without the lines that are none, as UTF-8.

    UnicodeDecodeError if it is not written in the encoding of the session.
    """
    text = said.decode(session.encoding)
    lines = text.split("\n")
    if session.aside:
        lines = [one for one in lines if not any(re.search(p, one) for p in session.aside)]
    return "\n".join(lines).encode()


class Hider:
    """Masks words in answers that are part of the configuration beyond export, since they may be
    secrets.

    A word is masked if the configuration contains it and neither the typed text nor the dialect
    does. `secrets`: texts that are always masked.
    """

    def __init__(self, dialect: Dialect, typed: str, secrets: Iterable[str] = ()) -> None:
        self._known = {word for text in (typed, *_platform(dialect)) for word in _words(text)}
        self._held: set[str] = set()
        self._secrets = secrets

    def know(self, configuration: bytes) -> None:
        """Take note of a configuration."""
        self._held |= set(_words(decode(configuration))) - self._known

    def hidden(self, text: str) -> str:
        """Return a text with these words masked."""
        for secret in filter(None, self._secrets):
            text = text.replace(secret, "…")
        return _WORD.sub(lambda m: "…" if m[0] in self._held else m[0], text)

    def shown(self, said: bytes) -> tuple[str, ...]:
        """Return the first lines of an answer, hidden and shortened."""
        lines = [one.strip() for one in decode(said).splitlines() if one.strip()]
        out = [self.hidden(one)[:LONG] for one in lines[:SHOWN]]
        return (*out, f"… {len(lines) - SHOWN} more") if len(lines) > SHOWN else tuple(out)


_WORD = re.compile(r"[^\s\"'=;{}<>,()\[\]]{4,}")


def _words(text: str) -> list[str]:
    return _WORD.findall(text)


def _platform(dialect: Dialect) -> list[str]:
    """Return the words that every device of a platform has."""
    literals = [
        item.word
        for pattern in dialect.patterns
        for item in pattern.every_item()
        if isinstance(item, Literal)
    ]
    said = dialect.session
    talk = () if said is None else (said.show, *said.open, *said.hold, *said.keep, *said.save)
    return [*literals, *talk]
