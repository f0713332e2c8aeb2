"""What conditions compare and call: codes of severities and facilities, orders, filters, functions.

Documentation: "Functions" (rainerscript/functions/index), "Filter Conditions"
(configuration/filters).
"""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from functools import lru_cache

from ivrel.core.shapes.rsyslog.flow.selectors import facility_code, read_selector, severity_code
from ivrel.core.vocabulary.severity import SEVERITIES

Value = int | str | None  # None is what hangs on more than PRI


def number(value: str) -> tuple[int, bool]:
    """Return the number that a text begins with, and whether it is all of the text."""
    found = re.match(r"-?[0-9]{1,18}", value)
    return (int(found[0]), found[0] == value) if found else (0, not value)


def _severity_code(word: str) -> int | None:
    code = int(word) if word.isascii() and word.isdigit() else severity_code(word)
    return code if code is not None and code < len(SEVERITIES) else None


def _facility_code(word: str) -> int | None:
    if word.isascii() and word.isdigit():
        # Numbers are PRI values there, of which the facility is the upper part (RFC 5424, section
        # 6.2.1).
        return int(word[:9]) >> 3
    return facility_code(word)


CODES: Mapping[str, Callable[[str], int | None]] = {
    "$syslogseverity-text": _severity_code,
    "$syslogfacility-text": _facility_code,
}


def gap(a: int | str, b: int | str) -> int:
    """Return which of two values is greater: as numbers if both can be, else as texts."""
    numbers = [(value, True) if isinstance(value, int) else number(value) for value in (a, b)]
    if all(it_is for _, it_is in numbers):
        return numbers[0][0] - numbers[1][0]
    return (str(a) > str(b)) - (str(a) < str(b))


ORDERS: Mapping[str, Callable[[int], bool]] = {
    "==": lambda more: more == 0,
    "!=": lambda more: more != 0,
    "<>": lambda more: more != 0,
    "<": lambda more: more < 0,
    ">": lambda more: more > 0,
    "<=": lambda more: more <= 0,
    ">=": lambda more: more >= 0,
}


def reckon(op: str, a: int, b: int) -> int | None:
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
    # A repeated group can take a time that grows with every sign; such a pattern is not tried.
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


FILTERS: Mapping[str, Callable[[str, str], bool | None]] = {
    "isequal": lambda a, b: a == b,
    "contains": lambda a, b: b in a,
    "contains_i": lambda a, b: b.lower() in a.lower(),
    "startswith": lambda a, b: a.startswith(b),
    # The daemon compares no more than the shorter of both.
    "startswith_i": lambda a, b: a[: len(b)].lower() == b[: len(a)].lower(),
    "isempty": lambda a, b: not a,
    "regex": lambda a, b: _matches(a, b, basic=True),
    "ereregex": lambda a, b: _matches(a, b),
}


def _field(pri: int, text: Value, by: Value, nth: Value) -> Value:
    mark = chr(by) if isinstance(by, int) and 0 < by < 128 else by
    if not isinstance(mark, str) or not mark or not isinstance(nth, int) or nth < 1:
        return None
    fields = str(text).split(mark)
    return fields[nth - 1] if nth <= len(fields) else "***FIELD NOT FOUND***"


def _substring(pri: int, text: Value, begin: Value, length: Value) -> Value:
    if not isinstance(begin, int) or not isinstance(length, int) or begin < 0 or length < 0:
        return None
    if not str(text).isascii():
        return None  # it counts bytes
    return str(text)[begin : begin + length]


def _selected(pri: int, selector: Value) -> Value:
    try:
        return read_selector(str(selector), called=True).bits >> pri & 1
    except ValueError:
        return None


def _matched(ignore_case: bool) -> Callable[..., Value]:
    def how(pri: int, text: Value, pattern: Value) -> Value:
        found = _matches(str(text), str(pattern), ignore_case=ignore_case)
        return None if found is None else int(found)

    return how


_OCTETS = re.compile(r" *(\d{1,3})\.(\d{1,3})\.(\d{1,3})\.(\d{1,3}) *", re.A)


def _address_number(pri: int, text: Value) -> Value:
    found = _OCTETS.fullmatch(str(text))
    if found is None:
        return -1 if re.fullmatch("[A-Za-z]+", str(text)) else None
    numbers = [int(number) for number in found.groups()]
    if max(numbers) > 255:
        return None  # more than an address holds: what comes of it is no rule
    return int.from_bytes(bytes(numbers), "big")


def _number_address(pri: int, value: Value) -> Value:
    count = value if isinstance(value, int) else number(str(value))[0]
    if count < 0:
        return "-1"
    return ".".join(map(str, count.to_bytes(4, "big"))) if count < 1 << 32 else None


FUNCTIONS: Mapping[tuple[str, int], Callable[..., Value]] = {
    ("prifilt", 1): _selected,
    ("strlen", 1): lambda pri, text: len(str(text).encode()),
    ("tolower", 1): lambda pri, text: str(text).lower(),
    ("cstr", 1): lambda pri, value: str(value),
    ("cnum", 1): lambda pri, value: value if isinstance(value, int) else number(str(value))[0],
    ("ip42num", 1): _address_number,
    ("ipv42num", 1): _address_number,
    ("num2ipv4", 1): _number_address,
    ("int2hex", 1): lambda pri, value: (
        f"{value:x}" if isinstance(value, int) and 0 <= value < 1 << 31 else None
    ),
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
