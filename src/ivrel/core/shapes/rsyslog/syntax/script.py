"""Reads a configuration, file by file as they include each other, into statements.

    *.info;mail.none  @198.51.100.21:514
    if $syslogseverity <= 4 then { action(type="omfwd" target="198.51.100.21") stop }

Documentation: "RainerScript", control structures and objects (rainerscript/control_structures,
rainerscript/configuration_objects, rainerscript/include); "Filter Conditions" and "Actions"
(configuration/filters, configuration/actions).
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping

from ivrel.core.shapes.rsyslog.syntax.expressions import (
    DEEPEST,
    SyntaxProblem,
    echoed,
    must,
    read_expression,
    unescaped,
)
from ivrel.core.shapes.rsyslog.syntax.scanner import Opened, Scanner, SyntaxMistake, Token
from ivrel.core.shapes.rsyslog.syntax.source import Source
from ivrel.core.shapes.rsyslog.syntax.statements import Param, Script, Statement

# Gives the files that an include means, in their order.
Include = Callable[[Mapping[str, Param], Token, tuple[str, ...]], Opened]


def read_script(source: Source, include: Include, scanner: type[Scanner] = Scanner) -> Script:
    """Return the statements of a file and of all that it includes."""
    reader = _Parser(source, include, scanner)
    out: list[Statement] = []
    end = None
    try:
        reader.statements(out)
    except SyntaxProblem as problem:
        # The scanner follows the token that does not fit.
        token = reader.seen
        end = SyntaxMistake(str(problem), token.line if token else source.first)
    if reader.scanner.given_up and end is None:
        end = SyntaxMistake(
            "too much of it is no statement", reader.seen.line if reader.seen else source.first
        )
    return Script(tuple(out), tuple(reader.scanner.mistakes), end)


# An escape that texts of expressions have, and those of objects have not.
_HEXADECIMAL = re.compile(r"(?<!\\)(?:\\\\)*\\x")


class _Parser:
    """Parses statements; directives go aside, for they may be between any two tokens."""

    def __init__(self, source: Source, include: Include, scanner: type[Scanner]) -> None:
        self.include = include
        self.scanner = scanner(source, self.included)
        self.held: Token | None = None
        self.seen: Token | None = None
        self.aside: list[Statement] = []
        self.stopped = source, 0

    def included(self, pattern: str, token: Token) -> Opened:
        """Return the files that a directive includes, and note the directive."""
        at = token.source.original(token.start)
        end = at + len(token.text)
        self.aside.append(Statement("include", token.source, token.line, at, end, text=pattern))
        mode = "optional" if any(c in pattern for c in "*?[") else "required"
        params = {"file": Param(pattern.strip(), token.line), "mode": Param(mode, token.line)}
        return self.include(params, token, self.scanner.within)

    def peek(self) -> Token:
        """Return the next token; directives before it go aside."""
        while self.held is None:
            token = self.scanner.next()
            if token.kind == "directive":
                name, *rest = re.split("[ \t]", token.text[1:], maxsplit=1)
                at = token.source, token.line, *self.span(token)
                said = rest[0].strip() if rest else ""
                self.aside.append(Statement("directive", *at, name.lower(), said))
            else:
                self.held = self.seen = token
        return self.held

    def take(self) -> Token:
        token = self.peek()
        if token.kind == "joint":
            raise SyntaxProblem(why="a line that goes on behind a backslash must not end there")
        self.held = None
        return token

    def span(self, token: Token) -> tuple[int, int]:
        last = max(token.start, token.stop - 1)
        return token.source.original(token.start), token.source.original(last) + 1

    def drained(self) -> Iterator[Statement]:
        yield from self.aside
        self.aside = []

    def statements(self, out: list[Statement]) -> None:
        """Add all statements, as far as they can be read."""
        while True:
            token = self.peek()
            out += self.drained()
            if token.kind == "":
                return
            out.append(self.statement(0))
            out += self.drained()

    def made(self, kind: str, begun: Token, **fields: object) -> Statement:
        end = self.scanner.last if self.held is None else None
        if end is not None:
            self.ended(end)
        source, stop = self.stopped
        if source is not begun.source:
            stop = self.span(begun)[1]  # it ends in another file
        return Statement(kind, begun.source, begun.line, self.span(begun)[0], stop, **fields)  # type: ignore[arg-type]

    def ended(self, token: Token) -> None:
        """Note where the last statement ends."""
        self.stopped = token.source, self.span(token)[1]

    def statement(self, depth: int, inner: bool = False) -> Statement:
        if depth > DEEPEST:
            raise SyntaxProblem(why=f"it is nested deeper than {DEEPEST}")
        token = self.peek()
        word = token.text.lower()
        if token.kind in ("selector", "property"):
            return self.rule(depth)
        if token.kind == "object":
            return self.object(depth, inner)
        if token.kind == "word" and word == "if":
            return self.condition(depth)
        if token.kind == "word" and word == "foreach":
            return self.foreach(depth)
        if token.kind == "word" and word in ("set", "reset", "unset"):
            return self.assigned()
        if token.kind == "word" and word == "reload_lookup_table":
            return self.procedure()
        return self.actions(depth)

    def rule(self, depth: int) -> Statement:
        token = self.take()
        self.ended(token)
        body = self.block(depth)
        head = self.span(token)[1]
        return self.made("rule", token, name=token.kind, text=token.text, body=body, head=head)

    def condition(self, depth: int) -> Statement:
        begun = self.take()
        test = read_expression(self)
        then = must(self, "then")
        head = self.span(then)[1]
        self.ended(then)
        body = self.block(depth)
        other: tuple[Statement, ...] = ()
        token = self.peek()
        if token.kind == "word" and token.text.lower() == "else":
            self.take()
            other = self.block(depth)
        return self.made("rule", begun, name="if", test=test, body=body, other=other, head=head)

    def block(self, depth: int) -> tuple[Statement, ...]:
        token = self.peek()
        out = [*self.drained()]
        if token.kind != "word" or token.text != "{":
            out.append(self.statement(depth + 1, True))
            return tuple(out)
        self.take()
        real = 0
        while True:
            token = self.peek()
            out += self.drained()
            # A block without a statement is none: its brace ends nothing.
            if token.kind == "word" and token.text == "}" and real:
                self.take()
                self.ended(token)
                return tuple(out)
            out.append(self.statement(depth + 1, True))
            real += 1

    def actions(self, depth: int) -> Statement:
        """Return one action, or several behind `&`."""
        begun = self.peek()
        found = [self.action()]
        while True:
            token = self.peek()
            found += self.drained()
            if token.kind != "word" or token.text != "&":
                break
            self.take()
            found.append(self.action())
        # Directives behind the last action belong to what follows.
        while found[-1].kind in ("directive", "include"):
            self.aside.insert(0, found.pop())
        if len(found) == 1:
            return found[0]
        return Statement(
            "list", begun.source, begun.line, found[0].start, found[-1].stop, body=tuple(found)
        )

    def action(self) -> Statement:
        token = self.take()
        word = token.text.lower()
        if token.kind == "action":
            self.ended(token)
            # The old way to say `stop`.
            if word[:1] == "~":
                return self.made("stop", token, text=token.text)
            return self.made("legacy", token, text=token.text)
        if token.kind == "word" and word in ("stop", "continue"):
            return self.made(word, token)
        if token.kind == "word" and word == "call":
            name = self.take()
            if name.kind != "name":
                raise SyntaxProblem(name.text)
            return self.made("call", token, name=name.text)
        if token.kind == "word" and word == "call_indirect":
            test = read_expression(self)
            must(self, ";")
            return self.made("call-indirect", token, test=test)
        if token.kind == "object" and word.rstrip("( \n\t") == "action":
            return self.made("action", token, params=self.params())
        raise SyntaxProblem(token.text)

    def foreach(self, depth: int) -> Statement:
        begun = self.take()
        must(self, "(")
        if self.take().kind != "variable":
            raise SyntaxProblem(begun.text)
        must(self, "in")
        read_expression(self)
        must(self, ")")
        head = self.span(must(self, "do"))[1]
        body = self.block(depth)
        return self.made("foreach", begun, body=body, head=head)

    def assigned(self) -> Statement:
        begun = self.take()
        variable = self.take()
        if variable.kind != "variable":
            raise SyntaxProblem(variable.text)
        name = variable.text.lower()
        if begun.text.lower() == "unset":
            must(self, ";")
            return self.made("unset", begun, name=name)
        must(self, "=")
        test = read_expression(self)
        must(self, ";")
        return self.made("set", begun, name=name, test=test)

    def procedure(self) -> Statement:
        begun = self.take()
        must(self, "(")
        table = None
        while True:
            given = read_expression(self)
            table = table or given
            token = self.take()
            if token.text == ")" and token.kind == "mark":
                break
            if token.text != ",":
                raise SyntaxProblem(token.text)
        self.scanner.outside()
        return self.made("reload", begun, test=table)

    def object(self, depth: int, inner: bool) -> Statement:
        begun = self.peek()
        name = begun.text.lower().rstrip("( \n\t")
        # Several actions may follow each other behind `&`, in either form.
        if name == "action":
            return self.actions(depth)
        # Within a block there are actions and includes, but no other objects.
        if (inner and name != "include") or name in ("property", "constant"):
            raise SyntaxProblem(begun.text)
        self.take()
        params = self.params()
        if name == "include":
            made = self.made("include", begun, params=params)
            # The statements of the files are in the place of the include.
            if params.get("config.enabled", Param("on", 0)).value == "on":
                self.scanner.push(self.include(params, begun, self.scanner.within))
            return made
        body: tuple[Statement, ...] = ()
        if name == "ruleset":
            if self.peek().text != "{":
                raise SyntaxProblem(self.peek().text)
            body = self.block(depth)
        elif name == "template" and self.peek().text == "{":
            self.take()
            found = []
            while self.peek().kind == "object":
                part = self.take()
                called = part.text.lower().rstrip("( \n\t")
                if called not in ("property", "constant"):
                    raise SyntaxProblem(part.text)
                found.append(self.made("object", part, name=called, params=self.params()))
            must(self, "}")
            body = tuple(found)
        return self.made("object", begun, name=name, params=params, body=body)

    def listed(self, value: Token) -> tuple[list[str], Token]:
        """Return the strings of a list, and the bracket that ends it."""
        array = []
        while value.text != "]" or value.kind == "string":
            value = self.take()
            if value.kind != "string":
                raise SyntaxProblem(value.text)
            array.append(unescaped(value.text[1:-1]))
            value = self.take()
            if value.kind != "mark" or value.text not in (",", "]"):
                raise SyntaxProblem(value.text)
        return array, value

    def params(self) -> dict[str, Param]:
        """Return names and values up to the closing parenthesis.

        Of a name that is said twice, the last holds.
        """
        out: dict[str, Param] = {}
        while True:
            token = self.take()
            if token.kind == "end":
                self.ended(token)
                return out
            if token.kind != "name":
                raise SyntaxProblem(token.text)
            must(self, "=")
            value = self.take()
            array: list[str] | None = None
            if value.kind == "mark" and value.text == "[":
                array, value = self.listed(value)
                said: str | None = ""
            elif value.kind == "string":
                if _HEXADECIMAL.search(value.text):
                    raise SyntaxProblem(value.text)
                said = unescaped(value.text[1:-1])
            elif value.kind == "ticks":
                said = echoed(value.text)
            else:
                raise SyntaxProblem(value.text)
            many = None if array is None else tuple(array)
            start = self.span(token)[0]
            stop = self.span(value)[1]
            out[token.text.lower()] = Param(said, token.line, start, stop, many)
