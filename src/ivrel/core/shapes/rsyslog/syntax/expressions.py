"""Expressions of RainerScript: what an `if` tests and a `set` sets, as trees.

`and` and `or` bind alike, from left to right; `not` binds closest. Documentation: "Expressions"
(rainerscript/expressions), "Functions" (rainerscript/functions/index).
"""

from __future__ import annotations

import re
from typing import Protocol

from msgspec import Struct

from ivrel.core.shapes.rsyslog.syntax.scanner import Token

DEEPEST = 100


class SyntaxProblem(Exception):
    """What is here cannot go on what precedes; the daemon takes nothing from here on.

    `token`: what is here; or `why`, where that says more.
    """

    def __init__(self, token: str = "", why: str = "") -> None:
        said = " ".join(token.split())[:60]
        super().__init__(why or (f"'{said}' does not fit there" if said else "it ends too early"))


class ExpressionNode(Struct, frozen=True):
    """A tree: `op` is number, text, variable, array, call, unknown, not, minus, or an operator."""

    op: str
    value: str | int = ""
    parts: tuple[ExpressionNode, ...] = ()


class Tokens(Protocol):
    """Tokens one by one."""

    def peek(self) -> Token:
        """Return the next token."""

    def take(self) -> Token:
        """Return the next token, which is used up."""


_COMPARE = (
    "==", "!=", "<>", "<=", ">=", "<", ">",
    "contains", "contains_i", "startswith", "startswith_i",
)  # fmt: skip
_CHAINED = ("and", "or", "&")
_LEVELS = (("and", "or"), _COMPARE, ("+", "-", "&"), ("*", "/", "%"))
# The functions of the documentation (rainerscript/functions) that need no module; where one is not
# there, the daemon does not start.
FUNCTIONS = frozenset(
    """
    cnum cstr dyn_inc exec_template exists field format_time get_property getenv int2hex
    ipv42num is_time lookup ltrim num2ipv4 parse_json parse_time percentile_observe
    previous_action_suspended prifilt random re_extract re_extract_i re_match re_match_i replace
    ip42num rtrim script_error strlen substring tolower wrap
    """.split()
)
_ESCAPES = {"n": "\n", "t": "\t", "r": "\r", "b": "\b", "a": "\a", "f": "\f", "v": "\v"}


def unescaped(text: str) -> str:
    """Return a string without its escapes: `\\n`, `\\x41`, `\\101`, and any other character for
    itself.
    """

    def one(match: re.Match[str]) -> str:
        said = match[1]
        if said[0] == "x" and len(said) == 3:
            return chr(int(said[1:], 16))
        if said.isdigit():
            return chr(int(said, 8) & 0xFF)
        return _ESCAPES.get(said, said)

    return re.sub(r"\\(x[0-9a-fA-F]{2}|[0-7]{1,3}|.)", one, text, flags=re.S)


def echoed(text: str) -> str | None:
    """Return the output of a command in backticks; None if it depends on the machine."""
    command, _, said = text.strip("`").strip().partition(" ")
    return said.strip() if command == "echo" and "$" not in said else None


def read_expression(tokens: Tokens, depth: int = 0) -> ExpressionNode:
    """Return the next expression; SyntaxProblem if there is none."""
    return _level(tokens, 0, depth)


def _level(tokens: Tokens, level: int, depth: int) -> ExpressionNode:
    if level == len(_LEVELS):
        return _operand(tokens, depth)
    left = _level(tokens, level + 1, depth)
    while (operator := _operator(tokens.peek())) in _LEVELS[level]:
        tokens.take()
        right = _level(tokens, level + 1, depth)
        # A chain of one operator is one node, however long it is.
        chain = left.parts if operator in _CHAINED and left.op == operator else (left,)
        left = ExpressionNode(operator, "", (*chain, right))
    return left


def _operator(token: Token) -> str:
    """Return the operator that a token is, in small letters; '' if it is none."""
    return token.text.lower() if token.kind in ("word", "mark", "compare") else ""


def _operand(tokens: Tokens, depth: int) -> ExpressionNode:
    if depth > DEEPEST:
        raise SyntaxProblem(why=f"it is nested deeper than {DEEPEST}")
    token = tokens.take()
    word = token.text.lower()
    match token.kind:
        case "number":
            return ExpressionNode("number", number(token.text))
        case "string":
            return ExpressionNode("text", unescaped(token.text[1:-1]))
        case "ticks":
            said = echoed(token.text)
            return ExpressionNode("unknown") if said is None else ExpressionNode("text", said)
        case "variable":
            return ExpressionNode("variable", token.text)
        case "name":
            return _called(tokens, token.text, depth)
    if token.kind == "word" and word == "not":
        return ExpressionNode("not", "", (_operand(tokens, depth + 1),))
    if token.kind == "mark" and word == "-":
        return ExpressionNode("minus", "", (_operand(tokens, depth + 1),))
    if token.kind == "mark" and word == "(":
        inner = read_expression(tokens, depth + 1)
        must(tokens, ")")
        return inner
    if token.kind == "mark" and word == "[":
        return _array(tokens)
    raise SyntaxProblem(token.text)


def number(text: str) -> int:
    """Return a number as C reads it: octal behind a 0, hexadecimal behind 0x.

    No more than 64 bits.
    """
    base = 16 if text[:2].lower() == "0x" else 8 if text[0] == "0" else 10
    return min(int(text[:40], base), 2**63 - 1)


def _called(tokens: Tokens, name: str, depth: int) -> ExpressionNode:
    must(tokens, "(")
    if name not in FUNCTIONS:
        raise SyntaxProblem(why=f"{name}() is no function of its own")
    given: list[ExpressionNode] = []
    if tokens.peek().text == ")" and tokens.peek().kind == "mark":
        tokens.take()
        return ExpressionNode("call", name)
    while True:
        given.append(read_expression(tokens, depth + 1))
        token = tokens.take()
        if token.kind == "mark" and token.text == ")":
            return ExpressionNode("call", name, tuple(given))
        if token.kind != "mark" or token.text != ",":
            raise SyntaxProblem(token.text)


def _array(tokens: Tokens) -> ExpressionNode:
    members: list[ExpressionNode] = []
    while True:
        token = tokens.take()
        if token.kind != "string":
            raise SyntaxProblem(token.text)
        members.append(ExpressionNode("text", unescaped(token.text[1:-1])))
        token = tokens.take()
        if token.kind == "mark" and token.text == "]":
            return ExpressionNode("array", "", tuple(members))
        if token.kind != "mark" or token.text != ",":
            raise SyntaxProblem(token.text)


def must(tokens: Tokens, text: str) -> Token:
    """Return the next token, which must be this one."""
    token = tokens.take()
    if token.text.lower() != text or token.kind == "string":
        raise SyntaxProblem(token.text)
    return token
