"""Conditions: the facilities and severities that an `if` or a property filter accepts, surely or
perhaps.

A condition is worked out for each of the 192 PRI values; what depends on anything else is not
known. Properties are texts, also where they look like numbers: `$syslogfacility <= "9"` compares
texts. Documentation: "Expressions" and "Functions" (rainerscript/expressions,
rainerscript/functions/index), "Filter Conditions" (configuration/filters).
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from functools import lru_cache

from ivrel.core.shapes.rsyslog.flow.bounds import UNKNOWN, Bounds
from ivrel.core.shapes.rsyslog.flow.functions import (
    CODES,
    FILTERS,
    FUNCTIONS,
    ORDERS,
    Value,
    gap,
    number,
    reckon,
)
from ivrel.core.shapes.rsyslog.flow.installed import NAMES
from ivrel.core.shapes.rsyslog.flow.selectors import (
    SEVERITY_WORDS,
)
from ivrel.core.shapes.rsyslog.syntax.expressions import ExpressionNode
from ivrel.core.vocabulary.severity import FACILITIES, SEVERITIES, Selection
from ivrel.core.vocabulary.software import Software

PRIS = len(FACILITIES) * len(SEVERITIES)

# RFC 5424 has no names for the codes 12 to 15; these are rsyslog's.
_TEXTS = (*FACILITIES[:13], "audit", "alert", "clock", *FACILITIES[16:])

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


def holds(test: ExpressionNode, variables: Variables, *, by_number: bool) -> Bounds:
    """When a condition holds.

    by_number: whether the daemon surely compares texts that are numbers as numbers.
    """
    # Without variables a condition is the same wherever it is, and is worked out once.
    if not variables:
        return _constant(test, by_number)
    return _worked_out(test, variables, by_number)


@lru_cache(maxsize=4096)
def _constant(test: ExpressionNode, by_number: bool) -> Bounds:
    return _worked_out(test, {}, by_number)


def _worked_out(test: ExpressionNode, variables: Variables, by_number: bool) -> Bounds:
    run = _Run(variables, by_number)
    return _bounds(lambda pri: _truth(run.value(test, pri)), _telling(test, variables))


# Which part of a PRI a condition looks at: most look at none or one, and are worked out for a few
# values that tell all others, in a tenth of the time.
_NEITHER = 0
_SEVERITY = 1
_FACILITY = 2
_LOOKS: Mapping[str, int] = {
    "syslogseverity": _SEVERITY,
    "syslogpriority": _SEVERITY,
    "syslogseverity-text": _SEVERITY,
    "syslogpriority-text": _SEVERITY,
    "syslogfacility": _FACILITY,
    "syslogfacility-text": _FACILITY,
    "pri": _SEVERITY | _FACILITY,
    "pri-text": _SEVERITY | _FACILITY,
}


def _telling(test: ExpressionNode, variables: Variables) -> int:
    """Return the bits of a PRI that a condition looks at."""
    looks = _NEITHER
    for node in _every(test):
        if node.op == "variable":
            name = str(node.value).lower()
            looks |= _SEVERITY | _FACILITY if name in variables else _LOOKS.get(name[1:], 0)
        elif node.op == "call" and node.value == "prifilt":
            looks |= _SEVERITY | _FACILITY
    return (7 if looks & _SEVERITY else 0) | (248 if looks & _FACILITY else 0)


def _alike(telling: int) -> Mapping[int, int]:
    """Return PRI values of which each tells others, and which ones, as bits of a selection."""
    out: dict[int, int] = {}
    for pri in range(PRIS):
        out[pri & telling] = out.get(pri & telling, 0) | 1 << pri
    return out


_ALIKE: Mapping[int, Mapping[int, int]] = {telling: _alike(telling) for telling in (0, 7, 248, 255)}


def _every(test: ExpressionNode) -> Iterator[ExpressionNode]:
    """Yield all nodes of a tree, however deep it is."""
    waiting = [test]
    while waiting:
        node = waiting.pop()
        yield node
        waiting += node.parts


def ends_daemon(test: ExpressionNode, software: Software) -> Iterator[str]:
    """Yield what a test holds that the daemon may not survive: a facility's number beyond all
    facilities, a function that its version does not know.
    """
    for node in _every(test):
        change = NAMES.get(str(node.value)) if node.op == "call" else None
        if change is not None and not change.is_made(software):
            yield f"{node.value}(): {change.said('does not start with it', 'knows it')}"
        if node.op in ("==", "!=", "<>") and node.parts[0].value == "$syslogfacility-text":
            word = str(node.parts[1].value)
            is_number = node.parts[1].op == "text" and word.isascii() and word.isdigit()
            if is_number and int(word[:9]) >= PRIS:
                yield "no such facility, which ends rsyslogd"


def values(test: ExpressionNode, variables: Variables, *, by_number: bool) -> tuple[Value, ...]:
    """Return the value of an expression for each PRI; `by_number` as for `holds`."""
    run = _Run(variables, by_number)
    telling = _telling(test, variables)
    known = {pri: run.value(test, pri) for pri in _ALIKE[telling]}
    return tuple(known[pri & telling] for pri in range(PRIS))


_PROPERTY = re.compile(r':(\$?[A-Za-z-]+) *, *(!?)([A-Za-z]+) *, *"((?:\\"|[^"])*)"', re.S)


@lru_cache(maxsize=4096)
def read_property(text: str) -> Bounds:
    """When a property filter `:name, compare, "value"` holds."""
    found = _PROPERTY.match(text)
    if not found:
        return UNKNOWN
    name = found[1].lower()
    negated = found[2]
    compare = found[3].lower()
    wanted = found[4]
    said = PROPERTIES.get(name)
    how = FILTERS.get(compare)
    if said is None or how is None or "\\" in wanted:
        return UNKNOWN

    def holds(pri: int) -> bool | None:
        fits = how(str(said(pri)), wanted)
        return None if fits is None else fits != bool(negated)

    return _bounds(holds)


def _bounds(truth: Callable[[int], bool | None], telling: int = 255) -> Bounds:
    """Return for which PRI values something holds; `telling`: the bits that it looks at."""
    sure = most = 0
    for pri, bits in _ALIKE[telling].items():
        it = truth(pri)
        sure |= bits if it is True else 0
        most |= bits if it is not False else 0
    return Bounds(Selection(sure), Selection(most))


def _truth(value: Value) -> bool | None:
    if isinstance(value, str):
        value = number(value)[0]
    return None if value is None else value != 0


_TRUTHS = frozenset({*ORDERS, "and", "or", "not"})
_CHAINS = frozenset({"and", "or", "+", "-", "*", "/", "%", "&"})


def _count(value: Value) -> int | None:
    return number(value)[0] if isinstance(value, str) else value


def _combined(op: str, sides: Sequence[Value]) -> Value:
    """Return what an operator makes of its sides."""
    if op in ("and", "or"):
        # One side that decides is enough, even if the other is not known.
        truths = [_truth(side) for side in sides]
        decides = op == "or"
        if decides in truths:
            return int(decides)
        return None if None in truths else int(not decides)
    if op == "&":
        return None if None in sides else "".join(str(side) for side in sides)
    a = _count(sides[0])
    b = _count(sides[1])
    return None if a is None or b is None else reckon(op, a, b)


_GREATER = ("<", ">", "<=", ">=")


def _is_variable(node: ExpressionNode) -> bool:
    """Whether a node is a variable that a rule sets."""
    return node.op == "variable" and str(node.value)[1:2] in "!./"


def _may_be_number(right: ExpressionNode, value: int | str) -> bool:
    """Whether what stands to the right may be a variable that was set to a number: to the daemon
    nothing is equal to it, not even the same number.
    """
    return _is_variable(right) and value != "" and number(str(value))[1]


def _is_ever(holds: bool, op: str, a: int | str, right: ExpressionNode, b: int | str) -> bool:
    """Whether a comparison has the same outcome where texts are compared sign by sign.

    What earlier versions make of a variable to the right nobody can tell: 3 < $.x holds there
    whatever the variable is.
    """
    if op not in _GREATER:
        return True
    if _is_variable(right):
        return False
    if isinstance(b, int):
        return True
    if isinstance(a, int):
        return number(b)[1]
    return ORDERS[op]((a > b) - (a < b)) == holds


class _Run:
    """Works out trees for one PRI at a time."""

    def __init__(self, variables: Variables, by_number: bool) -> None:
        self.variables = variables
        self.by_number = by_number

    def value(self, node: ExpressionNode, pri: int) -> Value:
        op = node.op
        parts = node.parts
        if op in _CHAINS:
            return self.chained(node, pri)
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
            case "call":
                return self.called(str(node.value), parts, pri)
            case "array" | "unknown":
                return None
        return self.compared(op, parts, pri)

    def chained(self, node: ExpressionNode, pri: int) -> Value:
        """Return the value of operators that follow each other, from left to right."""
        chain = []
        while node.op in _CHAINS:
            chain.append(node)
            node = node.parts[0]
        value = self.value(node, pri)
        for one in reversed(chain):
            if one.op == "&" and any(part.op in _TRUTHS for part in one.parts):
                value = None  # a text of a truth is not what one would expect
                continue
            value = _combined(one.op, [value, *(self.value(p, pri) for p in one.parts[1:])])
        return value

    def count(self, node: ExpressionNode, pri: int) -> int | None:
        return _count(self.value(node, pri))

    def variable(self, name: str, pri: int) -> Value:
        name = name.lower()
        # Variables of the message, local and global ones.
        if name[1:2] in "!./":
            found = self.variables.get(name)
            if found is not None:
                return found[pri]
            return None if name[1:2] in "!/" or "[" in name or "!" in name[1:] else ""
        said = PROPERTIES.get(name[1:])
        return None if said is None else said(pri)

    def compared(self, op: str, parts: tuple[ExpressionNode, ...], pri: int) -> Value:
        left, right = parts
        code = CODES.get(str(left.value)) if left.op == "variable" else None
        if code is not None and op in ("==", "!=", "<>") and right.op == "text":
            # The daemon takes the name, or the number, of a facility or severity for what it means.
            wanted = code(str(right.value))
            here = pri >> 3 if left.value == "$syslogfacility-text" else pri & 7
            if wanted is not None:
                return int((here == wanted) == (op == "=="))
        # A list of one entry is taken for that entry.
        a = self.value(left.parts[0] if left.op == "array" and len(left.parts) == 1 else left, pri)
        if a is None:
            return None
        if right.op == "array":
            if op in ("==", "!=", "<>"):
                some = any(str(a) == part.value for part in right.parts)
                return int(some == (op == "=="))
            how = FILTERS.get(op)
            fits = [how(str(a), str(part.value)) for part in right.parts] if how else [None]
            return None if None in fits else int(any(fits))
        b = self.value(right, pri)
        if b is None:
            return None
        if op not in _GREATER and _may_be_number(right, b):
            return None
        if op in ("==", "!=", "<>") and isinstance(a, str) and isinstance(b, str):
            return int((a == b) == (op == "=="))
        if op in ORDERS:
            holds = ORDERS[op](gap(a, b))
            sure = self.by_number or _is_ever(holds, op, a, right, b)
            return int(holds) if sure else None
        how = FILTERS.get(op)
        fit = how(str(a), str(b)) if how else None
        return None if fit is None else int(fit)

    def called(self, name: str, parts: tuple[ExpressionNode, ...], pri: int) -> Value:
        how = FUNCTIONS.get((name, len(parts)))
        if how is None:
            return None
        given = [self.value(part, pri) for part in parts]
        return None if None in given else how(pri, *given)
