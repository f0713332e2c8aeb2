"""Writes changes, and applies them to texts as the platform of a dialect would."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence

from msgspec.structs import replace

from ivrel.core.correcting.difference import is_export
from ivrel.core.dialects.dialect import Dialect
from ivrel.core.reading.matcher import matcher
from ivrel.core.reading.records import read_records
from ivrel.core.reading.statements import Understood
from ivrel.core.shapes.shape import Edit
from ivrel.core.text.bundle import is_marked
from ivrel.core.text.text import Text
from ivrel.core.vocabulary.errors import InputError, Mistake, Refused, Unreadable
from ivrel.core.vocabulary.wording import shorten, steers


def apply_edits(
    dialect: Dialect, text: Text, edits: Sequence[Edit], known: Callable[[bytes], Text] = Text
) -> Text:
    """Return the text after the edits; Refused if the platform would not take one of them.

    `known` gives the text of some content, which may have been read before.
    """
    identity = matcher(dialect).identity
    # Counting rows means reading the text, which is worth it only where a table may run over.
    if not _may_be_full(dialect, text, edits):
        return known(dialect.shape.apply(text, edits, identity)) if edits else text
    waiting: list[Edit] = []
    for edit in edits:
        waiting.append(edit)
        # A platform that is full refuses the line itself, whatever would make room later.
        if not edit.removes and _may_fill(dialect, edit):
            text = known(dialect.shape.apply(text, waiting, identity))
            waiting = []
            rows = read_records(dialect, text)
            for table, most in dialect.limits.items():
                if len(rows.rows(table)) > most:
                    said = f"{dialect.name} holds {most} rows of '{table}' at most"
                    raise Refused(said, edit.line)
    return known(dialect.shape.apply(text, waiting, identity)) if waiting else text


def _may_be_full(dialect: Dialect, text: Text, edits: Sequence[Edit]) -> bool:
    """Whether a table that holds only so many rows may have more of them after some edit."""
    filling = sum(1 for e in edits if not e.removes and _may_fill(dialect, e))
    if not filling:
        return False
    try:
        records = read_records(dialect, text)
    except Unreadable:
        return True  # the text may be one of the platform's only after an edit
    if any(edit.body is not None for edit in edits):
        return True
    return any(len(records.rows(t)) + filling > most for t, most in dialect.limits.items())


def _may_fill(dialect: Dialect, edit: Edit) -> bool:
    """Whether an edit can add a row to a table that holds only so many."""
    if not dialect.limits:
        return False
    of_tables = dialect.once(
        "filling", lambda: [p for p in dialect.patterns if p.table in dialect.limits]
    )
    return any(p.begins(edit.path, edit.words) or p.leads(edit.path, edit.words) for p in of_tables)


def write_change(dialect: Dialect, text: Text, edits: Sequence[Edit]) -> str:
    """Return the text of a change that carries out the edits; '' if there are none.

    Refused where the platform would not take one of them.
    """
    if not edits:
        return ""
    shape = dialect.shape
    # Documents are no lines that anybody types, and files are not typed either.
    for edit in () if shape.ATOMIC or shape.DERIVED else edits:
        if any(
            steers(word) for words in (*edit.path, edit.words, *(edit.body or ())) for word in words
        ):
            said = shorten(shape.join(edit.words))
            raise Refused(f"'{said}' contains a control character, which a terminal would obey")
    change = dialect.shape.write_change(text, edits, matcher(dialect).identity)
    joined = next((line for line in change.splitlines() if line.endswith("\\")), "")
    if joined and not (shape.ATOMIC or shape.DERIVED):
        said = f"'{shorten(joined)}' ends in a character that may join it with the next line"
        raise Refused(said)
    return change


def fine_edits(dialect: Dialect, text: Text, edits: Sequence[Edit]) -> list[Edit]:
    """Return the single statements that the edits of a change set or remove."""
    return dialect.shape.fine(text, edits, matcher(dialect).identity)


def read_change(dialect: Dialect, change: str, file: str) -> list[Edit]:
    """Return the edits of a change's text; InputError if it is none.

    `file`: what the change is called.
    """
    return [as_negation(dialect, edit) for edit in dialect.shape.read_change(change, file)]


def as_negation(dialect: Dialect, edit: Edit) -> Edit:
    """Return an edit as the platform takes it: where a negated statement means a value of its own,
    to remove the statement is to set that.
    """
    if not edit.removes or not dialect.stays:
        return edit
    reader = matcher(dialect)
    negation = dialect.shape.negation_of(edit.words)
    found = reader.find(edit.path, negation) or reader.negation(edit.path, negation)
    return replace(edit, words=negation, removes=False) if isinstance(found, Understood) else edit


def apply_change(dialect: Dialect, data: bytes, change: str, file: str) -> bytes:
    """Return the text after a change, both as text.

    InputError tells the line that the platform would refuse; `file`: what the change is called.
    """
    if is_marked(change.encode()):
        said = "a line begins with the control character FS; expected text"
        raise InputError([Mistake(file, said, 1, 1)])
    edits = read_change(dialect, change, file)
    try:
        return apply_edits(dialect, Text(data), edits).data
    except Refused as problem:
        raise InputError([Mistake(file, str(problem), problem.line, 1)]) from None


def unknown_lines(dialect: Dialect, change: str, file: str) -> Iterator[tuple[int, str]]:
    """Yield the statements of a change that the dialect does not know, with their lines."""
    if dialect.shape.DERIVED:
        return
    reader = matcher(dialect)
    for edit in read_change(dialect, change, file):
        for path, words in dialect.shape.said_by(edit):
            known = reader.find(path, words) or reader.negation(path, words)
            if not known and not edit.removes and not reader.is_header(path, words):
                yield edit.line, shorten(dialect.shape.join(words))


def named(dialect: Dialect, edit: Edit) -> str:
    """Return the name of an edit for messages: its words, if they surely concern export, else its
    line alone.
    """
    if edit.line and not edit.removes and not is_about_export(dialect, edit):
        return f"line {edit.line}"
    return f"'{dialect.shape.join(edit.words)}'"


def is_about_export(dialect: Dialect, edit: Edit) -> bool:
    """Whether all that an edit sets is about export settings."""
    reader = matcher(dialect)
    for path, words in dialect.shape.said_by(edit):
        match = reader.find(path, words)
        if match is None:
            if not reader.is_header(path, words):
                return False
        elif not is_export(dialect, match):
            return False
    return True
