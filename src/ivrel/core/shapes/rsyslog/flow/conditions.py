"""Conditions: for which facilities and severities an `if` or a property filter holds, surely or
perhaps.

A condition is worked out for each of the 192 PRI values; what hangs on anything else is not known.
Properties are texts, also where they look like numbers: `$syslogfacility <= "9"` compares texts.
Documentation: "Expressions" and "Functions" (rainerscript/expressions,
rainerscript/functions/index), "Filter Conditions" (configuration/filters).
"""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from functools import lru_cache

from ivrel.core.shapes.rsyslog.flow.bounds import UNKNOWN, Bounds
from ivrel.core.shapes.rsyslog.flow.selectors import (
    SEVERITY_WORDS,
    facility_code,
    read_selector,
    severity_code,
)
from ivrel.core.shapes.rsyslog.syntax.expressions import Node
from ivrel.core.vocabulary.severity import FACILITIES, SEVERITIES, Selection

PRIS = len(FACILITIES) * len(SEVERITIES)

# RFC 5424 has no names for the codes 12 to 15; these are rsyslog's.
_TEXTS = (*FACILITIES[:13], "audit", "alert", "clock", *FACILITIES[16:])

Value = int | str | None  # None is what hangs on more than PRI
Code = Callable[[int], Value]  # of a PRI
# What variables hold, for each PRI; of one that is not here, the value is the text ''.
Variables = Mapping[str, tuple[Value, ...]]


def _property(f: Callable[[int, int], str]) -> Code:
    return lambda pri: f(pri >> 3, pri & 7)


PROPERTIES: Mapping[str, Code] = {
    "syslogseverity": _property(lambda f, s: str(s)),
    "syslogpriority": _property(lambda f, s: str(s)),
    "syslogfacility": _property(lambda f, s: str(f)),
    "pri": lambda pri: str(pri),
    "syslogseverity-text": _property(lambda f, s: SEVERITY_WORDS[s]),
    "syslogpriority-text": _property(lambda f, s: SEVERITY_WORDS[s]),
    "syslogfacility-text": _property(lambda f, s: _TEXTS[f]),
    "pri-text": _property(lambda f, s: f"{_TEXTS[f]}.{SEVERITY_WORDS[s]}"),
    # What a host says itself comes from this address, whichever input takes it in.
    "fromhost-ip": lambda pri: "127.0.0.1",
}


def holds(test: Node, variables: Variables) -> Bounds:
    """When a condition holds."""
    if not variables:
        return _constant(test)
    return _bounds(lambda pri: _truth(_Run(variables).value(test, pri)))


@lru_cache(maxsize=4096)
def _constant(test: Node) -> Bounds:
    return _bounds(lambda pri: _truth(_Run({}).value(test, pri)))


def ends_daemon(test: Node) -> bool:
    """Whether a test holds what the daemon does not survive: a facility's number beyond all
    facilities.
    """
    left, right = test.parts if len(test.parts) == 2 else (test, test)
    if (
        left.value == "$syslogfacility-text"
        and right.op == "text"
        and test.op in ("==", "!=", "<>")
    ):
        word = str(right.value)
        return word.isascii() and word.isdigit() and int(word[:9]) >= PRIS
    return any(ends_daemon(part) for part in test.parts)


def values(test: Node, variables: Variables) -> tuple[Value, ...]:
    """Return what an expression gives, for each PRI."""
    return tuple(_Run(variables).value(test, pri) for pri in range(PRIS))


_PROPERTY = re.compile(r':(\$?[A-Za-z-]+) *, *(!?)([A-Za-z]+) *, *"((?:\\"|[^"])*)"', re.S)


@lru_cache(maxsize=4096)
def read_property(text: str) -> Bounds:
    """When a property filter `:name, compare, "value"` holds."""
    found = _PROPERTY.match(text)
    if not found:
        return UNKNOWN
    name, negated, compare, wanted = found[1].lower(), found[2], found[3].lower(), found[4]
    said, how = PROPERTIES.get(name), _FILTERS.get(compare)
    if said is None or how is None or "\\" in wanted:
        return UNKNOWN

    def holds(pri: int) -> bool | None:
        fits = how(str(said(pri)), wanted)
        return None if fits is None else fits != bool(negated)

    return _bounds(holds)


def _bounds(truth: Callable[[int], bool | None]) -> Bounds:
    sure = most = 0
    for pri in range(PRIS):
        it = truth(pri)
        sure |= (it is True) << pri
        most |= (it is not False) << pri
    return Bounds(Selection(sure), Selection(most))


def _truth(value: Value) -> bool | None:
    if isinstance(value, str):
        value = _number(value)[0]
    return None if value is None else value != 0


def _number(value: str) -> tuple[int, bool]:
    """Return the number that a text begins with, and whether it is all of the text."""
    found = re.match(r"-?[0-9]{1,18}", value)
    return (int(found[0]), found[0] == value) if found else (0, not value)


class _Run:
    """Works out trees for one PRI at a time."""

    def __init__(self, variables: Variables) -> None:
        self.variables = variables

    def value(self, node: Node, pri: int) -> Value:
        op, parts = node.op, node.parts
        match op:
            case "number" | "text":
                return node.value
            case "variable":
                return self.variable(str(node.value), pri)
            case "not":
                it = _truth(self.value(parts[0], pri))
                return None if it is None else int(not it)
            case "minus":
                count = self.count(parts[0], pri)
                return None if count is None else -count
            case "and" | "or":
                sides = [_truth(self.value(part, pri)) for part in parts]
                decides = op == "or"
                return (
                    int(decides)
                    if decides in sides
                    else None
                    if None in sides
                    else int(not decides)
                )
            case "+" | "-" | "*" | "/" | "%":
                a, b = self.count(parts[0], pri), self.count(parts[1], pri)
                return None if a is None or b is None else _reckon(op, a, b)
            case "&":
                texts = [self.value(part, pri) for part in parts]
                return None if None in texts else "".join(str(text) for text in texts)
            case "call":
                return self.called(str(node.value), parts, pri)
            case "array" | "unknown":
                return None
        return self.compared(op, parts, pri)

    def count(self, node: Node, pri: int) -> int | None:
        value = self.value(node, pri)
        return _number(value)[0] if isinstance(value, str) else value

    def variable(self, name: str, pri: int) -> Value:
        name = name.lower()
        if name[1:2] in "!./":
            found = self.variables.get(name)
            if found is not None:
                return found[pri]
            return None if name[1:2] in "!/" or "[" in name or "!" in name[1:] else ""
        said = PROPERTIES.get(name[1:])
        return None if said is None else said(pri)

    def compared(self, op: str, parts: tuple[Node, ...], pri: int) -> Value:
        left, right = parts
        code = _CODES.get(str(left.value)) if left.op == "variable" else None
        if code is not None and op in ("==", "!=", "<>") and right.op == "text":
            # The daemon takes the name, or the number, of a facility or severity for what it means.
            wanted = code(str(right.value))
            here = pri >> 3 if left.value == "$syslogfacility-text" else pri & 7
            if wanted is not None:
                return int((here == wanted) == (op == "=="))
        a = self.value(left.parts[0] if left.op == "array" and len(left.parts) == 1 else left, pri)
        if a is None:
            return None
        if right.op == "array":
            if op in ("==", "!=", "<>"):
                some = any(str(a) == part.value for part in right.parts)
                return int(some == (op == "=="))
            how = _FILTERS.get(op)
            fits = [how(str(a), str(part.value)) for part in right.parts] if how else [None]
            return None if None in fits else int(any(fits))
        b = self.value(right, pri)
        if b is None:
            return None
        if op in ("==", "!=", "<>") and isinstance(a, str) and isinstance(b, str):
            return int((a == b) == (op == "=="))
        if op in _ORDERS:
            return int(_ORDERS[op](_gap(a, b)))
        how = _FILTERS.get(op)
        fit = how(str(a), str(b)) if how else None
        return None if fit is None else int(fit)

    def called(self, name: str, parts: tuple[Node, ...], pri: int) -> Value:
        how = _FUNCTIONS.get((name, len(parts)))
        if how is None:
            return None
        given = [self.value(part, pri) for part in parts]
        return None if None in given else how(pri, *given)


def _severity_code(word: str) -> int | None:
    code = int(word) if word.isascii() and word.isdigit() else severity_code(word)
    return code if code is not None and code < len(SEVERITIES) else None


def _facility_code(word: str) -> int | None:
    if word.isascii() and word.isdigit():
        return int(word[:9]) >> 3
    return facility_code(word)


_CODES: Mapping[str, Callable[[str], int | None]] = {
    "$syslogseverity-text": _severity_code,
    "$syslogfacility-text": _facility_code,
}


def _gap(a: int | str, b: int | str) -> int:
    """Return which of two values is greater: as numbers if both can be, else as texts."""
    numbers = [(value, True) if isinstance(value, int) else _number(value) for value in (a, b)]
    if all(it_is for _, it_is in numbers):
        return numbers[0][0] - numbers[1][0]
    return (str(a) > str(b)) - (str(a) < str(b))


_ORDERS: Mapping[str, Callable[[int], bool]] = {
    "==": lambda gap: gap == 0,
    "!=": lambda gap: gap != 0,
    "<>": lambda gap: gap != 0,
    "<": lambda gap: gap < 0,
    ">": lambda gap: gap > 0,
    "<=": lambda gap: gap <= 0,
    ">=": lambda gap: gap >= 0,
}


def _reckon(op: str, a: int, b: int) -> int | None:
    if op in "/%" and b == 0:
        return None
    if op in "/%":
        whole = abs(a) // abs(b) * (1 if (a < 0) == (b < 0) else -1)  # as in C, towards zero
        return whole if op == "/" else a - b * whole
    return {"+": a + b, "-": a - b, "*": a * b}[op]


# What a pattern may hold that means the same here as in a POSIX regular expression, and takes no
# long time.
_PLAIN = re.compile(
    r"(?:[\w ,;:@#%&=<>!~/-]|\\[.$^*+?()\[\]|]|[.^$|()?]|\[\^?[\w -]+\]|[*+](?!\)?[*+{])|\{\d+\})*"
)


@lru_cache(maxsize=512)
def _pattern(text: str, ignore_case: bool, basic: bool) -> re.Pattern[str] | None:
    if len(text) > 100 or not _PLAIN.fullmatch(text) or re.search(r"\)[*+{]", text):
        return None
    if basic and re.search(r"[+?|(){}]", text):
        return None
    try:
        return re.compile(text, re.I if ignore_case else 0)
    except re.error:
        return None


def _matches(
    text: str, pattern: str, *, ignore_case: bool = False, basic: bool = False
) -> bool | None:
    compiled = _pattern(pattern, ignore_case, basic)
    return None if compiled is None else compiled.search(text) is not None


_FILTERS: Mapping[str, Callable[[str, str], bool | None]] = {
    "isequal": lambda a, b: a == b,
    "contains": lambda a, b: b in a,
    "contains_i": lambda a, b: b.lower() in a.lower(),
    "startswith": lambda a, b: a.startswith(b),
    "startswith_i": lambda a, b: a.lower().startswith(b.lower()),
    "isempty": lambda a, b: not a,
    "regex": lambda a, b: _matches(a, b, basic=True),
    "ereregex": lambda a, b: _matches(a, b),
}


def _field(pri: int, text: Value, by: Value, number: Value) -> Value:
    mark = chr(by) if isinstance(by, int) and 0 < by < 128 else by
    if not isinstance(mark, str) or not mark or not isinstance(number, int) or number < 1:
        return None
    fields = str(text).split(mark)
    return fields[number - 1] if number <= len(fields) else "***FIELD NOT FOUND***"


def _substring(pri: int, text: Value, begin: Value, length: Value) -> Value:
    if not isinstance(begin, int) or not isinstance(length, int) or begin < 0 or length < 0:
        return None
    return str(text)[begin : begin + length]


def _selected(pri: int, selector: Value) -> Value:
    try:
        return read_selector(str(selector)).bits >> pri & 1
    except ValueError:
        return None


def _matched(ignore_case: bool) -> Callable[..., Value]:
    def how(pri: int, text: Value, pattern: Value) -> Value:
        found = _matches(str(text), str(pattern), ignore_case=ignore_case)
        return None if found is None else int(found)

    return how


_FUNCTIONS: Mapping[tuple[str, int], Callable[..., Value]] = {
    ("prifilt", 1): _selected,
    ("strlen", 1): lambda pri, text: len(str(text)),
    ("tolower", 1): lambda pri, text: str(text).lower(),
    ("cstr", 1): lambda pri, value: str(value),
    ("cnum", 1): lambda pri, value: value if isinstance(value, int) else _number(str(value))[0],
    ("field", 3): _field,
    ("substring", 3): _substring,
    ("re_match", 2): _matched(False),
    ("re_match_i", 2): _matched(True),
    ("replace", 3): lambda pri, text, old, new: (
        str(text).replace(str(old), str(new)) if old != "" else None
    ),
    ("wrap", 2): lambda pri, text, around: f"{around}{text}{around}",
    ("ltrim", 1): lambda pri, text: str(text).lstrip(" "),
    ("rtrim", 1): lambda pri, text: str(text).rstrip(" "),
}
