"""Writes changes, and applies them to texts as the platform of a dialect would."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from ivrel.core.bundle import is_marked
from ivrel.core.dialects.dialect import Dialect
from ivrel.core.dialects.matching import matcher
from ivrel.core.dialects.records import read_records
from ivrel.core.dialects.shapes import Edit
from ivrel.core.dialects.shapes.base import Refused
from ivrel.core.form import shorten
from ivrel.core.mistakes import InputError, Mistake


def apply_edits(dialect: Dialect, data: bytes, edits: Sequence[Edit]) -> bytes:
    """The text after the edits; Refused if the platform would not take one of them."""
    reader = matcher(dialect)
    waiting: list[Edit] = []
    for edit in edits:
        waiting.append(edit)
        if not edit.removes and _may_fill(dialect, edit):
            data = dialect.grammar.apply(data, waiting, reader.identity, dialect.style)
            waiting = []
            rows = read_records(dialect, data)
            for table, most in dialect.limits.items():
                if len(rows.rows(table)) > most:
                    raise Refused(edit, f"{dialect.name} holds {most} rows of '{table}' at most")
    return dialect.grammar.apply(data, waiting, reader.identity, dialect.style) if waiting else data


def _may_fill(dialect: Dialect, edit: Edit) -> bool:
    """Whether an edit can add a row to a table that holds only so many."""
    limited = (p for p in dialect.patterns if p.table in dialect.limits)
    return any(p.begins(edit.path, edit.words) or p.leads(edit.path, edit.words) for p in limited)


def write_change(dialect: Dialect, data: bytes, edits: Sequence[Edit]) -> str:
    """The text of a change that carries out the edits on a text; '' if there are none."""
    if not edits:
        return ""
    return dialect.grammar.write_change(data, edits, matcher(dialect).identity, dialect.style)


def fine_edits(dialect: Dialect, data: bytes, edits: Sequence[Edit]) -> list[Edit]:
    """The single statements that the edits of a change set or remove."""
    return dialect.grammar.fine(data, edits, matcher(dialect).identity, dialect.style)


def apply_change(dialect: Dialect, data: bytes, change: str, file: str) -> bytes:
    """The text after a change, both as text; InputError with the line that the platform would refuse."""
    if is_marked(change.encode()):
        raise InputError([Mistake(file, "a line begins with the control character FS; expected text", 1, 1)])
    edits = dialect.grammar.read_change(change, file, dialect.style)
    try:
        return apply_edits(dialect, data, edits)
    except Refused as problem:
        raise InputError([Mistake(file, str(problem), problem.edit.line, 1)]) from None


def unknown_lines(dialect: Dialect, change: str, file: str) -> Iterator[tuple[int, str]]:
    """The statements of a change that the dialect does not know, with their lines."""
    reader = matcher(dialect)
    for edit in () if dialect.grammar.DERIVED else dialect.grammar.read_change(change, file, dialect.style):
        body = [((edit.words,), words) for words in edit.body] if edit.body is not None else [(edit.path, edit.words)]
        for path, words in body:
            known = reader.find(path, words) or reader.is_header(path, words)
            if not known and not edit.removes:
                yield edit.line, shorten(dialect.grammar.join(words))
