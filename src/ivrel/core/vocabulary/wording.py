"""Words for people: lists of names, hints at what was meant, text that a terminal may show."""

from __future__ import annotations

import re
from collections.abc import Iterable
from difflib import get_close_matches


def listed(names: Iterable[str]) -> str:
    """Return names as a sentence takes them: 'a, b or c'.

    >>> listed(["udp", "tcp", "tls"])
    'udp, tcp or tls'
    """
    names = list(names)
    return names[0] if len(names) == 1 else f"{', '.join(names[:-1])} or {names[-1]}"


def not_one_of(word: str, names: Iterable[str]) -> str:
    """Return '… is not known', with the name that is likely meant or else all that there are.

    >>> not_one_of("tarks", ["orrin", "tarsk"])
    "'tarks' is not known; did you mean 'tarsk'?"
    """
    names = list(names)
    meant = get_close_matches(word, names, 1)
    if meant:
        return f"'{word}' is not known; did you mean '{meant[0]}'?"
    return f"'{word}' is not known; expected {listed(names)}" if names else f"'{word}' is not known"


def counted(number: int, noun: str) -> str:
    """'1 device', '2 devices'.

    >>> counted(1, "device"), counted(2000, "device")
    ('1 device', '2,000 devices')
    """
    if number == 1:
        return f"1 {noun}"
    return f"{number:,} {noun[:-1]}ies" if noun.endswith("cy") else f"{number:,} {noun}s"


# What steers whatever it is typed to: control characters, and the line ends of Unicode.
_STEERING = re.compile("[\x00-\x1f\x7f-\x9f\u2028\u2029]")


def steers(text: str) -> bool:
    """Whether a line editor or a terminal would take a sign of a text for a command.

    >>> steers("eth0"), steers("eth0\x15reload")
    (False, True)
    """
    return _STEERING.search(text) is not None


def plain(text: str) -> str:
    r"""Return text as a terminal or a file may show it: no control character but line ends.

    >>> plain("a\x1b[2Jb")
    'a·[2Jb'
    """
    if text.isprintable():
        return text
    return "".join(c if c.isprintable() or c == "\n" else "·" for c in text)


def shorten(text: str, most: int = 60) -> str:
    r"""Return text of the user's as a message may show it: printable, on one line, not long.

    >>> shorten("a line\nand a very long one", 12)
    'a line·and …'
    """
    if not text.isprintable():
        text = "".join(c if c.isprintable() else "·" for c in text)
    return text if len(text) <= most else text[: most - 1] + "…"


_SPANS = ((86400, "d"), (3600, "h"), (60, "min"))


def span(seconds: float) -> str:
    """Return a span of time as people say it: '0.25 s', '42 s', '3 min 5 s', '2 d 4 h'.

    >>> span(0.25), span(185), span(187_200)
    ('0.25 s', '3 min 5 s', '2 d 4 h')
    """
    seconds = abs(seconds)
    if seconds < 59.5:
        return f"{seconds:.2f} s" if seconds < 9.995 else f"{seconds:.0f} s"
    left = round(seconds)
    said: list[tuple[int, str]] = []
    for length, unit in (*_SPANS, (1, "s")):
        if left >= length or said:
            said.append((left // length, unit))
            left %= length
        if len(said) == 2:
            break
    return " ".join(f"{number} {unit}" for number, unit in said if number)


def own_error(problem: Exception) -> str:
    """Return the message for an error of the program's own that must not stop others."""
    kind = type(problem).__name__
    return f"an error in Ivrel itself, {kind}; IVREL_TRACEBACK=1 shows where"
