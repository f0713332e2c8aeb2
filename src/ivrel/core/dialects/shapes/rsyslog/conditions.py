"""Conditions: for which facilities and severities an `if` or a property filter holds, surely or perhaps.

A condition is worked out for every facility and severity. `and` and `or` bind alike, from left to right, and
`not` binds closest, as in rsyslog's grammar; what depends on anything else than PRI is not known.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from functools import lru_cache
from typing import Any

from msgspec import Struct

from ivrel.core.dialects.shapes.rsyslog.selectors import (
    SEVERITY_WORDS,
    facility_code,
    read_selector,
    severity_code,
)
from ivrel.core.severity import EVERYTHING, FACILITIES, NOTHING, SEVERITIES, Selection


class Bounds(Struct, frozen=True):
    """What surely, and what at most, is taken."""

    sure: Selection
    most: Selection

    def __and__(self, other: Bounds) -> Bounds:
        return Bounds(self.sure & other.sure, self.most & other.most)

    def without(self, other: Bounds) -> Bounds:
        """What is left when the other is taken away."""
        return Bounds(self.sure - other.most, self.most - other.sure)

    @property
    def known(self) -> bool:
        """Whether there is no doubt."""
        return self.sure == self.most


ALL = Bounds(EVERYTHING, EVERYTHING)
UNKNOWN = Bounds(NOTHING, EVERYTHING)

# RFC 5424 has no names for the codes 12 to 15; these are rsyslog's.
_TEXTS = (*FACILITIES[:13], "audit", "alert", "clock", *FACILITIES[16:])

_TOKEN = re.compile(
    r"""\s*(?:(?P<string>"(?:[^"\\]|\\.)*"|'(?:[^'\\]|\\.)*')|(?P<number>[0-9]+)
    |(?P<variable>\$[A-Za-z!./][A-Za-z0-9_!.-]*)|(?P<word>[A-Za-z_][A-Za-z_0-9]*)
    |(?P<mark><=|>=|<>|!=|==|[<>()\[\],+\-*/%&]))""",
    re.X,
)
_COMPARE = ("==", "!=", "<>", "<", ">", "<=", ">=", "contains", "contains_i", "startswith", "startswith_i")
_DEEPEST = 60

Value = Any  # int, str, a list of them, or None for what is not known
Code = Callable[[int, int], Value]  # of facility and severity


@lru_cache(maxsize=4096)
def read_condition(text: str) -> Bounds:
    """When an `if` holds."""
    try:
        code = _Parser(_tokens(text)).whole()
    except (ValueError, RecursionError):
        return UNKNOWN
    return _bounds(code)


@lru_cache(maxsize=4096)
def read_property(name: str, compare: str, value: str) -> Bounds:
    """When a property filter `:name, compare, "value"` holds."""
    texts = {"syslogseverity-text": _severity_text, "syslogfacility-text": _facility_text}
    text = texts.get(name.lower())
    how = _COMPARISONS.get({"isequal": "same"}.get(compare.lstrip("!"), compare.lstrip("!")))
    if text is None or how is None:
        return UNKNOWN
    wanted = not compare.startswith("!")
    return _bounds(lambda f, s: how(text(f, s), value) == wanted)


def _bounds(code: Code) -> Bounds:
    sure = most = 0
    for f in range(len(FACILITIES)):
        for s in range(len(SEVERITIES)):
            holds = _truth(code(f, s))
            bit = 1 << f * 8 + s
            sure |= bit if holds else 0
            most |= bit if holds is not False else 0
    return Bounds(Selection(sure), Selection(most))


def _severity_text(f: int, s: int) -> str:
    return SEVERITY_WORDS[s]


def _facility_text(f: int, s: int) -> str:
    return _TEXTS[f]


_COMPARISONS: dict[str, Callable[[str, str], bool]] = {
    "same": lambda a, b: a == b,
    "contains": lambda a, b: b in a,
    "contains_i": lambda a, b: b.lower() in a,
    "startswith": lambda a, b: a.startswith(b),
    "startswith_i": lambda a, b: a.startswith(b.lower()),
}


def _truth(value: Value) -> bool | None:
    return bool(value) if isinstance(value, int) else None


def _tokens(text: str) -> list[tuple[str, str]]:
    out: list[tuple[str, str]] = []
    at, text = 0, text.rstrip()
    while at < len(text):
        match = _TOKEN.match(text, at)
        if not match or len(out) > 2000:
            raise ValueError(text[at : at + 20])
        out.append((str(match.lastgroup), match[str(match.lastgroup)]))
        at = match.end()
    return out


class _Parser:
    """Turns the words of a condition into a function of facility and severity."""

    def __init__(self, tokens: list[tuple[str, str]]) -> None:
        self.tokens, self.at, self.depth = tokens, 0, 0

    def next(self) -> tuple[str, str]:
        return self.tokens[self.at] if self.at < len(self.tokens) else ("", "")

    def take(self, *wanted: str) -> str:
        kind, word = self.next()
        if kind in ("word", "mark") and word.lower() in wanted:
            self.at += 1
            return word.lower()
        return ""

    def must(self, wanted: str) -> None:
        if not self.take(wanted):
            raise ValueError(wanted)

    def whole(self) -> Code:
        code = self.either()
        if self.at < len(self.tokens):
            raise ValueError(self.next()[1])
        return code

    def either(self) -> Code:
        self.depth += 1
        if self.depth > _DEEPEST:
            raise ValueError("too deep")
        left = self.compared()
        while word := self.take("and", "or"):
            left = _joined(word, left, self.compared())
        self.depth -= 1
        return left

    def compared(self) -> Code:
        left = self.summed()
        while word := self.take(*_COMPARE):
            left = _compared(word, left, self.summed())
        return left

    def summed(self) -> Code:
        left = self.close()
        while word := self.take("+", "-", "*", "/", "%", "&"):
            # All others than plus and minus are more than a filter of this kind needs.
            left = _summed(word, left, self.close()) if word in "+-" else _unknown(self.close())
        return left

    def close(self) -> Code:
        if self.take("not"):
            self.depth += 1
            if self.depth > _DEEPEST:
                raise ValueError("too deep")
            inner = self.close()
            return lambda f, s: None if (v := _truth(inner(f, s))) is None else int(not v)
        if self.take("-"):
            code = self.close()
            return lambda f, s: -v if isinstance(v := code(f, s), int) else None
        if self.take("("):
            code = self.either()
            self.must(")")
            return code
        if self.take("["):
            return self.array()
        kind, word = self.next()
        self.at += 1
        if kind == "number":
            number = int(word[:9])
            return lambda f, s: number
        if kind == "string":
            said = re.sub(r"\\(.)", r"\1", word[1:-1])
            return lambda f, s: said
        if kind == "variable":
            return _VARIABLES.get(word.lower(), lambda f, s: None)
        if kind == "word" and self.take("("):
            return self.called(word.lower())
        raise ValueError(word)

    def array(self) -> Code:
        members: list[str] = []
        while not self.take("]"):
            kind, word = self.next()
            if kind != "string":
                raise ValueError(word)
            members.append(word[1:-1])
            self.at += 1
            self.take(",")
        return lambda f, s: members

    def called(self, name: str) -> Code:
        kind, word = self.next()
        if name == "prifilt" and kind == "string":
            self.at += 1
            self.must(")")
            taken = read_selector(word[1:-1])
            return lambda f, s: taken.bits >> f * 8 + s & 1
        deep = 1
        while deep:
            if not self.next()[0]:
                raise ValueError(name)
            deep += (self.next()[1] == "(") - (self.next()[1] == ")")
            self.at += 1
        return lambda f, s: None


def _unknown(code: Code) -> Code:
    return lambda f, s: None


_VARIABLES: dict[str, Code] = {
    "$syslogseverity": lambda f, s: s,
    "$syslogpriority": lambda f, s: s,
    "$syslogfacility": lambda f, s: f,
    "$pri": lambda f, s: f * 8 + s,
    "$syslogseverity-text": _severity_text,
    "$syslogpriority-text": _severity_text,
    "$syslogfacility-text": _facility_text,
    "$pri-text": lambda f, s: f"{_TEXTS[f]}.{SEVERITY_WORDS[s]}",
}


def _joined(word: str, left: Code, right: Code) -> Code:
    decides = word == "or"  # the value of either side that decides alone

    def code(f: int, s: int) -> Value:
        sides = (_truth(left(f, s)), _truth(right(f, s)))
        if decides in sides:
            return int(decides)
        return None if None in sides else int(not decides)

    return code


def _summed(word: str, left: Code, right: Code) -> Code:
    def code(f: int, s: int) -> Value:
        a, b = _number(left(f, s)), _number(right(f, s))
        return None if a is None or b is None else a + b if word == "+" else a - b

    return code


def _number(value: Value) -> int | None:
    if isinstance(value, int):
        return value
    return int(value) if isinstance(value, str) and re.fullmatch("[0-9]{1,9}", value) else None


def _compared(word: str, left: Code, right: Code) -> Code:
    return lambda f, s: _holds(word, left(f, s), right(f, s))


def _holds(word: str, a: Value, b: Value) -> int | None:
    if a is None or b is None:
        return None
    if isinstance(b, list):
        if word not in ("==", "!=", "<>"):
            return None
        some = any(_holds("==", a, member) for member in b)
        return int(some == (word == "=="))
    if isinstance(a, list):
        return None
    one, other = _number(a), _number(b)
    if one is not None and other is not None:
        return int(_order(word, one - other)) if word in _COMPARE[:7] else None
    if not isinstance(a, str) or not isinstance(b, str):
        return None
    if word in ("==", "!=", "<>"):
        return int(_same(a, b) == (word == "=="))
    how = _COMPARISONS.get(word)
    return None if how is None else int(how(a, b))


def _order(word: str, gap: int) -> bool:
    return {
        "==": gap == 0,
        "!=": gap != 0,
        "<>": gap != 0,
        "<": gap < 0,
        ">": gap > 0,
        "<=": gap <= 0,
        ">=": gap >= 0,
    }[word]


def _same(a: str, b: str) -> bool:
    """Equality; rsyslog takes the other names of a severity or facility for the same."""
    for code in (severity_code, facility_code):
        if code(a) is not None and code(b) is not None:
            return code(a) == code(b)
    return a == b
