"""Parses JSON with the line of every member; what does not matter is passed over."""

from __future__ import annotations

import json
import re
from collections.abc import Container, Iterator
from typing import Any

from ivrel.core.shapes.documents.base import (
    DEEPEST,
    local_name,
)
from ivrel.core.shapes.documents.options import TreeOptions
from ivrel.core.text.words import Words
from ivrel.core.vocabulary.errors import Unreadable


class Object(dict[str, Any]):
    """A JSON object that knows its line, and the line of each member."""

    line: int = 1
    lines: dict[str, int]
    keys_of: Words = ()  # of an entry of a list: the names of its keys


def local_of(options: TreeOptions, name: str) -> str:
    """Return the name of a member as statements have it."""
    module, _, local = name.rpartition(":")
    return local_name(options, module, local, options.modules.values())


_TOKEN = re.compile(
    r'\s*(?:("(?:[^"\\]|\\.)*")|([{}\[\],:])|(-?[0-9][0-9.eE+-]{0,40}|true|false|null))'
)


_DECODER = json.JSONDecoder(strict=False)


def parse_json(data: bytes, options: TreeOptions, wanted: Container[str] | None) -> Any:
    """Return the value of a JSON text; Unreadable, with the line, if it is none.

    `wanted`: the names at the top that matter; what is under others is passed over.
    """
    return _Parser(data.decode("utf-8", "replace"), options, wanted).parsed()


class _Parser:
    """Parses one text, token by token."""

    def __init__(self, text: str, options: TreeOptions, wanted: Container[str] | None) -> None:
        self._tokens = _Tokens(text)
        self._options = options
        self._wanted = wanted
        self._top = 1  # how deep the names at the top stand: deeper inside of a wrapper
        # What is open: objects with the name that awaits a value, and lists.
        self._stack: list[tuple[Any, str | None]] = []
        self._done: Any = None
        self._name: str | None = None
        self._state = "value"

    def parsed(self) -> Any:
        """Return the value of the text."""
        for token, line in self._tokens:
            if self._state == "end":
                raise Unreadable(f"not JSON: line {line}: something behind the end")
            if token in ("{", "["):
                self._open(token, line)
            elif token in ("}", "]"):
                self._close(token, line)
            elif token in (",", ":"):
                self._divide(token, line)
            else:
                self._say(token, line)
        if self._state != "end":
            raise Unreadable("not JSON: the text ends too early")
        return self._done

    def _unexpected(self, what: str, line: int) -> Unreadable:
        return Unreadable(f"not JSON: line {line}: {what} is not expected here")

    def _open(self, token: str, line: int) -> None:
        if self._state not in ("value", "first"):
            raise self._unexpected(f"'{token}'", line)
        if len(self._stack) >= DEEPEST:
            raise Unreadable(f"line {line}: nested deeper than {DEEPEST} levels")
        new: Any = Object() if token == "{" else []
        if isinstance(new, Object):
            new.line = line
            new.lines = {}
        self._attach(new, line)
        self._stack.append((new, self._name))
        self._name = None
        self._state = "name" if token == "{" else "first"

    def _close(self, token: str, line: int) -> None:
        fits = self._stack and isinstance(self._stack[-1][0], Object) == (token == "}")
        if not fits or self._state in ("value", "colon"):
            raise self._unexpected(f"'{token}'", line)
        self._done = self._stack.pop()[0]
        self._state = "comma" if self._stack else "end"

    def _divide(self, token: str, line: int) -> None:
        if self._state != ("comma" if token == "," else "colon"):
            raise self._unexpected(f"'{token}'", line)
        if token == ",":
            self._state = "name" if isinstance(self._stack[-1][0], Object) else "value"
            return
        self._state = "value"
        name = self._name
        if self._wanted is None or name is None or len(self._stack) != self._top:
            return
        if local_of(self._options, name) in self._wanted:
            return
        if name.rpartition(":")[2] in self._options.wrapper:
            self._top += 1
        else:
            self._tokens.skip_value()
            self._state = "comma"

    def _say(self, token: str, line: int) -> None:
        if self._state == "name" and token[0] == '"':
            self._name = _scalar(token, line)
            self._state = "colon"
        elif self._state in ("value", "first") and self._stack:
            self._attach(_scalar(token, line), line)
            self._state = "comma"
        else:
            raise self._unexpected("a value or name", line)

    def _attach(self, value: Any, line: int) -> None:
        if not self._stack:
            return
        holder = self._stack[-1][0]
        if isinstance(holder, Object):
            holder[self._name or ""] = value
            holder.lines[self._name or ""] = line
        else:
            holder.append(value)


def _scalar(token: str, line: int) -> Any:
    # Nearly all values are strings without an escape.
    if token[0] == '"' and "\\" not in token:
        return token[1:-1]
    try:
        value = _DECODER.decode(token)
        if isinstance(value, str):
            value.encode()  # half of a surrogate pair is no text
        return value
    except ValueError:
        raise Unreadable(f"not JSON: line {line}: a value that is none") from None


class _Tokens:
    """The tokens of a JSON text with their lines."""

    def __init__(self, text: str) -> None:
        self.text = text
        self.at = 0
        self.line = 1

    def __iter__(self) -> Iterator[tuple[str, int]]:
        text = self.text
        while self.at < len(text):
            match = _TOKEN.match(text, self.at)
            if match is None:
                if not text[self.at :].strip():
                    return
                rest = text[self.at :].lstrip()
                self.line += text.count("\n", self.at, len(text) - len(rest))
                raise Unreadable(f"not JSON: line {self.line}: what stands there is not expected")
            token, (start, end) = match[match.lastindex or 0], match.span(match.lastindex or 0)
            if start > self.at:
                self.line += text.count("\n", self.at, start)
            line = self.line
            if token[0] == '"':
                self.line += token.count("\n")
            self.at = end
            yield token, line

    def skip_value(self) -> None:
        """Pass over a value that nobody asks for."""
        start = (
            self.at
            + len(self.text[self.at : self.at + 4096])
            - len(self.text[self.at : self.at + 4096].lstrip())
        )
        try:
            _, end = _DECODER.raw_decode(self.text, start)
        except RecursionError:
            said = f"a value behind line {self.line} cannot be read: it is nested too deep"
            raise Unreadable(said) from None
        except ValueError:
            raise Unreadable(f"not JSON: a value behind line {self.line} cannot be read") from None
        self.line += self.text.count("\n", self.at, end)
        self.at = end
